"""Since when the database runs"""

import sqlalchemy as sa
from alembic import op

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("clock", sa.Column("database_since", sa.DateTime(timezone=True), nullable=True))


def downgrade() -> None:
    op.drop_column("clock", "database_since")
