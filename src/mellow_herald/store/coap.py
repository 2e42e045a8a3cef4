"""Devices that speak CoAP: their secrets, registrations, and what their update object tells."""

from collections.abc import Sequence
from datetime import datetime
from typing import Any, TypedDict

from sqlalchemy import case, func, select, text, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.store.database import among, fetch_all, fetch_one
from mellow_herald.store.history import add_event
from mellow_herald.store.rows.coap import StoredCoapDevice
from mellow_herald.store.tables import AttemptRow, CoapDevice, Device, Release, Rollout

# Sequence numbers that may have been used after a backup was taken.
AFTER_RESTORE = 1 << 20
STILL_THERE = text("SELECT 1")
NOBODY: dict[str, Any] = {"location": None, "address": None, "expires_at": None}


class ShownCoapDevice(StoredCoapDevice):
    """A device that speaks CoAP, with who it is."""

    serial: str
    board: str
    line: str
    hw_rev: int
    admission: str


class CoapAttempt(TypedDict):
    """What is to be brought to a device: its live attempt, and the manifest of the release."""

    id: int
    try_number: int
    state: str
    manifest: str
    rollout_id: int


class CoapTarget(TypedDict):
    """What a forecast goes by of a device that speaks CoAP."""

    serial: str
    registered: bool
    protocols: list[int]
    delivery: int | None


def _shown() -> Any:
    who = (Device.serial, Device.board, Device.line, Device.hw_rev, Device.admission)
    return select(CoapDevice.__table__, *who).join(Device, Device.id == CoapDevice.device_id)


async def find_coap(
    connection: AsyncConnection,
    *,
    device_id: int | None = None,
    serial: str | None = None,
    location: str | None = None,
) -> ShownCoapDevice | None:
    """The device of this id, of this serial, or that is registered at this location."""
    statement = _shown()
    if device_id is not None:
        statement = statement.where(CoapDevice.device_id == device_id)
    elif serial is not None:
        statement = statement.where(Device.serial == serial)
    else:
        statement = statement.where(CoapDevice.location == location)
    row = await fetch_one(connection, statement, ShownCoapDevice)
    return None if row is None else ShownCoapDevice(**row)


async def list_coap(
    connection: AsyncConnection, *, after: str | None = None, limit: int = 100
) -> list[ShownCoapDevice]:
    """Devices that speak CoAP, by serial."""
    statement = _shown().order_by(Device.serial).limit(limit)
    if after is not None:
        statement = statement.where(Device.serial > after)
    return await fetch_all(connection, statement, ShownCoapDevice)


async def list_registered(connection: AsyncConnection) -> list[ShownCoapDevice]:
    """Those that are registered."""
    statement = _shown().where(CoapDevice.location.is_not(None)).order_by(CoapDevice.device_id)
    return [ShownCoapDevice(**row) for row in await fetch_all(connection, statement, ShownCoapDevice)]


async def list_targets(connection: AsyncConnection, ids: Sequence[int]) -> list[CoapTarget]:
    """Those of these devices that speak CoAP, by serial."""
    registered = CoapDevice.location.is_not(None).label("registered")
    statement = (
        select(Device.serial, registered, CoapDevice.protocols, CoapDevice.delivery)
        .join(Device, Device.id == CoapDevice.device_id)
        .where(CoapDevice.device_id == among("ids"), Device.coap_lifetime_s.is_not(None))
        .order_by(Device.serial)
    )
    return await fetch_all(connection, statement, CoapTarget, {"ids": list(ids)})


async def registered_ids(connection: AsyncConnection) -> set[int]:
    """The admitted devices that are registered."""
    statement = (
        select(CoapDevice.device_id)
        .join(Device, Device.id == CoapDevice.device_id)
        .where(CoapDevice.location.is_not(None), Device.admission == "admitted")
    )
    return set((await connection.execute(statement)).scalars())


async def count_coap(connection: AsyncConnection) -> tuple[int, int]:
    """How many devices speak CoAP, and how many of them are registered."""
    row = (await connection.execute(select(func.count(), func.count(CoapDevice.location)))).one()
    return row[0], row[1]


async def put_coap(connection: AsyncConnection, device_id: int, **values: Any) -> None:
    """Writes what is known of a device that speaks CoAP; what is not named stays."""
    statement = insert(CoapDevice).values(device_id=device_id, **{"objects": [], "protocols": [], **values})
    changed = values or {"device_id": device_id}
    await connection.execute(statement.on_conflict_do_update(index_elements=["device_id"], set_=changed))


async def change_coap(connection: AsyncConnection, device_id: int, **values: Any) -> None:
    """Writes columns."""
    await connection.execute(update(CoapDevice).where(CoapDevice.device_id == device_id).values(**values))


async def note_trouble(connection: AsyncConnection, device_id: int, what: str, at: datetime) -> None:
    """Notes what went wrong last; the device's history keeps it, too, unless it is what went wrong before."""
    before = select(CoapDevice.trouble).where(CoapDevice.device_id == device_id).with_for_update()
    if (await connection.execute(before)).scalar_one_or_none() not in (None, what):
        await add_event(connection, device_id, at, "trouble by CoAP", what)
    await change_coap(connection, device_id, trouble=what, trouble_at=at)


async def mark_coap(connection: AsyncConnection, device_id: int, lifetime_s: int, at: datetime) -> None:
    """Notes with the device itself how often it is heard at least."""
    values = {"coap_lifetime_s": lifetime_s, "changed_at": at}
    await connection.execute(update(Device).where(Device.id == device_id).values(**values))


async def reserve(connection: AsyncConnection, device_id: int, count: int) -> int:
    """Takes so many sequence numbers of OSCORE; returns the first. None of them is ever taken again."""
    statement = update(CoapDevice).where(CoapDevice.device_id == device_id).values(sent=CoapDevice.sent + count)
    return int((await connection.execute(statement.returning(CoapDevice.sent))).scalar_one()) - count


async def next_word(
    connection: AsyncConnection, device_id: int, *, starts: int | None = None, restarted: bool = False
) -> tuple[int, int]:
    """Numbers the next word that is said for a device: how often it has started, and which word since then. A device
    that does not tell its ``starts`` is known to have ``restarted`` only where it was expected to."""
    boots = func.greatest(CoapDevice.boots, starts) if starts is not None else CoapDevice.boots + int(restarted)
    seq = case((boots > CoapDevice.boots, 1), else_=CoapDevice.seq + 1)
    statement = update(CoapDevice).where(CoapDevice.device_id == device_id).values(boots=boots, seq=seq)
    row = (await connection.execute(statement.returning(CoapDevice.boots, CoapDevice.seq))).one()
    return row.boots, row.seq


async def end_expired(connection: AsyncConnection, at: datetime) -> list[int]:
    """Ends registrations whose lifetime is over; returns whose."""
    statement = update(CoapDevice).where(CoapDevice.expires_at <= at).values(**NOBODY, gone="lifetime over")
    return [row[0] for row in await connection.execute(statement.returning(CoapDevice.device_id))]


async def current_attempt(connection: AsyncConnection, device_id: int) -> CoapAttempt | None:
    """The live attempt of a device, with what it brings."""
    release_id = func.coalesce(AttemptRow.back_release_id, AttemptRow.release_id, Rollout.release_id)
    statement = (
        select(
            AttemptRow.id,
            AttemptRow.try_number,
            AttemptRow.state,
            AttemptRow.rollout_id,
            Release.manifest_digest.label("manifest"),
        )
        .join(Rollout, Rollout.id == AttemptRow.rollout_id)
        .join(Release, Release.id == release_id)
        .where(AttemptRow.device_id == device_id, AttemptRow.live)
        .order_by(AttemptRow.id.desc())
        .limit(1)
    )
    return await fetch_one(connection, statement, CoapAttempt)


async def renew_after_restore(connection: AsyncConnection) -> None:
    """What may have been used after the backup is not used again, and who was registered registers anew."""
    values = {**NOBODY, "sent": CoapDevice.sent + AFTER_RESTORE, "gone": "restored from a backup", "ticket": None}
    await connection.execute(update(CoapDevice).values(**values))
