"""Two releases compared by lot"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0038"
down_revision = "0037"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("rollout", sa.Column("second_release_id", sa.BigInteger(), nullable=True))
    op.create_foreign_key("fk_rollout_second_release_id", "rollout", "release", ["second_release_id"], ["id"])
    op.create_index("ix_rollout_second_release_id", "rollout", ["second_release_id"])
    op.add_column("rollout", sa.Column("chosen", sa.SmallInteger(), nullable=True))
    op.add_column("ring_slice", sa.Column("second", postgresql.ARRAY(sa.BigInteger()), nullable=True))
    op.add_column("attempt", sa.Column("release_id", sa.BigInteger(), nullable=True))
    op.add_column("attempt", sa.Column("lot", sa.SmallInteger(), nullable=True))


def downgrade() -> None:
    op.drop_column("attempt", "lot")
    op.drop_column("attempt", "release_id")
    op.drop_column("ring_slice", "second")
    op.drop_column("rollout", "chosen")
    op.drop_index("ix_rollout_second_release_id", "rollout")
    op.drop_constraint("fk_rollout_second_release_id", "rollout")
    op.drop_column("rollout", "second_release_id")
