"""What devices said of themselves, hour by hour, for a week"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "condition_day",
        sa.Column("device_id", sa.BigInteger(), sa.ForeignKey("device.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("day", sa.Date(), primary_key=True),
        sa.Column("hours", postgresql.ARRAY(sa.SmallInteger()), nullable=False),
    )
    op.create_index("ix_condition_day_day", "condition_day", ["day"])


def downgrade() -> None:
    op.drop_table("condition_day")
