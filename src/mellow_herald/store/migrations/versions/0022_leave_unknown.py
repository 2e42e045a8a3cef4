"""Attempts of which a backup does not know whether they were given leave"""

import sqlalchemy as sa
from alembic import op

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None


def upgrade() -> None:
    # The default stays: workers of the version before may still give attempts.
    op.add_column("attempt", sa.Column("leave_unknown", sa.Boolean(), server_default=sa.false(), nullable=False))


def downgrade() -> None:
    op.drop_column("attempt", "leave_unknown")
