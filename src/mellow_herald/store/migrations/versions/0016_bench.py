"""Bench devices, and scratch images that are no release"""

import sqlalchemy as sa
from alembic import op

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("device", sa.Column("on_bench", sa.Boolean(), nullable=False, server_default="false"))
    op.drop_constraint(op.f("uq_release_board_line_version"), "release", type_="unique")
    op.create_index(
        "uq_release_name",
        "release",
        ["board", "line", "version"],
        unique=True,
        postgresql_where=sa.text("state <> 'scratch'"),
    )
    _checks("'draft','published','withdrawn','scratch'", "state IN ('draft','scratch')")


def downgrade() -> None:
    op.execute("DELETE FROM release WHERE state = 'scratch'")
    _checks("'draft','published','withdrawn'", "state = 'draft'")
    op.drop_index("uq_release_name", "release")
    op.create_unique_constraint(op.f("uq_release_board_line_version"), "release", ["board", "line", "version"])
    op.drop_column("device", "on_bench")


def _checks(states: str, unpublished: str) -> None:
    for name, condition in (
        ("state", f"state IN ({states})"),
        ("published", f"{unpublished} OR published_at IS NOT NULL"),
    ):
        op.drop_constraint(op.f(f"ck_release_{name}"), "release", type_="check")
        op.create_check_constraint(op.f(f"ck_release_{name}"), "release", condition)
