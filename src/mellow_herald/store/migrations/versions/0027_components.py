"""Components of every kind: what a board says of them, what a release's settings replace, whether devices restart"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0027"
down_revision = "0026"
branch_labels = None
depends_on = None


def upgrade() -> None:
    # With a default, so that workers of the version before can go on adding rows.
    none = sa.text("'[]'")
    op.add_column("board", sa.Column("components", postgresql.JSONB(), nullable=False, server_default=none))
    op.add_column("release", sa.Column("restart", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("release_image", sa.Column("base", sa.Text(), nullable=True))


def downgrade() -> None:
    op.drop_column("release_image", "base")
    op.drop_column("release", "restart")
    op.drop_column("board", "components")
