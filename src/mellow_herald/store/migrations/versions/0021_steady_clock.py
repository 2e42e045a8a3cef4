"""A clock that does not jump"""

import sqlalchemy as sa
from alembic import op

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("clock", sa.Column("beat_ticks", sa.Double(), nullable=True))
    op.add_column("clock", sa.Column("beat_boot", sa.Text(), nullable=True))
    op.add_column("clock", sa.Column("ahead_s", sa.Double(), server_default="0", nullable=False))
    op.add_column("clock", sa.Column("rests", sa.Boolean(), server_default=sa.false(), nullable=False))
    op.alter_column("clock", "ahead_s", server_default=None)
    op.alter_column("clock", "rests", server_default=None)


def downgrade() -> None:
    for name in ("rests", "ahead_s", "beat_boot", "beat_ticks"):
        op.drop_column("clock", name)
