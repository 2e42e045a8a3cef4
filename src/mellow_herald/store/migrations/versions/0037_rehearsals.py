"""Rehearsals of plans"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0037"
down_revision = "0036"
branch_labels = None
depends_on = None

TIME = sa.DateTime(timezone=True)


def upgrade() -> None:
    op.create_table(
        "rehearsal",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("plan", postgresql.JSONB(), nullable=False),
        sa.Column("plan_digest", sa.Text(), nullable=False),
        sa.Column("faults", postgresql.JSONB(), nullable=False),
        sa.Column("runs", sa.Integer(), nullable=False),
        sa.Column("seed", sa.BigInteger(), nullable=False),
        sa.Column("people_s", sa.BigInteger(), nullable=False),
        sa.Column("asked_by", sa.Text(), nullable=False),
        sa.Column("asked_at", TIME, nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("progress", sa.Double(), nullable=False),
        sa.Column("beat_at", TIME, nullable=False),
        sa.Column("ended_at", TIME, nullable=True),
        sa.Column("why", sa.Text(), nullable=True),
        sa.Column("result", postgresql.JSONB(), nullable=True),
        sa.CheckConstraint("state IN ('waiting', 'running', 'done', 'failed', 'cancelled')", name="ck_rehearsal_state"),
        sa.PrimaryKeyConstraint("id", name="pk_rehearsal"),
    )
    op.create_index("ix_rehearsal_plan_digest", "rehearsal", ["plan_digest"])
    op.add_column("rollout", sa.Column("plan_digest", sa.Text(), nullable=True))


def downgrade() -> None:
    op.drop_column("rollout", "plan_digest")
    op.drop_table("rehearsal")
