"""Enrolment codes, devices, and what their calls say."""

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import ColumnElement, bindparam, delete, func, select, text, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.selector import Node
from mellow_herald.store.database import among, as_rows
from mellow_herald.store.selector_sql import KNOWN_BUILD, RUNS, compile_selector
from mellow_herald.store.tables import AttemptEvent, AttemptRow, Device, EnrolmentCode, Pulse, Rollout

Row = Mapping[str, Any]


async def add_code(connection: AsyncConnection, values: dict[str, Any]) -> Row:
    """Adds an enrolment code."""
    done = await connection.execute(insert(EnrolmentCode).values(**values).returning(EnrolmentCode.__table__))
    return done.mappings().one()


async def list_codes(connection: AsyncConnection) -> list[Row]:
    """All enrolment codes."""
    statement = select(EnrolmentCode.__table__).order_by(EnrolmentCode.id.desc())
    return list((await connection.execute(statement)).mappings())


async def find_code(connection: AsyncConnection, code_hash: str) -> Row | None:
    """A code by its hash, locked until the transaction ends so that its uses are counted right."""
    statement = select(EnrolmentCode.__table__).where(EnrolmentCode.code_hash == code_hash).with_for_update()
    return (await connection.execute(statement)).mappings().first()


async def use_code(connection: AsyncConnection, code_id: int) -> None:
    """Counts one use of a code."""
    statement = update(EnrolmentCode).where(EnrolmentCode.id == code_id)
    await connection.execute(statement.values(used=EnrolmentCode.used + 1))


async def find_device(connection: AsyncConnection, serial: str, *, lock: bool = False) -> Row | None:
    """A device by its serial."""
    statement = select(Device.__table__).where(Device.serial == serial)
    return (await connection.execute(statement.with_for_update() if lock else statement)).mappings().first()


async def add_device(connection: AsyncConnection, values: dict[str, Any]) -> int | None:
    """Adds a device; None if its serial came first from elsewhere."""
    statement = insert(Device).values(**values).on_conflict_do_nothing().returning(Device.id)
    done = (await connection.execute(statement)).scalar()
    return None if done is None else int(done)


async def generations(connection: AsyncConnection) -> dict[int, int]:
    """The token generation of every device that is admitted or asks to be."""
    statement = select(Device.id, Device.generation).where(Device.admission.in_(("admitted", "asking")))
    return {row.id: row.generation for row in await connection.execute(statement)}


async def lock_devices(connection: AsyncConnection, ids: Iterable[int]) -> dict[int, Row]:
    """Devices by id with their board's check-in interval, locked in order of id."""
    rows = await connection.execute(_LOCK_DEVICES, {"ids": sorted(set(ids))})
    return {row["id"]: row for row in rows.mappings()}


# Not FOR UPDATE: that would wait for whoever writes a row that refers to the device.
_LOCK_DEVICES = (
    select(Device.__table__).where(Device.id == among("ids")).order_by(Device.id).with_for_update(key_share=True)
)


async def last_pulses(connection: AsyncConnection, ids: Iterable[int]) -> dict[int, dict[str, Any]]:
    """What these devices' last calls said."""
    rows = await connection.execute(_LAST_PULSES, {"ids": sorted(set(ids))})
    return {row["device_id"]: dict(row) for row in rows.mappings()}


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
    "rescued_at",
    "cloned_at",
    "arriving",
)


async def update_devices(connection: AsyncConnection, rows: Sequence[dict[str, Any]]) -> None:
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


async def write_pulses(connection: AsyncConnection, rows: Sequence[dict[str, Any]]) -> None:
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
                " odd_boots = excluded.odd_boots, odd_seq = excluded.odd_seq"
                " WHERE (pulse.boots, pulse.seq) <= (excluded.boots, excluded.seq)"
            ),
            {"rows": as_rows(ordered)},
        )


async def forget_pulse(connection: AsyncConnection, device_id: int) -> None:
    """Forgets a device's last call."""
    await connection.execute(delete(Pulse).where(Pulse.device_id == device_id))


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


async def list_devices(
    connection: AsyncConnection,
    where: Node | None = None,
    *,
    now: datetime | None = None,
    after: str | None = None,
    limit: int = 100,
) -> list[Row]:
    """Devices by serial, with their pulse and newest attempt (columns ``newest_*``)."""
    newest = _newest_attempt()
    statement = (
        select(
            Device.__table__,
            KNOWN_BUILD.label("known_build"),
            RUNS.label("runs"),
            Pulse.seen_at, Pulse.boots, Pulse.seq, Pulse.interval_s, Pulse.next_s, Pulse.condition, Pulse.readings,
            *(column.label(f"newest_{column.name}") for column in newest.c),
        )
        .outerjoin(Pulse, Pulse.device_id == Device.id)
        .outerjoin(newest, text("true"))
        .order_by(Device.serial)
        .limit(limit)
    )  # fmt: skip
    if where is not None:
        statement = statement.where(compile_selector(where, now))
    if after is not None:
        statement = statement.where(Device.serial > after)
    return list((await connection.execute(statement)).mappings())


async def count_devices(connection: AsyncConnection, where: Node | None = None, now: datetime | None = None) -> int:
    """How many devices match."""
    statement = select(func.count()).select_from(Device)
    if where is not None:
        statement = statement.where(compile_selector(where, now))
    return int(await connection.scalar(statement) or 0)


async def timeline(connection: AsyncConnection, attempt_id: int, limit: int = 200) -> list[Row]:
    """What happened in an attempt, newest first."""
    statement = (
        select(AttemptEvent.__table__, AttemptRow.rollout_id)
        .join(AttemptRow, AttemptRow.id == AttemptEvent.attempt_id)
        .where(AttemptEvent.attempt_id == attempt_id)
        .order_by(AttemptEvent.id.desc())
        .limit(limit)
    )
    return list((await connection.execute(statement)).mappings())


async def list_behind(connection: AsyncConnection, gateway: str, limit: int) -> list[str]:
    """The serials of devices that reach the network through a gateway."""
    statement = select(Device.serial).where(Device.gateway == gateway).order_by(Device.serial).limit(limit)
    return list((await connection.execute(statement)).scalars())


async def count_presence(connection: AsyncConnection, now: datetime, late: int, offline: int) -> dict[str, int]:
    """How many admitted devices are online, late, offline (after so many missed check-ins) and never seen."""
    missed = func.extract("epoch", now - Pulse.seen_at) / Pulse.interval_s
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
    return dict((await connection.execute(statement)).mappings().one())


async def count_versions(connection: AsyncConnection) -> list[Row]:
    """How many admitted devices run which version on which board and line."""
    known = KNOWN_BUILD.label("known_build")
    inner = (
        select(Device.board, Device.line, Device.version, Device.version_key, known)
        .where(Device.admission == "admitted")
        .subquery()
    )
    statement = (
        select(inner.c.board, inner.c.line, inner.c.version, inner.c.known_build, func.count().label("devices"))
        .group_by(inner.c.board, inner.c.line, inner.c.version, inner.c.version_key, inner.c.known_build)
        .order_by(inner.c.board, inner.c.line, inner.c.version_key.desc())
    )
    return list((await connection.execute(statement)).mappings())
