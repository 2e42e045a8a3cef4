"""A ring may stand still and be let go on all the same; attempts left out of later rounds are marked"""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("attempt", sa.Column("left_out", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.alter_column("attempt", "left_out", server_default=None)
    op.add_column("ring", sa.Column("stands_why", sa.Text(), nullable=True))
    op.add_column("ring", sa.Column("anyway_bad", sa.BigInteger(), nullable=True))
    op.add_column("ring", sa.Column("anyway_round", sa.Integer(), nullable=True))


def downgrade() -> None:
    for column in ("anyway_round", "anyway_bad", "stands_why"):
        op.drop_column("ring", column)
    op.drop_column("attempt", "left_out")
