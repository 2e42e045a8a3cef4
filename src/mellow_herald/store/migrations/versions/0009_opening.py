"""Attempts without what made the opening of a large ring slow"""

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.drop_constraint("fk_attempt_device_id", "attempt", type_="foreignkey")
    op.drop_constraint("fk_attempt_rollout_id", "attempt", type_="foreignkey")
    # One index serves for both: a device has few attempts.
    op.drop_constraint("uq_attempt_rollout_id_device_id", "attempt", type_="unique")
    op.create_unique_constraint("uq_attempt_device_id_rollout_id", "attempt", ["device_id", "rollout_id"])
    op.drop_index("ix_attempt_device_newest", table_name="attempt")


def downgrade() -> None:
    op.create_index("ix_attempt_device_newest", "attempt", ["device_id", sa.literal_column("id DESC")])
    op.drop_constraint("uq_attempt_device_id_rollout_id", "attempt", type_="unique")
    op.create_unique_constraint("uq_attempt_rollout_id_device_id", "attempt", ["rollout_id", "device_id"])
    op.create_foreign_key("fk_attempt_rollout_id", "attempt", "rollout", ["rollout_id"], ["id"])
    op.create_foreign_key("fk_attempt_device_id", "attempt", "device", ["device_id"], ["id"])
