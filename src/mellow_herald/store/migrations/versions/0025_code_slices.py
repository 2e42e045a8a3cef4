"""Uses of a code counted in slices, so that a fleet that enrols does not queue on one row"""

import sqlalchemy as sa
from alembic import op

revision = "0025"
down_revision = "0024"
branch_labels = None
depends_on = None

SLICES = 16


def upgrade() -> None:
    op.create_table(
        "code_slice",
        sa.Column("code_id", sa.BigInteger(), sa.ForeignKey("enrolment_code.id"), nullable=False),
        sa.Column("slice", sa.SmallInteger(), nullable=False),
        sa.Column("uses", sa.BigInteger(), nullable=False),
        sa.Column("used", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("code_id", "slice", name=op.f("pk_code_slice")),
        sa.CheckConstraint("used <= uses", name=op.f("ck_code_slice_used")),
    )
    # What was used before stays where it was counted.
    op.execute(
        f"INSERT INTO code_slice SELECT id, n, (uses - used) / {SLICES} + ((uses - used) % {SLICES} > n)::int, 0"
        f" FROM enrolment_code, generate_series(0, {SLICES - 1}) AS n"
    )


def downgrade() -> None:
    op.execute(
        "UPDATE enrolment_code SET used = used + (SELECT sum(s.used) FROM code_slice s WHERE s.code_id = enrolment_code.id)"
    )
    op.drop_table("code_slice")
