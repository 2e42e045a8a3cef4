"""Release life: drafts, withdrawal, baselines, components with slots, lineage over time"""

from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def _add(table: str, column: str, kind: sa.types.TypeEngine[Any], default: str) -> None:
    """Adds a column that must have a value; rows that are there already get ``default`` (SQL)."""
    op.add_column(table, sa.Column(column, kind, nullable=False, server_default=sa.text(default)))
    op.alter_column(table, column, server_default=None)


def upgrade() -> None:
    _add("board", "position_dependent", sa.Boolean(), "false")
    _add("board", "check_in_exceptions", JSONB(), "'[]'")
    op.add_column("image", sa.Column("gone_at", sa.DateTime(timezone=True), nullable=True))

    op.alter_column("release", "description", new_column_name="notes")
    _add("release", "needs", JSONB(), "'{}'")
    _add("release", "independent", sa.Boolean(), "false")
    _add("release", "labels", JSONB(), "'{}'")
    _add("release", "revision", sa.Integer(), "1")
    _add("release", "checks", JSONB(), "'[]'")
    op.add_column("release", sa.Column("uploaded_at", sa.DateTime(timezone=True), nullable=True))
    op.add_column("release", sa.Column("uploaded_by", sa.Text(), nullable=True))
    op.execute("UPDATE release SET uploaded_at = published_at, uploaded_by = published_by")
    for column in ("uploaded_at", "uploaded_by"):
        op.alter_column("release", column, nullable=False)
    for column in ("published_at", "published_by"):
        op.alter_column("release", column, nullable=True)
    op.add_column("release", sa.Column("withdrawn_at", sa.DateTime(timezone=True), nullable=True))
    op.add_column("release", sa.Column("withdrawn_by", sa.Text(), nullable=True))
    op.add_column("release", sa.Column("withdrawn_why", sa.Text(), nullable=True))
    op.add_column("release", sa.Column("cleaned_at", sa.DateTime(timezone=True), nullable=True))
    op.create_index("ix_release_kid", "release", ["kid"])
    op.create_check_constraint(op.f("ck_release_published"), "release", "state = 'draft' OR published_at IS NOT NULL")
    op.create_check_constraint(
        op.f("ck_release_withdrawn"), "release", "(state = 'withdrawn') = (withdrawn_at IS NOT NULL)"
    )

    _add("release_image", "slot", sa.SmallInteger(), "-1")
    _add("release_image", "position", sa.SmallInteger(), "0")
    _add("release_image", "updater", sa.Integer(), "1")
    _add("release_image", "build_time", sa.BigInteger(), "0")
    op.add_column("release_image", sa.Column("address", sa.BigInteger(), nullable=True))
    _add("release_image", "after", JSONB(), "'[]'")
    _add("release_image", "read", sa.Boolean(), "false")
    op.drop_constraint("pk_release_image", "release_image")
    op.create_primary_key("pk_release_image", "release_image", ["release_id", "component", "slot"])

    op.create_table(
        "baseline",
        sa.Column("board", sa.Text(), nullable=False),
        sa.Column("line", sa.Text(), nullable=False),
        sa.Column("release_id", sa.BigInteger(), nullable=False),
        sa.Column("set_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("set_by", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["board"], ["board.name"], name=op.f("fk_baseline_board")),
        sa.ForeignKeyConstraint(["release_id"], ["release.id"], name=op.f("fk_baseline_release_id")),
        sa.PrimaryKeyConstraint("board", "line", name=op.f("pk_baseline")),
        sa.UniqueConstraint("release_id", name=op.f("uq_baseline_release_id")),
    )
    op.create_table(
        "lineage_sample",
        sa.Column("board", sa.Text(), nullable=False),
        sa.Column("line", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("counts", JSONB(), nullable=False),
        sa.PrimaryKeyConstraint("board", "line", "at", name=op.f("pk_lineage_sample")),
    )


def downgrade() -> None:
    raise NotImplementedError("restore a backup instead: drafts and withdrawals would be lost")
