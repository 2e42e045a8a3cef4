"""From when on the service was away last"""

import sqlalchemy as sa
from alembic import op

revision = "0023"
down_revision = "0022"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("clock", sa.Column("away_from", sa.DateTime(timezone=True), nullable=True))


def downgrade() -> None:
    op.drop_column("clock", "away_from")
