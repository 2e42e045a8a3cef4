"""Attempts without the key that is checked for every row of a ring that opens, though it is empty there"""

from alembic import op

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.drop_constraint("fk_attempt_back_release_id", "attempt", type_="foreignkey")


def downgrade() -> None:
    op.create_foreign_key("fk_attempt_back_release_id", "attempt", "release", ["back_release_id"], ["id"])
