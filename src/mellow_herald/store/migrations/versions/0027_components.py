"""Components of every kind: what a board says of them, what a release's settings replace, whether devices restart"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0027"
down_revision = "0026"
branch_labels = None
depends_on = None


def upgrade() -> None:
    # With a default, so that workers of the version before can go on adding rows.
    none = sa.text("'[]'")
    op.add_column("board", sa.Column("components", postgresql.JSONB(), nullable=False, server_default=none))
    op.add_column("release", sa.Column("restart", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("release_image", sa.Column("base", sa.Text(), nullable=True))
    op.add_column("device", sa.Column("parts", sa.Text(), nullable=True))
    op.create_table(
        "alarm",
        sa.Column("id", sa.BigInteger(), sa.Identity(always=False), nullable=False),
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("about", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("heard_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("detail", sa.Text(), nullable=False),
        sa.Column("attempt_id", sa.BigInteger(), nullable=True),
        sa.ForeignKeyConstraint(["device_id"], ["device.id"], ondelete="CASCADE"),
        sa.ForeignKeyConstraint(["attempt_id"], ["attempt.id"]),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("device_id", "kind", "about", "at"),
    )
    op.create_index("ix_alarm_about", "alarm", ["about"])
    op.create_index("ix_alarm_attempt_id", "alarm", ["attempt_id"])
    unexplained = sa.text("attempt_id IS NULL")
    op.create_index("ix_alarm_unexplained", "alarm", ["heard_at"], postgresql_where=unexplained)


def downgrade() -> None:
    op.drop_table("alarm")
    op.drop_column("device", "parts")
    op.drop_column("release_image", "base")
    op.drop_column("release", "restart")
    op.drop_column("board", "components")
