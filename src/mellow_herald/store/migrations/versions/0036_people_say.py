"""Approvals, outside evidence, and tokens that may do nothing but file it"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0036"
down_revision = "0035"
branch_labels = None
depends_on = None

TIME = sa.DateTime(timezone=True)
BAD = "harmed_at IS NOT NULL OR undelivered_at IS NOT NULL"


def upgrade() -> None:
    op.create_table(
        "approval",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("rollout_id", sa.BigInteger(), nullable=False),
        sa.Column("position", sa.SmallInteger(), nullable=False),
        sa.Column("round", sa.Integer(), nullable=False),
        sa.Column("at", TIME, nullable=False),
        sa.Column("by", sa.Text(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.Column("shown", postgresql.JSONB(), nullable=False),
        sa.Column("void_why", sa.Text(), nullable=True),
        sa.ForeignKeyConstraint(["rollout_id"], ["rollout.id"], name="fk_approval_rollout_id"),
        sa.PrimaryKeyConstraint("id", name="pk_approval"),
    )
    op.create_index("ix_approval_rollout_id", "approval", ["rollout_id"])
    op.create_table(
        "evidence",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("rollout_id", sa.BigInteger(), nullable=False),
        sa.Column("device_id", sa.BigInteger(), nullable=True),
        sa.Column("exposed", sa.Boolean(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("at", TIME, nullable=False),
        sa.Column("filed_by", sa.Text(), nullable=False),
        sa.Column("source", sa.Text(), nullable=True),
        sa.Column("source_id", sa.Text(), nullable=True),
        sa.Column("acknowledged_at", TIME, nullable=True),
        sa.Column("acknowledged_by", sa.Text(), nullable=True),
        sa.Column("acknowledged_why", sa.Text(), nullable=True),
        sa.Column("unrelated", sa.Boolean(), nullable=False),
        sa.Column("withdrawn_at", TIME, nullable=True),
        sa.Column("withdrawn_by", sa.Text(), nullable=True),
        sa.Column("withdrawn_why", sa.Text(), nullable=True),
        sa.ForeignKeyConstraint(["rollout_id"], ["rollout.id"], name="fk_evidence_rollout_id"),
        sa.ForeignKeyConstraint(["device_id"], ["device.id"], name="fk_evidence_device_id"),
        sa.PrimaryKeyConstraint("id", name="pk_evidence"),
        sa.UniqueConstraint("source", "source_id", name="uq_evidence_source_source_id"),
    )
    op.create_index("ix_evidence_rollout_id", "evidence", ["rollout_id"])
    op.add_column("attempt", sa.Column("evidence_at", TIME, nullable=True))
    op.drop_index("ix_attempt_bad", "attempt")
    op.create_index(
        "ix_attempt_bad", "attempt", ["rollout_id"], postgresql_where=sa.text(f"{BAD} OR evidence_at IS NOT NULL")
    )
    op.add_column("ring", sa.Column("asks", sa.Text(), nullable=True))
    op.execute("UPDATE ring SET asks = 'go' WHERE state = 'awaiting-go'")
    op.add_column("credential", sa.Column("only_for", sa.Text(), nullable=True))


def downgrade() -> None:
    op.drop_column("credential", "only_for")
    op.drop_column("ring", "asks")
    op.drop_index("ix_attempt_bad", "attempt")
    op.drop_column("attempt", "evidence_at")
    op.create_index("ix_attempt_bad", "attempt", ["rollout_id"], postgresql_where=sa.text(BAD))
    op.drop_table("evidence")
    op.drop_table("approval")
