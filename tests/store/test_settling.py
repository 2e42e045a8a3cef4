"""What stood wrong in a service that is brought up to date is settled by what the devices had last said."""

import json
from typing import Any

import alembic.command
from sqlalchemy import Connection, text
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.store.attempts import list_settlements
from mellow_herald.store.database import alembic_config, make_engine, migrate
from tests.harness.database import Databases

OLD, NEW, RADIO_OLD, RADIO_NEW = ("a" * 64, "b" * 64, "c" * 64, "d" * 64)
EARLY, LATE = "2026-11-01T10:00:00Z", "2026-11-01T11:00:00Z"
RAN_ON: dict[str, Any] = {"state": "cleared", "exposed_at": EARLY, "live": True}
FINISHED: dict[str, Any] = {"state": "confirmed", "exposed_at": EARLY, "confirmed_at": LATE, "closed": True}
# (serial, rollout, what it last said that it runs, its attempt, where that is to stand then)
CASES: list[tuple[str, int, dict[str, str], dict[str, Any], tuple[str, str | None]]] = [
    ("TA-cleared-again", 1, {"app": NEW}, RAN_ON, ("confirmed", None)),
    ("TA-called-off", 1, {"app": NEW}, {**RAN_ON, "state": "called-off", "live": False}, ("confirmed", None)),
    ("TA-never-left", 1, {"app": NEW}, {**RAN_ON, "state": "queued", "exposed_at": None}, ("queued", None)),
    ("TA-on-its-way", 1, {"app": OLD}, RAN_ON, ("cleared", None)),
    ("TA-vouched-for-old", 1, {"app": OLD}, FINISHED, ("reverted", "fell-back")),
    ("TA-left-later", 1, {"app": OLD}, FINISHED, ("confirmed", None)),
    ("TA-good", 1, {"app": NEW}, FINISHED, ("confirmed", None)),
    (
        "TA-radio",
        2,
        {"app": OLD, "radio": RADIO_NEW},
        {
            **FINISHED,
            "closed": False,
            "state": "relapsed",
            "reason": "fell-back",
            "harmed_at": LATE,
            "harmed_why": "fell-back",
        },
        ("confirmed", None),
    ),
]


async def fill(connection: AsyncConnection) -> None:
    """A service as the version before left it."""
    rows = [
        (
            "board",
            {
                "name": "comb-s1",
                "vendor_domain": "x.example",
                "lines": [],
                "hw_revs": [],
                "slots": [],
                "position_dependent": False,
                "check_in_s": 60,
                "check_in_exceptions": [],
                "added_at": EARLY,
            },
        ),
        (
            "clock",
            {
                "id": 1,
                "scale": 1,
                "real_epoch": EARLY,
                "service_epoch": EARLY,
                "beat_real": LATE,
                "beat_service": LATE,
                "serving_since": EARLY,
            },
        ),
    ]
    for digest in (NEW, RADIO_NEW):
        rows.append(("image", {"digest": digest, "size": 9, "stored_at": EARLY}))
    for number, images in ((1, {"app": NEW}), (2, {"radio": RADIO_NEW})):
        release = {
            "id": number,
            "board": "comb-s1",
            "line": "scale",
            "version": f"2.{number}.0",
            "version_key": "\\x",
            "state": "published",
            "floor": 4,
            "hw_rev_min": 0,
            "hw_rev_max": 9,
            "needs": {},
            "notes": "",
            "labels": {},
            "revision": 1,
            "checks": [],
            "independent": False,
            "manifest_digest": f"m{number}",
            "authentication": "\\x",
            "manifest": "\\x",
            "kid": "k",
            "uploaded_at": EARLY,
            "uploaded_by": "ada",
            "published_at": EARLY,
            "published_by": "ada",
        }
        rows.append(("release", release))
        for name, digest in images.items():
            image = {
                "release_id": number,
                "component": name,
                "slot": -1,
                "position": 0,
                "digest": digest,
                "version": "2.5.0",
                "updater": 1,
                "build_id": "",
                "build_time": 0,
                "after": [],
                "read": True,
            }
            rows.append(("release_image", image))
        rollout = {
            "id": number,
            "name": "r",
            "release_id": number,
            "plan": {},
            "target": "",
            "revision": 1,
            "overtakes": False,
            "state": "finished",
            "created_by": "ada",
            "created_at": EARLY,
            "round": 1,
            "watch": {},
            "kind": "forward",
            "scope": {},
            "targeted": 9,
        }
        rows.append(("rollout", rollout))
    for number, (serial, rollout_id, runs, attempt, _) in enumerate(CASES, 1):
        device = {
            "id": number,
            "serial": serial,
            "board": "comb-s1",
            "line": "scale",
            "hw_rev": 1,
            "labels": {},
            "admission": "admitted",
            "generation": 1,
            "token_used": True,
            "may_enrol_again": False,
            "note": "",
            "running": {name: {"digest": digest} for name, digest in runs.items()},
            "standby": {},
            "version_keys": {},
            "digest": runs["app"],
            "enrolled_at": EARLY,
            "changed_at": LATE,
            "arriving": False,
        }
        row = {
            "id": number,
            "rollout_id": rollout_id,
            "device_id": number,
            "ring": 0,
            "from_digest": OLD,
            "facts": {},
            "parts": {},
            "created_at": EARLY,
            "changed_at": EARLY,
            "live": False,
            "try_number": 1,
            "tries": 2,
            "soak_s": 600,
            "retry_pause_s": 60,
            "installs": 0,
            "before": {},
            "closed": False,
            **attempt,
        }
        rows += [("device", device), ("attempt", row)]
    left = next(n for n, case in enumerate(CASES, 1) if case[0] == "TA-left-later")
    moved = {"id": 1, "device_id": left, "at": "2026-11-01T12:00:00Z", "what": "version changed", "count": 1}
    rows.append(("device_event", {**moved, "detail": ""}))
    for table, row in rows:
        columns = ", ".join(row)
        await connection.execute(
            text(f"INSERT INTO {table} ({columns}) SELECT {columns} FROM jsonb_populate_record(NULL::{table}, :row)"),
            {"row": json.dumps(row)},
        )


async def test_attempts_that_stood_wrong_are_settled_and_listed(databases: Databases) -> None:
    engine = make_engine(databases.empty())

    def upgrade(connection: Connection) -> None:
        alembic.command.upgrade(alembic_config(connection), "0010")

    async with engine.begin() as connection:
        await connection.run_sync(upgrade)
        await fill(connection)
    await migrate(engine)
    async with engine.connect() as connection:
        settled = {row["serial"]: row for row in await list_settlements(connection)}
        query = "SELECT serial, attempt.* FROM attempt JOIN device ON device.id = device_id ORDER BY attempt.id"
        rows = {row["serial"]: row for row in (await connection.execute(text(query))).mappings()}
        told = await connection.scalar(text("SELECT count(*) FROM attempt_event WHERE detail LIKE 'settled after%'"))
        journalled = (await connection.execute(text("SELECT subject FROM journal"))).scalars().all()
    for serial, _, _, before, then in CASES:
        row = rows[serial]
        assert (row["state"], row["reason"]) == then, serial
        changed = then != (before["state"], before.get("reason"))
        assert (serial in settled) is changed, serial
        if changed:
            assert (settled[serial]["state_before"], settled[serial]["state"]) == (before["state"], then[0])
            assert not row["live"] and row["clearance_until"] is None
    assert rows["TA-radio"]["harmed_at"] is None, "it never fell back"
    assert rows["TA-vouched-for-old"]["harmed_why"] == "fell-back"
    assert rows["TA-cleared-again"]["soak_until"] is not None
    assert told == len(settled) == 4 and sorted(journalled) == sorted(settled)
    await engine.dispose()
