"""What brakes count, rounds, rollbacks, ways back"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None

TIME = sa.DateTime(timezone=True)


def upgrade() -> None:
    op.add_column("rollout", sa.Column("round", sa.Integer(), nullable=False, server_default="1"))
    op.add_column("rollout", sa.Column("watch", JSONB(), nullable=False, server_default="{}"))
    op.execute(
        "UPDATE rollout SET watch = jsonb_build_object('rings', jsonb_array_length(plan -> 'rings'), 'foreseen',"
        " (SELECT coalesce(jsonb_object_agg(fact, '[]'::jsonb), '{}'::jsonb)"
        "  FROM jsonb_array_elements_text(coalesce(plan -> 'brake' -> 'watch_by', '[\"hw_rev\"]'::jsonb)) AS fact))"
    )
    op.add_column("rollout", sa.Column("kind", sa.Text(), nullable=False, server_default="forward"))
    op.add_column("rollout", sa.Column("rolls_back", sa.BigInteger(), nullable=True))
    op.add_column("rollout", sa.Column("scope", JSONB(), nullable=False, server_default="{}"))
    for column in ("round", "watch", "kind", "scope"):
        op.alter_column("rollout", column, server_default=None)
    op.create_check_constraint("ck_rollout_kind", "rollout", "kind IN ('forward','rollback','swap')")
    op.create_foreign_key("fk_rollout_rolls_back", "rollout", "rollout", ["rolls_back"], ["id"])
    op.create_index("ix_rollout_rolls_back", "rollout", ["rolls_back"])
    op.add_column("ring", sa.Column("asks_why", sa.Text(), nullable=True))
    op.add_column("attempt", sa.Column("undelivered_at", TIME, nullable=True))
    op.add_column("attempt", sa.Column("undelivered_why", sa.Text(), nullable=True))
    op.add_column("attempt", sa.Column("harmed_at", TIME, nullable=True))
    op.add_column("attempt", sa.Column("harmed_why", sa.Text(), nullable=True))
    # When exactly is not known any more; the last change is the latest it can have been.
    op.execute(
        "UPDATE attempt SET harmed_at = changed_at, harmed_why = coalesce(reason, state)"
        " WHERE ever_bad AND exposed_at IS NOT NULL"
    )
    op.execute(
        "UPDATE attempt SET undelivered_at = changed_at, undelivered_why = coalesce(reason, state)"
        " WHERE ever_bad AND exposed_at IS NULL"
    )
    op.drop_column("attempt", "ever_bad")
    op.add_column("attempt", sa.Column("installs", sa.Integer(), nullable=False, server_default="0"))
    op.alter_column("attempt", "installs", server_default=None)
    op.add_column("attempt", sa.Column("cluster", sa.Text(), nullable=True))
    op.add_column("attempt", sa.Column("before", JSONB(), nullable=False, server_default="{}"))
    op.alter_column("attempt", "before", server_default=None)
    op.add_column("attempt", sa.Column("back_to", sa.Text(), nullable=True))
    op.add_column("attempt", sa.Column("back_release_id", sa.BigInteger(), nullable=True))
    op.create_foreign_key("fk_attempt_back_release_id", "attempt", "release", ["back_release_id"], ["id"])
    op.create_index(
        "ix_attempt_bad",
        "attempt",
        ["rollout_id"],
        postgresql_where=sa.text("harmed_at IS NOT NULL OR undelivered_at IS NOT NULL"),
    )


def downgrade() -> None:
    op.drop_index("ix_attempt_bad", "attempt")
    op.add_column("attempt", sa.Column("ever_bad", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.execute("UPDATE attempt SET ever_bad = harmed_at IS NOT NULL OR undelivered_at IS NOT NULL")
    op.alter_column("attempt", "ever_bad", server_default=None)
    for column in (
        "back_release_id",
        "back_to",
        "before",
        "cluster",
        "installs",
        "harmed_why",
        "harmed_at",
        "undelivered_why",
        "undelivered_at",
    ):
        op.drop_column("attempt", column)
    op.drop_column("ring", "asks_why")
    for column in ("scope", "rolls_back", "kind", "watch", "round"):
        op.drop_column("rollout", column)
