"""Attempts counted as they move: what each statement changes is added up in the transaction that changes it"""

import sqlalchemy as sa
from alembic import op

revision = "0029"
down_revision = "0028"
branch_labels = None
depends_on = None

KEYS = "rollout_id, ring, state, reason, waiting_for, left_out, first_bad_why"
SUMS = "attempts, exposed, live, ever_bad, percents, unasked"
OF_ONE = (
    "1 AS attempts, (exposed_at IS NOT NULL)::int AS exposed, live::int AS live,"
    " (first_bad_at IS NOT NULL)::int AS ever_bad, fetched::bigint AS percents, (unasked_at IS NOT NULL)::int AS unasked"
)


def added_up(rows: str, sign: str = "1") -> str:
    """The statement that adds ``rows`` up, and writes down what is not nought."""
    sums = ", ".join(f"sum({sign} * {name}) AS {name}" for name in SUMS.split(", "))
    some = " OR ".join(f"{name} <> 0" for name in SUMS.split(", "))
    return (
        f"INSERT INTO tally ({KEYS}, {SUMS}) SELECT * FROM"
        f" (SELECT {KEYS}, {sums} FROM ({rows}) AS moved GROUP BY {KEYS}) AS added WHERE {some}"
    )


def upgrade() -> None:
    op.create_table(
        "tally",
        sa.Column("id", sa.BigInteger(), sa.Identity(always=False), nullable=False),
        sa.Column("rollout_id", sa.BigInteger(), nullable=False),
        sa.Column("ring", sa.SmallInteger(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=True),
        sa.Column("waiting_for", sa.Text(), nullable=True),
        sa.Column("left_out", sa.Boolean(), nullable=False),
        sa.Column("first_bad_why", sa.Text(), nullable=True),
        *(sa.Column(name, sa.BigInteger(), nullable=False) for name in SUMS.split(", ")),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_tally_rollout_id", "tally", ["rollout_id"])
    came, went = (f"SELECT {KEYS}, {OF_ONE}, {sign} AS sign FROM {rows}" for sign, rows in ((1, "came"), (-1, "went")))
    for event, tables, rows in (
        ("INSERT", "NEW TABLE AS came", came),
        ("UPDATE", "OLD TABLE AS went NEW TABLE AS came", f"{came} UNION ALL {went}"),
        ("DELETE", "OLD TABLE AS went", went),
    ):
        name = f"tally_{event.lower()}"
        op.execute(
            f"CREATE FUNCTION {name}() RETURNS trigger LANGUAGE plpgsql AS"
            f" $$ BEGIN {added_up(rows, 'sign')}; RETURN NULL; END $$"
        )
        op.execute(
            f"CREATE TRIGGER {name} AFTER {event} ON attempt REFERENCING {tables}"
            f" FOR EACH STATEMENT EXECUTE FUNCTION {name}()"
        )
    # Nobody moves an attempt meanwhile: to make a trigger keeps writers out until the end of the transaction.
    op.execute(added_up(f"SELECT {KEYS}, {OF_ONE} FROM attempt"))


def downgrade() -> None:
    for event in ("delete", "update", "insert"):
        op.execute(f"DROP TRIGGER tally_{event} ON attempt")
        op.execute(f"DROP FUNCTION tally_{event}()")
    op.drop_table("tally")
