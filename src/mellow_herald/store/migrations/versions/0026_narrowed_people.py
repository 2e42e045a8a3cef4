"""People who are narrowed to some devices"""

import sqlalchemy as sa
from alembic import op

revision = "0026"
down_revision = "0025"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("person", sa.Column("only", sa.Text(), nullable=True))


def downgrade() -> None:
    op.drop_column("person", "only")
