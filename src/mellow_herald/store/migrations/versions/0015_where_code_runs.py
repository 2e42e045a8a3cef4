"""Where a board's code runs: anywhere, where it is linked for, or mapped to one address"""

import sqlalchemy as sa
from alembic import op

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("board", sa.Column("runs", sa.Text(), nullable=False, server_default="anywhere"))
    op.add_column("board", sa.Column("run_address", sa.BigInteger(), nullable=True))
    op.execute("UPDATE board SET runs = 'where-linked' WHERE position_dependent")
    op.alter_column("board", "runs", server_default=None)
    op.drop_column("board", "position_dependent")


def downgrade() -> None:
    op.add_column("board", sa.Column("position_dependent", sa.Boolean(), nullable=False, server_default="false"))
    op.execute("UPDATE board SET position_dependent = (runs = 'where-linked')")
    op.alter_column("board", "position_dependent", server_default=None)
    op.drop_column("board", "run_address")
    op.drop_column("board", "runs")
