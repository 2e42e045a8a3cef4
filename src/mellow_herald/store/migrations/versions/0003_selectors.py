"""What selectors speak of: versions of all components; selections that were saved"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    # A device's next check-in fills it in.
    op.add_column("device", sa.Column("version_keys", JSONB(), nullable=False, server_default=sa.text("'{}'")))
    op.alter_column("device", "version_keys", server_default=None)
    op.create_table(
        "selection",
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("selector", sa.Text(), nullable=False),
        sa.Column("note", sa.Text(), nullable=False),
        sa.Column("saved_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("saved_by", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("name", name=op.f("pk_selection")),
    )


def downgrade() -> None:
    op.drop_table("selection")
    op.drop_column("device", "version_keys")
