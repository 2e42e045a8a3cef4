"""What workers of version 0.1.0 read and write, kept while they serve beside this version

What that version writes without knowing of a column has a default, and what it reads stays, though nothing of this
version looks at it. All that can go once no upgrade begins at 0.1.0 any more.
"""

from alembic import op

revision = "0024"
down_revision = "0023"
branch_labels = None
depends_on = None

DEFAULTS = {
    "attempt": {"came_from": "'{}'", "vouched": "false", "left_out": "false", "fetched": "0", "retry_bad": "false"},
    "board": {"runs": "'anywhere'"},
    "clock": {"ahead_s": "0", "rests": "false"},
    "person": {"roles": "'{viewer}'", "must_change": "false"},
    "webhook": {"headers": "'{}'"},
}
KEPT = {
    "board": {"position_dependent": "boolean NOT NULL DEFAULT false"},
    "person": {"role": "text NOT NULL DEFAULT 'viewer'"},
    "pulse": {"odd_boots": "bigint", "odd_seq": "bigint"},
}


def upgrade() -> None:
    for table, columns in DEFAULTS.items():
        for name, value in columns.items():
            op.execute(f"ALTER TABLE {table} ALTER COLUMN {name} SET DEFAULT {value}")
    for table, columns in KEPT.items():
        for name, kind in columns.items():
            op.execute(f"ALTER TABLE {table} ADD COLUMN IF NOT EXISTS {name} {kind}")
    op.execute("UPDATE board SET position_dependent = (runs = 'where-linked')")
    op.execute(
        "UPDATE person SET role = CASE WHEN 'admin' = ANY(roles) THEN 'admin' WHEN 'operator' = ANY(roles) THEN 'operator'"
        " WHEN 'publisher' = ANY(roles) THEN 'publisher' ELSE 'viewer' END"
    )


def downgrade() -> None:
    for table, columns in KEPT.items():
        for name in columns:
            op.execute(f"ALTER TABLE {table} DROP COLUMN {name}")
    for table, columns in DEFAULTS.items():
        for name in columns:
            op.execute(f"ALTER TABLE {table} ALTER COLUMN {name} DROP DEFAULT")
