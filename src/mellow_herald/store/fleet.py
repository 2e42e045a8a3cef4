"""Enrolment codes, devices, and what their calls say."""

import random
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, TypedDict
from typing import cast as cast_to

from sqlalchemy import (
    BigInteger,
    ColumnElement,
    Select,
    SQLColumnExpression,
    Table,
    and_,
    bindparam,
    cast,
    delete,
    func,
    select,
    text,
    true,
    update,
)
from sqlalchemy.dialects.postgresql import JSONB, insert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.estimate import estimate
from mellow_herald.core.selector import Node
from mellow_herald.core.version import version_key
from mellow_herald.store.database import among, as_rows, fetch_all, fetch_one
from mellow_herald.store.heard import HEARD_AT
from mellow_herald.store.rows import DeviceAttemptEvent, StoredCode, StoredDevice, StoredPulse
from mellow_herald.store.selector_sql import KNOWN_BUILD, RUNS, compile_selector
from mellow_herald.store.tables import AttemptEvent, AttemptRow, CodeSlice, Device, EnrolmentCode, Pulse, Rollout

# As many devices may enrol with one code at the same time without waiting for each other.
CODE_SLICES = 16
# So many devices are looked at to tell how many of all match.
SAMPLE = 10_000


class CalledDevice(TypedDict):
    """A device's last call, None in all where it never called. ``heard_at`` is ``seen_at``, but later by as much as the
    service was away since."""

    seen_at: datetime | None
    heard_at: datetime | None
    boots: int | None
    seq: int | None
    interval_s: int | None
    next_s: int | None
    condition: dict[str, Any] | None
    readings: dict[str, Any] | None


class ShownDevice(StoredDevice, CalledDevice):
    """A device, its last call, and its newest attempt."""

    known_build: bool | None
    runs: str | None
    newest_id: int | None
    newest_rollout_id: int | None
    newest_state: str | None
    newest_reason: str | None
    newest_percent: int | None
    newest_live: bool | None
    newest_waiting_for: str | None
    newest_waiting_until: datetime | None
    newest_plan: dict[str, Any] | None
    newest_rollout: str | None


class VersionDevices(TypedDict):
    """How many devices run a version."""

    board: str
    line: str
    version: str | None
    known_build: bool
    devices: int


async def add_code(connection: AsyncConnection, values: dict[str, Any]) -> StoredCode:
    """Adds an enrolment code."""
    statement = insert(EnrolmentCode).values(**values).returning(EnrolmentCode.__table__)
    (code,) = await fetch_all(connection, statement, StoredCode)
    whole, more = divmod(code["uses"], CODE_SLICES)
    rows = [
        {"code_id": code["id"], "slice": number, "uses": whole + (number < more), "used": 0}
        for number in range(CODE_SLICES)
    ]
    await connection.execute(insert(CodeSlice), rows)
    return code


def _codes() -> Select[Any]:
    in_slices = select(func.sum(CodeSlice.used)).where(CodeSlice.code_id == EnrolmentCode.id).scalar_subquery()
    columns = [column for column in EnrolmentCode.__table__.c if column.name != "used"]
    return select(*columns, (EnrolmentCode.used + func.coalesce(in_slices, 0)).cast(BigInteger).label("used"))


async def list_codes(connection: AsyncConnection) -> list[StoredCode]:
    """All enrolment codes."""
    return await fetch_all(connection, _codes().order_by(EnrolmentCode.id.desc()), StoredCode)


async def find_code(connection: AsyncConnection, code_hash: str) -> StoredCode | None:
    """A code by its hash."""
    return await fetch_one(connection, _codes().where(EnrolmentCode.code_hash == code_hash), StoredCode)


# Built once: a fleet that enrols is in a hurry.
_left = select(CodeSlice.slice).where(CodeSlice.code_id == bindparam("code"), CodeSlice.used < CodeSlice.uses).limit(1)
USE_FREE_SLICE, USE_ANY_SLICE = (
    update(cast_to(Table, CodeSlice.__table__))
    .where(CodeSlice.code_id == bindparam("code"), CodeSlice.slice == one.scalar_subquery())
    .values(used=CodeSlice.used + 1)
    for one in (_left.order_by(func.random()).with_for_update(skip_locked=True), _left.with_for_update())
)
ADD_DEVICE = insert(cast_to(Table, Device.__table__)).on_conflict_do_nothing().returning(Device.id)


async def use_code(connection: AsyncConnection, code_id: int) -> bool:
    """Counts one use of a code; False if there is none left. Others who use it at the same time are waited for only
    where all that is left is in their hands."""
    for use in (USE_FREE_SLICE, USE_ANY_SLICE):
        if (await connection.execute(use, {"code": code_id})).rowcount:
            return True
    return False


async def find_device(connection: AsyncConnection, serial: str, *, lock: bool = False) -> StoredDevice | None:
    """A device by its serial."""
    if "\x00" in serial:  # which PostgreSQL cannot even be asked for
        return None
    statement = select(Device.__table__).where(Device.serial == serial)
    return await fetch_one(connection, statement.with_for_update() if lock else statement, StoredDevice)


async def add_device(connection: AsyncConnection, values: dict[str, Any]) -> int | None:
    """Adds a device; None if its serial came first from elsewhere."""
    done = (await connection.execute(ADD_DEVICE, values)).scalar()
    return None if done is None else int(done)


async def generations(connection: AsyncConnection, ids: Sequence[int] | None = None) -> dict[int, int]:
    """The token generation of every device (or of these) that is admitted or asks to be."""
    # As two arrays: a row for each of a million devices takes ten times as long.
    statement = select(func.array_agg(Device.id), func.array_agg(Device.generation)).where(
        Device.admission.in_(("admitted", "asking"))
    )
    if ids is not None:
        statement = statement.where(Device.id.in_(ids))
    known, generation = (await connection.execute(statement)).one()
    return dict(zip(known or (), generation or (), strict=True))


async def lock_devices(connection: AsyncConnection, ids: Iterable[int]) -> dict[int, StoredDevice]:
    """Devices by id with their board's check-in interval, locked in order of id."""
    rows = await fetch_all(connection, _LOCK_DEVICES, StoredDevice, {"ids": sorted(set(ids))})
    return {row["id"]: row for row in rows}


# Not FOR UPDATE: that would wait for whoever writes a row that refers to the device.
_LOCK_DEVICES = (
    select(Device.__table__).where(Device.id == among("ids")).order_by(Device.id).with_for_update(key_share=True)
)


async def last_pulses(connection: AsyncConnection, ids: Iterable[int]) -> dict[int, StoredPulse]:
    """What these devices' last calls said."""
    rows = await fetch_all(connection, _LAST_PULSES, StoredPulse, {"ids": sorted(set(ids))})
    return {row["device_id"]: row for row in rows}


_LAST_PULSES = select(Pulse.__table__).where(Pulse.device_id == among("ids"))


DEVICE_WORD = (
    "running",
    "standby",
    "version_keys",
    "version",
    "version_key",
    "digest",
    "floor",
    "updater",
    "settings_digest",
    "parts",
    "rescued_at",
    "cloned_at",
    "arriving",
)


async def update_devices(connection: AsyncConnection, rows: Sequence[StoredDevice]) -> None:
    """Writes what devices say they run; each row has ``id``, ``changed_at`` and the columns of ``DEVICE_WORD``."""
    if rows:
        columns = ", ".join(f"{name} = new.{name}" for name in (*DEVICE_WORD, "changed_at", "token_used"))
        await connection.execute(
            text(
                f"UPDATE device SET {columns}"
                " FROM jsonb_populate_recordset(NULL::device, CAST(:rows AS jsonb)) AS new WHERE device.id = new.id"
            ),
            {"rows": as_rows(rows)},
        )


async def name_devices(connection: AsyncConnection, digest: str, version: str) -> None:
    """Devices that run these bytes run this version of ``app``, whatever they say of themselves."""
    key = version_key(version)
    statement = update(Device).where(Device.digest == digest, Device.version.is_distinct_from(version))
    keys = Device.version_keys.op("||")(cast({"app": key.hex()}, JSONB))
    await connection.execute(statement.values(version=version, version_key=key, version_keys=keys))


async def write_pulses(connection: AsyncConnection, rows: Sequence[StoredPulse]) -> None:
    """Writes last calls, at most one row a device, sorted by id so that two writers never wait for each other in
    a circle; an older (boots, seq) never overwrites a newer one."""
    if rows:
        ordered = sorted(rows, key=lambda row: row["device_id"])
        await connection.execute(
            text(
                "INSERT INTO pulse SELECT * FROM jsonb_populate_recordset(NULL::pulse, CAST(:rows AS jsonb))"
                " ON CONFLICT (device_id) DO UPDATE SET seen_at = greatest(pulse.seen_at, excluded.seen_at),"
                " boots = excluded.boots, seq = excluded.seq, interval_s = excluded.interval_s,"
                " next_s = excluded.next_s, condition = excluded.condition, readings = excluded.readings,"
                " odd = coalesce(excluded.odd, pulse.odd)"
                " WHERE (pulse.boots, pulse.seq) <= (excluded.boots, excluded.seq)"
            ),
            {"rows": as_rows(ordered)},
        )


async def forget_pulse(connection: AsyncConnection, device_id: int) -> None:
    """Forgets a device's last call."""
    await connection.execute(delete(Pulse).where(Pulse.device_id == device_id))


async def forget_reports(connection: AsyncConnection, device_id: int) -> None:
    """Forgets by which (boots, seq) a device reported last: whatever it says next is new."""
    statement = update(AttemptRow).where(AttemptRow.device_id == device_id)
    await connection.execute(statement.values(last_boots=None, last_seq=None))


async def touch_pulses(connection: AsyncConnection, ids: Sequence[int], at: datetime) -> None:
    """Notes that these devices called, where nothing else is new."""
    if ids:
        await connection.execute(_TOUCH_PULSES, {"ids": sorted(set(ids)), "at": at})


_TOUCH_PULSES = (
    update(Pulse)
    .where(Pulse.device_id == among("ids"), Pulse.seen_at < bindparam("at"))
    .values(seen_at=bindparam("at"))
)


def _newest_attempt() -> Any:
    return (
        select(
            AttemptRow.id,
            AttemptRow.rollout_id,
            AttemptRow.state,
            AttemptRow.reason,
            AttemptRow.percent,
            AttemptRow.live,
            AttemptRow.waiting_for,
            AttemptRow.waiting_until,
            Rollout.plan,
            Rollout.name.label("rollout"),
        )
        .join(Rollout, Rollout.id == AttemptRow.rollout_id)
        .where(AttemptRow.device_id == Device.id)
        .order_by(AttemptRow.id.desc())
        .limit(1)
        .lateral("newest")
    )


@dataclass(frozen=True, slots=True)
class DeviceOrder:
    """In which order devices are listed: by one of ``SORTED_BY``, or by ``label.KEY``."""

    by: str = "serial"
    descending: bool = False


# So many devices are sorted as soon as found.
FEW = 20_000
SORTED_BY: dict[str, SQLColumnExpression[Any]] = {
    "serial": Device.serial,
    "board": Device.board,
    "line": Device.line,
    "hw_rev": Device.hw_rev,
    "version": Device.version_key,
    "floor": Device.floor,
    "admission": Device.admission,
    "seen": Pulse.seen_at,
    "battery": Pulse.condition["battery"].as_integer(),
}


async def list_devices(
    connection: AsyncConnection,
    where: Node | None = None,
    *,
    now: datetime | None = None,
    after: str | None = None,
    limit: int = 100,
    order: DeviceOrder = DeviceOrder(),
) -> list[ShownDevice]:
    """Devices by serial, with their pulse and newest attempt (columns ``newest_*``). By another ``order`` what comes
    ``after`` is a place in the list: the number of devices before it."""
    if order != DeviceOrder():
        condition = None if where is None else compile_selector(where, now)
        ids = await _ordered_ids(connection, condition, order, int(after or 0), limit)
        rows = await _shown_devices(connection, Device.id.in_(ids), len(ids))
        place = {one: at for at, one in enumerate(ids)}
        return sorted(rows, key=lambda row: place[row["id"]])
    rows, _ = await find_devices(connection, where, now=now, after=after, limit=limit)
    return rows


async def find_devices(
    connection: AsyncConnection,
    where: Node | None,
    *,
    now: datetime | None,
    after: str | None = None,
    limit: int,
    frequent: bool = False,
) -> tuple[list[ShownDevice], int | None]:
    """Devices by serial as :func:`list_devices` shows them, and how many match, where that came out by the way. In a
    large fleet it tells to know beforehand that those that match are ``frequent``."""
    later = [] if after is None else [Device.serial > after]
    if where is None or frequent:
        # Some hundreds are looked at until enough are found.
        matching = [] if where is None else [compile_selector(where, now, one_by_one=True)]
        return await _shown_devices(connection, and_(true(), *matching, *later), limit), None
    wanted = and_(true(), compile_selector(where, now), *later)
    few, found = await _few(connection, wanted, limit)
    rows = await _shown_devices(connection, wanted if few is None else Device.id.in_(few), limit)
    return rows, None if few is None else found


async def _few(connection: AsyncConnection, where: ColumnElement[bool], limit: int) -> tuple[list[int] | None, int]:
    """The first of the devices that match, and how many do, if these are few; None if they are many. What is rare is
    looked for in the way that fits it: to go through all serials in order until enough are found takes seconds."""
    found = select(Device.id, Device.serial).where(where).limit(FEW + 1).subquery()
    statement = select(found.c.id, func.count().over().label("found")).order_by(found.c.serial).limit(limit)
    rows = (await connection.execute(statement)).all()
    count = rows[0].found if rows else 0
    return (None if count > FEW else [row.id for row in rows]), count


async def _ordered_ids(
    connection: AsyncConnection, where: ColumnElement[bool] | None, order: DeviceOrder, before: int, limit: int
) -> list[int]:
    """The devices at one place of an order; looked up alone, since what is shown of each costs far more."""
    column = SORTED_BY[order.by] if order.by in SORTED_BY else Device.labels[order.by.removeprefix("label.")].astext
    direction = column.desc().nulls_last() if order.descending else column.asc().nulls_last()
    statement = select(Device.id).outerjoin(Pulse, Pulse.device_id == Device.id).order_by(direction, Device.serial)
    if where is not None:
        statement = statement.where(where)
    return list(await connection.scalars(statement.offset(before).limit(limit)))


async def _shown_devices(connection: AsyncConnection, where: ColumnElement[bool], limit: int) -> list[ShownDevice]:
    newest = _newest_attempt()
    statement = (
        select(
            Device.__table__,
            KNOWN_BUILD.label("known_build"),
            RUNS.label("runs"),
            Pulse.seen_at,
            HEARD_AT.label("heard_at"),
            Pulse.boots,
            Pulse.seq,
            Pulse.interval_s,
            Pulse.next_s,
            Pulse.condition,
            Pulse.readings,
            *(column.label(f"newest_{column.name}") for column in newest.c),
        )
        .outerjoin(Pulse, Pulse.device_id == Device.id)
        .outerjoin(newest, text("true"))
        .where(where)
        .order_by(Device.serial)
        .limit(limit)
    )
    return await fetch_all(connection, statement, ShownDevice)


async def count_devices(connection: AsyncConnection, where: Node | None = None, now: datetime | None = None) -> int:
    """How many devices match."""
    statement = select(func.count()).select_from(Device)
    if where is not None:
        statement = statement.where(compile_selector(where, now))
    return int(await connection.scalar(statement) or 0)


async def estimate_devices(connection: AsyncConnection, where: Node, now: datetime, all_devices: int) -> int | None:
    """About how many of a large fleet of so many devices match, by devices picked at random; None if it are too few to
    tell that way."""
    newest = int(await connection.scalar(select(func.max(Device.id))) or 0)
    # The same ones each time: what is looked at again is not to tell another number.
    picked = random.Random(newest).sample(range(1, newest + 1), min(SAMPLE, newest))
    matching = func.count().filter(compile_selector(where, now, one_by_one=True)).label("matching")
    statement = select(func.count().label("there"), matching).where(Device.id == among("picked"))
    row = (await connection.execute(statement, {"picked": picked})).one()
    return estimate(row.matching, row.there, all_devices)


async def timeline(connection: AsyncConnection, attempt_id: int, limit: int = 200) -> list[DeviceAttemptEvent]:
    """What happened in an attempt, newest first."""
    statement = (
        select(AttemptEvent.__table__, AttemptRow.rollout_id)
        .join(AttemptRow, AttemptRow.id == AttemptEvent.attempt_id)
        .where(AttemptEvent.attempt_id == attempt_id)
        .order_by(AttemptEvent.id.desc())
        .limit(limit)
    )
    return await fetch_all(connection, statement, DeviceAttemptEvent)


async def list_behind(connection: AsyncConnection, gateway: str, limit: int) -> list[str]:
    """The serials of devices that reach the network through a gateway."""
    statement = select(Device.serial).where(Device.gateway == gateway).order_by(Device.serial).limit(limit)
    return list((await connection.execute(statement)).scalars())


async def count_presence(
    connection: AsyncConnection, now: datetime, late: int, offline: int, where: Node | None = None
) -> dict[str, int]:
    """How many admitted devices (or those of them that match) are online, late, offline (after so many missed
    check-ins) and never seen."""
    missed = func.extract("epoch", now - HEARD_AT) / Pulse.interval_s
    counted: dict[str, ColumnElement[int]] = {
        "never-seen": func.count().filter(Pulse.seen_at.is_(None)),
        "offline": func.count().filter(missed > offline),
        "late": func.count().filter(missed > late, missed <= offline),
        "online": func.count().filter(missed <= late),
    }
    statement = (
        select(*(column.label(name) for name, column in counted.items()))
        .select_from(Device)
        .outerjoin(Pulse, Pulse.device_id == Device.id)
        .where(Device.admission == "admitted")
    )
    if where is not None:
        statement = statement.where(compile_selector(where, now))
    return dict((await connection.execute(statement)).mappings().one())


async def count_versions(
    connection: AsyncConnection, where: Node | None = None, now: datetime | None = None
) -> list[VersionDevices]:
    """How many admitted devices (or those of them that match) run which version on which board and line."""
    known = KNOWN_BUILD.label("known_build")
    inner = (
        select(Device.board, Device.line, Device.version, Device.version_key, known)
        .where(Device.admission == "admitted", true() if where is None else compile_selector(where, now))
        .subquery()
    )
    statement = (
        select(inner.c.board, inner.c.line, inner.c.version, inner.c.known_build, func.count().label("devices"))
        .group_by(inner.c.board, inner.c.line, inner.c.version, inner.c.version_key, inner.c.known_build)
        .order_by(inner.c.board, inner.c.line, inner.c.version_key.desc())
    )
    return await fetch_all(connection, statement, VersionDevices)
