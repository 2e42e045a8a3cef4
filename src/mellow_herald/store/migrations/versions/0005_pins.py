"""Pins: a device stays on what it runs, for a reason and until a date"""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("device", sa.Column("pinned_until", sa.DateTime(timezone=True), nullable=True))
    op.add_column("device", sa.Column("pinned_by", sa.Text(), nullable=True))
    op.add_column("device", sa.Column("pinned_why", sa.Text(), nullable=True))


def downgrade() -> None:
    for column in ("pinned_until", "pinned_by", "pinned_why"):
        op.drop_column("device", column)
