"""What a rollout came to stays beside its state; what first went bad, and how much was moved, with the attempt"""

import sqlalchemy as sa
from alembic import op

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None

MOMENT = sa.DateTime(timezone=True)
HAS_IMAGE = "('staged', 'cleared', 'installing', 'proving', 'confirmed', 'reverted', 'relapsed', 'rolled-back')"


def upgrade() -> None:
    op.add_column("rollout", sa.Column("outcome", sa.Text(), nullable=True))
    op.add_column("rollout", sa.Column("halted_why", sa.Text(), nullable=True))
    for name in ("first_bad_at", "unasked_at", "waiting_since"):
        op.add_column("attempt", sa.Column(name, MOMENT, nullable=True))
    op.add_column("attempt", sa.Column("first_bad_why", sa.Text(), nullable=True))
    op.add_column("attempt", sa.Column("first_bad_try", sa.Integer(), nullable=True))
    op.add_column("attempt", sa.Column("fetched", sa.SmallInteger(), nullable=False, server_default="0"))
    op.add_column("attempt", sa.Column("retry_bad", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.execute(
        "UPDATE attempt SET first_bad_at = least(harmed_at, undelivered_at),"
        " first_bad_why = CASE WHEN undelivered_at IS NULL OR harmed_at < undelivered_at THEN harmed_why"
        " ELSE undelivered_why END"
        " WHERE harmed_at IS NOT NULL OR undelivered_at IS NOT NULL"
    )
    op.execute(f"UPDATE attempt SET fetched = CASE WHEN state IN {HAS_IMAGE} THEN 100 ELSE coalesce(percent, 0) END")
    for name in ("fetched", "retry_bad"):
        op.alter_column("attempt", name, server_default=None)
    op.execute("UPDATE rollout SET halted_why = reason WHERE halt_number IS NOT NULL")
    op.execute(
        "UPDATE rollout SET outcome = CASE"
        " WHEN EXISTS (SELECT 1 FROM attempt a WHERE a.rollout_id = rollout.id AND a.state = 'rolled-back')"
        " THEN 'rolled-back' WHEN state = 'finished' THEN 'carried-out'"
        " WHEN state = 'halted' OR halt_number IS NOT NULL THEN 'halted' ELSE 'cut-short' END"
        " WHERE state IN ('finished', 'halted', 'cancelled')"
    )
    op.create_check_constraint(
        "ck_rollout_outcome", "rollout", "outcome IN ('carried-out', 'halted', 'rolled-back', 'cut-short')"
    )
    op.create_index(
        "ix_outbox_of_rollouts", "outbox", ["rollout_id", "sealed"], postgresql_where=sa.text("kind = 'rollout'")
    )
    op.create_index(
        "ix_attempt_first_bad", "attempt", ["rollout_id"], postgresql_where=sa.text("first_bad_at IS NOT NULL")
    )


def downgrade() -> None:
    op.drop_index("ix_attempt_first_bad", "attempt")
    op.drop_index("ix_outbox_of_rollouts", "outbox")
    op.drop_constraint("ck_rollout_outcome", "rollout")
    for name in (
        "retry_bad",
        "fetched",
        "first_bad_try",
        "first_bad_why",
        "waiting_since",
        "unasked_at",
        "first_bad_at",
    ):
        op.drop_column("attempt", name)
    for name in ("halted_why", "outcome"):
        op.drop_column("rollout", name)
