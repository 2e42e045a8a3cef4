"""Headers of webhooks"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("webhook", sa.Column("headers", JSONB(), server_default="{}", nullable=False))
    op.alter_column("webhook", "headers", server_default=None)


def downgrade() -> None:
    op.drop_column("webhook", "headers")
