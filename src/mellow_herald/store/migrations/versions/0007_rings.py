"""Rollouts in several rings: drawn devices, rounds, edits of a plan, parts of attempts, webhooks"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import ARRAY, JSONB

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None

TIME = sa.DateTime(timezone=True)


def upgrade() -> None:
    op.add_column("rollout", sa.Column("target", sa.Text(), nullable=True))
    op.execute("UPDATE rollout SET target = plan ->> 'target'")
    op.alter_column("rollout", "target", nullable=False)
    op.add_column("rollout", sa.Column("revision", sa.Integer(), nullable=False, server_default="1"))
    op.alter_column("rollout", "revision", server_default=None)
    op.add_column("rollout", sa.Column("overtakes", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.alter_column("rollout", "overtakes", server_default=None)
    op.add_column("rollout", sa.Column("round_at", TIME, nullable=True))
    op.execute("UPDATE rollout SET round_at = started_at")
    op.add_column("ring", sa.Column("planned", sa.BigInteger(), nullable=False, server_default="0"))
    op.execute(
        "UPDATE ring SET planned = (SELECT count(*) FROM attempt"
        " WHERE attempt.rollout_id = ring.rollout_id AND attempt.ring = ring.position)"
    )
    op.alter_column("ring", "planned", server_default=None)
    op.add_column("ring", sa.Column("go_at", TIME, nullable=True))
    op.add_column("attempt", sa.Column("parts", JSONB(), nullable=False, server_default="{}"))
    op.alter_column("attempt", "parts", server_default=None)
    op.add_column("attempt_event", sa.Column("component", sa.Text(), nullable=True))
    op.create_table(
        "ring_slice",
        sa.Column("rollout_id", sa.BigInteger(), nullable=False),
        sa.Column("position", sa.SmallInteger(), autoincrement=False, nullable=False),
        sa.Column("number", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("devices", ARRAY(sa.BigInteger()), nullable=False),
        sa.Column("given", sa.Boolean(), nullable=False),
        sa.ForeignKeyConstraint(["rollout_id"], ["rollout.id"], name="fk_ring_slice_rollout_id"),
        sa.PrimaryKeyConstraint("rollout_id", "position", "number", name="pk_ring_slice"),
    )
    op.create_table(
        "webhook",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("url", sa.Text(), nullable=False),
        sa.Column("secret", sa.Text(), nullable=False),
        sa.Column("kinds", JSONB(), nullable=False),
        sa.Column("note", sa.Text(), nullable=False),
        sa.Column("made_by", sa.Text(), nullable=False),
        sa.Column("made_at", TIME, nullable=False),
        sa.Column("closed_at", TIME, nullable=True),
        sa.Column("cursor", sa.BigInteger(), nullable=False),
        sa.Column("delivered", sa.BigInteger(), nullable=False),
        sa.Column("delivered_at", TIME, nullable=True),
        sa.PrimaryKeyConstraint("id", name="pk_webhook"),
    )
    op.create_table(
        "delivery",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("webhook_id", sa.BigInteger(), nullable=False),
        sa.Column("event", sa.BigInteger(), nullable=False),
        sa.Column("body", JSONB(), nullable=False),
        sa.Column("dead", sa.Boolean(), nullable=False),
        sa.Column("tries", sa.Integer(), nullable=False),
        sa.Column("made_at", TIME, nullable=False),
        sa.Column("next_at", TIME, nullable=False),
        sa.Column("failure", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["webhook_id"], ["webhook.id"], name="fk_delivery_webhook_id"),
        sa.PrimaryKeyConstraint("id", name="pk_delivery"),
        sa.UniqueConstraint("webhook_id", "event", name="uq_delivery_webhook_id_event"),
    )
    op.create_index("ix_delivery_due", "delivery", ["next_at"], postgresql_where=sa.text("NOT dead"))


def downgrade() -> None:
    for table in ("delivery", "webhook", "ring_slice"):
        op.drop_table(table)
    op.drop_column("attempt_event", "component")
    op.drop_column("attempt", "parts")
    op.drop_column("ring", "go_at")
    op.drop_column("ring", "planned")
    for column in ("round_at", "overtakes", "revision", "target"):
        op.drop_column("rollout", column)
