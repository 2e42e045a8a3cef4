"""What runs decides: what devices came from by component, and attempts that stood wrong are settled"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None

TIME = sa.DateTime(timezone=True)
# The newest attempt of each device at a release, held against what the device said last.
JUDGED = """
    SELECT attempt.*, device.serial, device.changed_at AS said_at, coalesce(judged.target, false) AS runs_target,
        coalesce(judged.has_app, false) AND device.digest = attempt.from_digest
            AND NOT coalesce(judged.target, false) AS runs_former
    FROM (SELECT DISTINCT ON (device_id) * FROM attempt ORDER BY device_id, id DESC) AS attempt
    JOIN device ON device.id = attempt.device_id
    JOIN rollout ON rollout.id = attempt.rollout_id AND rollout.kind = 'forward'
    CROSS JOIN LATERAL (
        SELECT bool_and(runs) AS target, bool_or(component = 'app') AS has_app FROM (
            SELECT component, bool_or(digest = device.running -> component ->> 'digest') AS runs
            FROM release_image WHERE release_id = rollout.release_id GROUP BY component
        ) AS each_component
    ) AS judged
    WHERE attempt.exposed_at IS NOT NULL
"""
# (which, state, reason, why): an attempt that a check-in would have settled so had it been looked at.
SETTLED = (
    (
        "runs_target AND (state IN ('cleared', 'installing', 'proving', 'called-off', 'silent')"
        " OR (NOT closed AND state IN ('queued', 'offered', 'downloading', 'staged', 'failed', 'reverted')))",
        "confirmed",
        None,
        "its device last said that it runs the release",
    ),
    (
        "runs_target AND state = 'relapsed' AND reason = 'fell-back'",
        "confirmed",
        None,
        "its device last said that it runs every component of the release: it never fell back",
    ),
    (
        "runs_former AND state = 'confirmed' AND NOT EXISTS (SELECT FROM device_event"
        " WHERE device_event.device_id = judged.device_id AND what = 'version changed' AND at > confirmed_at)",
        "reverted",
        "fell-back",
        "its device vouched for what it came from, not for the release",
    ),
)


def upgrade() -> None:
    op.add_column("attempt", sa.Column("came_from", JSONB(), nullable=False, server_default="{}"))
    op.add_column("attempt", sa.Column("vouched", sa.Boolean(), nullable=False, server_default=sa.false()))
    for column in ("came_from", "vouched"):
        op.alter_column("attempt", column, server_default=None)
    op.execute(
        "ALTER TABLE attempt ALTER COLUMN back_to TYPE jsonb"
        " USING CASE WHEN back_to IS NULL THEN NULL ELSE jsonb_build_object('app', back_to) END"
    )
    for column in ("odd_boots", "odd_seq"):
        op.drop_column("pulse", column)
    op.add_column("pulse", sa.Column("odd", JSONB(), nullable=True))
    op.create_index("ix_device_cloned", "device", ["id"], postgresql_where=sa.text("cloned_at IS NOT NULL"))
    op.create_table(
        "settlement",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column("attempt_id", sa.BigInteger(), sa.ForeignKey("attempt.id"), nullable=False),
        sa.Column("at", TIME, nullable=False),
        sa.Column("state_before", sa.Text(), nullable=False),
        sa.Column("reason_before", sa.Text(), nullable=True),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=True),
        sa.Column("why", sa.Text(), nullable=False),
    )
    for which, state, reason, why in SETTLED:
        _settle(which, state, reason, why)
    op.execute(
        "INSERT INTO attempt_event (attempt_id, at, said_by, what, try_number, state, reason, detail, tests, log)"
        " SELECT attempt_id, settlement.at, 'service', 'state', try_number, settlement.state, settlement.reason,"
        " 'settled after the fact: ' || why, '[]', ''"
        " FROM settlement JOIN attempt ON attempt.id = attempt_id ORDER BY settlement.id"
    )
    op.execute(
        "INSERT INTO journal (at, who, what, subject, why, data)"
        " SELECT settlement.at, 'service', 'attempt settled', device.serial, why, jsonb_build_object('rollout',"
        " rollout_id, 'attempt', attempt_id, 'before', state_before, 'after', settlement.state)"
        " FROM settlement JOIN attempt ON attempt.id = attempt_id JOIN device ON device.id = device_id"
        " ORDER BY settlement.id"
    )


def _settle(which: str, state: str, reason: str | None, why: str) -> None:
    parameters = {"state": state, "reason": reason, "why": why}
    op.get_bind().execute(
        sa.text(
            "INSERT INTO settlement (attempt_id, at, state_before, reason_before, state, reason, why)"
            " SELECT id, coalesce((SELECT beat_service FROM clock), said_at), state, reason, :state, :reason, :why"
            f" FROM ({JUDGED}) AS judged WHERE {which} ORDER BY id"
        ),
        parameters,
    )
    good = state == "confirmed"
    harm = (
        # What was held against it by mistake alone is taken back.
        "harmed_at = CASE WHEN harmed_why = 'fell-back' THEN NULL ELSE harmed_at END,"
        " harmed_why = nullif(harmed_why, 'fell-back'), confirmed_at = coalesce(confirmed_at, device.changed_at),"
        " soak_until = coalesce(soak_until, device.changed_at + make_interval(secs => soak_s))"
        if good
        else "harmed_at = coalesce(harmed_at, confirmed_at), harmed_why = coalesce(harmed_why, :reason)"
    )
    op.get_bind().execute(
        sa.text(
            f"UPDATE attempt SET state = :state, reason = :reason, live = false, waiting_for = NULL,"
            f" waiting_until = NULL, clearance_until = NULL, retry_at = NULL, tries = try_number, {harm}"
            " FROM settlement, device WHERE settlement.attempt_id = attempt.id AND settlement.why = :why"
            " AND device.id = attempt.device_id"
        ),
        parameters,
    )


def downgrade() -> None:
    op.drop_table("settlement")
    op.drop_index("ix_device_cloned", "device")
    op.drop_column("pulse", "odd")
    op.add_column("pulse", sa.Column("odd_boots", sa.BigInteger(), nullable=True))
    op.add_column("pulse", sa.Column("odd_seq", sa.BigInteger(), nullable=True))
    op.execute("ALTER TABLE attempt ALTER COLUMN back_to TYPE text USING back_to ->> 'app'")
    for column in ("vouched", "came_from"):
        op.drop_column("attempt", column)
