"""Waves of a harm budget, and in which of them a device was given leave"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0035"
down_revision = "0034"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "harm_wave",
        sa.Column("rollout_id", sa.BigInteger(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("began_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("size", sa.BigInteger(), nullable=False),
        sa.Column("room", sa.BigInteger(), nullable=False),
        sa.Column("rate", sa.Double(), nullable=False),
        sa.Column("by_value", postgresql.JSONB(), nullable=False),
        sa.Column("of_new", sa.BigInteger(), nullable=False),
        sa.Column("hurt", sa.BigInteger(), nullable=False),
        sa.Column("decided", sa.BigInteger(), nullable=False),
        sa.ForeignKeyConstraint(["rollout_id"], ["rollout.id"], name="fk_harm_wave_rollout_id"),
        sa.PrimaryKeyConstraint("rollout_id", "number", name="pk_harm_wave"),
    )
    op.add_column("attempt", sa.Column("wave", sa.Integer(), nullable=True))
    op.create_index("ix_attempt_wave", "attempt", ["rollout_id", "wave"], postgresql_where=sa.text("wave IS NOT NULL"))


def downgrade() -> None:
    op.drop_index("ix_attempt_wave", "attempt")
    op.drop_column("attempt", "wave")
    op.drop_table("harm_wave")
