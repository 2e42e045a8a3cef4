"""Indexes for what selectors look for most: labels, and the few devices of a large fleet that need a person"""

import sqlalchemy as sa
from alembic import op

revision = "0028"
down_revision = "0027"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_index(
        "ix_device_labels", "device", ["labels"], postgresql_using="gin", postgresql_ops={"labels": "jsonb_path_ops"}
    )
    for name, where in (
        ("barred", "admission <> 'admitted'"),
        ("rescued", "rescued_at IS NOT NULL"),
        ("updaterless", "updater = 0"),
        ("recovering", "running #>> '{app,slot}' = 'recovery'"),
    ):
        op.create_index(f"ix_device_{name}", "device", ["id"], postgresql_where=sa.text(where))
    op.create_index("ix_attempt_silent", "attempt", ["device_id"], postgresql_where=sa.text("state = 'silent'"))


def downgrade() -> None:
    op.drop_index("ix_attempt_silent", "attempt")
    for name in ("recovering", "updaterless", "rescued", "barred", "labels"):
        op.drop_index(f"ix_device_{name}", "device")
