"""The invariants of ``docs/reliability.md``, held against the database and the devices' flash."""

import asyncio
from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select, text
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import AT_RISK, FETCHING, State
from mellow_herald.core.digest import sha256_hex
from mellow_herald.core.journal import Chain
from mellow_herald.sim.fleet import chip_path
from mellow_herald.sim.hardware import running_image
from mellow_herald.sim.sensing import own_number, weight_at
from mellow_herald.store.database import make_engine
from mellow_herald.store.feed import read_chain
from mellow_herald.store.tables import AttemptEvent, AttemptRow, Device, JournalRow, RingRow, Rollout
from tests.harness.flight import Flight

# What is looked at, by its number in the table of the design, and what it says.
INVARIANTS = {
    1: "nothing is granted once a halt is committed",
    2: "the pace holds",
    3: "every device is accounted for, in one live attempt at most",
    4: "what was acknowledged is kept",
    6: "every device can boot",
    7: "nothing runs that was not published",
    9: "the journal verifies, and says who and why",
    10: "no answer 5xx but 503 with Retry-After",
    11: "it comes to an end, or says what it waits for",
    13: "what went wrong stays visible",
    17: "flash and attempt agree",
}
SIGNAL, NEAR_KG = "weight", 0.2
# Every value that is kept of that signal, whole or as it has come.
KEPT = text(
    "WITH named AS (SELECT id FROM signal WHERE name = :signal), kept AS ("
    " SELECT device_id, at + each.ms * interval '1 millisecond' AS at, each.value FROM reading_chunk,"
    " unnest(offsets, coalesce(doubles, vals::float8[])) AS each (ms, value) WHERE signal_id IN (SELECT id FROM named)"
    " UNION ALL SELECT device_id, at + each.ms * interval '1 millisecond', each.value FROM reading_landed,"
    " unnest(offsets, vals) AS each (ms, value) WHERE signal_id IN (SELECT id FROM named))"
    " SELECT serial, coalesce((clock.cost ->> 'sent')::bigint, 0) AS sent, kept.at, kept.value FROM kept"
    " JOIN device ON device.id = kept.device_id JOIN reading_clock clock USING (device_id) ORDER BY serial, kept.at"
)


@dataclass(frozen=True, slots=True)
class Expected:
    """What a trial was about: the rollout, the version it brings and the other ones that may be left, how much harm was
    seen of it on the way at most, and what the service itself said wrongly; ``restored``: a backup was put back."""

    rollout_id: int
    versions: tuple[str, ...]
    pace: Mapping[str, int]
    harm_seen: int
    bare: list[str]
    ended: bool
    unaccounted: str
    restored: bool


def audit(flight: Flight, url: str, expected: Expected) -> dict[int, str]:
    """What is wrong with each invariant; nothing where it holds."""
    return asyncio.run(_audit(flight, url, expected))


async def _audit(flight: Flight, url: str, expected: Expected) -> dict[int, str]:
    engine = make_engine(url)
    try:
        async with engine.connect() as connection:
            wrong = dict.fromkeys(INVARIANTS, "")
            wrong[1] = await _granted_after_halt(connection)
            wrong[2] = await pace_broken(connection, expected.rollout_id, expected.pace)
            wrong[3] = expected.unaccounted or await _unaccounted(connection)
            wrong[9] = await _journal(connection)
            wrong[10] = "; ".join(expected.bare[:3])
            wrong[11] = "" if expected.ended else await _stands(connection, expected.rollout_id)
            wrong[13] = await _harm_lowered(connection, expected)
            wrong |= await _flash(flight, connection, expected)
            wrong[4] = wrong[4] or await _readings(connection, restored=expected.restored)
            return wrong
    finally:
        await engine.dispose()


async def _granted_after_halt(connection: AsyncConnection) -> str:
    asked = text(
        "SELECT attempt.id FROM attempt JOIN rollout ON rollout.id = attempt.rollout_id"
        " WHERE rollout.state = 'halted' AND attempt.clearance > rollout.halt_number"
    )
    return _some("attempts with a clearance after the halt", (await connection.scalars(asked)).all())


async def pace_broken(connection: AsyncConnection, rollout_id: int, pace: Mapping[str, int]) -> str:
    """Where an order was given beyond the pace: the timelines, gone through in the order in which they were written.

    A device that goes on by its own word (after it was taken for silent, say) counts again at once, and may bring the
    count above the pace; no order is given then.
    """
    moves = await connection.execute(
        select(AttemptEvent.attempt_id, AttemptEvent.what, AttemptEvent.state)
        .join(AttemptRow, AttemptRow.id == AttemptEvent.attempt_id)
        .where(AttemptEvent.state.is_not(None), AttemptEvent.what != "late word", AttemptRow.rollout_id == rollout_id)
        .order_by(AttemptEvent.id)
    )
    states: dict[int, str | None] = {}
    under_way: Counter[str] = Counter()
    for moved in moves.all():
        for kind, among in (("downloading", FETCHING), ("at risk", AT_RISK)):
            under_way[kind] += (moved.state in among) - (states.get(moved.attempt_id) in among)
        states[moved.attempt_id] = moved.state
        beyond = [kind for kind in pace if under_way[kind] > pace[kind]]
        if moved.what == "order" and beyond:
            return f"{under_way} with an order to attempt {moved.attempt_id}, pace {dict(pace)}"
    return ""


async def _unaccounted(connection: AsyncConnection) -> str:
    rows = await connection.execute(
        text(
            "SELECT r.id, count(*) AS open FROM rollout r JOIN attempt a ON a.rollout_id = r.id"
            " WHERE r.ended_at IS NOT NULL AND NOT a.closed GROUP BY 1"
        )
    )
    for row in rows.all():
        return f"rollout {row.id} has ended with {row.open} open attempts"
    twice = await connection.scalars(text("SELECT device_id FROM attempt WHERE live GROUP BY 1 HAVING count(*) > 1"))
    return _some("devices in two live attempts", twice.all())


async def _journal(connection: AsyncConnection) -> str:
    chain = Chain()
    async for link, hashed, entry in read_chain(connection):
        if not chain.follows(link, hashed, entry):
            return f"link {link} does not follow"
    unexplained = await connection.scalars(
        select(JournalRow.what).where((JournalRow.who == "") | (JournalRow.why == ""))
    )
    return _some("entries without who or why", unexplained.all())


async def _stands(connection: AsyncConnection, rollout_id: int) -> str:
    state = await connection.scalar(select(Rollout.state).where(Rollout.id == rollout_id))
    words = await connection.scalars(select(RingRow.stands_why).where(RingRow.rollout_id == rollout_id))
    said = [word for word in words if word]
    return "" if said else f"it is {state} and says nothing of what it waits for"


async def _harm_lowered(connection: AsyncConnection, expected: Expected) -> str:
    ever = await connection.scalar(
        text("SELECT count(*) FROM attempt WHERE rollout_id = :id AND first_bad_at IS NOT NULL"),
        {"id": expected.rollout_id},
    )
    return "" if (ever or 0) >= expected.harm_seen else f"{expected.harm_seen} were bad, {ever} are left"


async def _readings(connection: AsyncConnection, *, restored: bool) -> str:
    """Whether all that devices were told is there is there, once, and is theirs."""
    rows = (await connection.execute(KEPT, {"signal": SIGNAL})).all()
    by_device: dict[str, list[Any]] = {}
    for row in rows:
        by_device.setdefault(row.serial, []).append(row)
    if not by_device:
        return "no reading has come"
    lost, strange = [], []
    for serial, kept in by_device.items():
        own = own_number(serial, SIGNAL)
        if len({row.at for row in kept}) < kept[0].sent and not restored:
            lost.append(f"{serial} was told {kept[0].sent} are there, {len(kept)} are")
        strange += [
            f"{serial} {row.value} at {row.at}" for row in kept if abs(row.value - weight_at(own, row.at)) > NEAR_KG
        ]
    return _some("readings that were lost", lost) or _some("readings of somebody else, or at a wrong time", strange)


async def _flash(flight: Flight, connection: AsyncConnection, expected: Expected) -> dict[int, str]:
    """What the chips would boot, beside what the service says (4, 6, 7, 17)."""
    rows = await connection.execute(
        select(AttemptRow.state, AttemptRow.reason, AttemptRow.unasked_at, Device.serial, Device.digest)
        .join(Device, Device.id == AttemptRow.device_id)
        .where(AttemptRow.rollout_id == expected.rollout_id)
    )
    bytes_of = {version: sha256_hex(flight.place.firmware(version).read_bytes()) for version in expected.versions}
    target = bytes_of[expected.versions[0]]
    lost, dead, strange, differ = [], [], [], []
    for row in rows.all():
        version, digest = running_image(chip_path(flight.place.flash, row.serial))
        if version in ("nothing", "recovery"):
            dead.append(row.serial)
        if digest not in bytes_of.values():
            strange.append(row.serial)
        confirmed = row.state == State.CONFIRMED.value
        # Whoever was called off at the end of a rollout, and runs it all the same, is counted as such.
        if digest == target and not confirmed and row.unasked_at is None:
            lost.append(f"{row.serial} runs it and is {row.state} ({row.reason})")
        if (confirmed and digest != target) or digest != row.digest:
            differ.append(f"{row.serial}: {row.state}, flash {version}, said {row.digest}")
    return {
        4: _some("devices whose success was lost", lost),
        6: _some("devices that cannot boot", dead),
        7: _some("devices with something else", strange),
        17: _some("devices where they differ", differ),
    }


def _some(what: str, found: Iterable[Any]) -> str:
    listed = list(found)
    return f"{len(listed)} {what}: {', '.join(map(str, listed[:3]))}" if listed else ""
