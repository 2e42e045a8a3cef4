"""Lists of devices by serial"""

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "serial_list",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("digest", sa.Text(), nullable=False),
        sa.Column("devices", sa.BigInteger(), nullable=False),
        sa.Column("added_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("added_by", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_serial_list")),
        sa.UniqueConstraint("digest", name=op.f("uq_serial_list_digest")),
    )
    op.create_table(
        "listed",
        sa.Column("list_id", sa.BigInteger(), sa.ForeignKey("serial_list.id", ondelete="CASCADE"), nullable=False),
        sa.Column("serial", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("list_id", "serial", name=op.f("pk_listed")),
    )


def downgrade() -> None:
    op.drop_table("listed")
    op.drop_table("serial_list")
