"""Devices on narrow radio, and the sessions in which groups of them are sent a release."""

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import delete, func, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import State
from mellow_herald.store.database import fetch_all, fetch_one
from mellow_herald.store.rows.radio import (
    StoredRadioDevice,
    StoredRadioMember,
    StoredRadioNetwork,
    StoredRadioSession,
    StoredRadioWish,
)
from mellow_herald.store.tables import (
    AttemptRow,
    Device,
    RadioDevice,
    RadioMember,
    RadioNetworkRow,
    RadioSession,
    RadioWish,
    Release,
    ReleaseImage,
)

NETWORK = 1
WANTED = (State.QUEUED.value, State.OFFERED.value, State.DOWNLOADING.value)


class ShownRadioDevice(StoredRadioDevice):
    """A device on narrow radio with its serial, and whether it can take part in a session."""

    serial: str
    radio: str
    admission: str


class ShownRadioMember(StoredRadioMember):
    """A member of a session with its serial, how often it speaks, and where its attempt stands by now."""

    serial: str
    eui: str
    interval_s: int
    state: str
    reason: str | None
    try_number: int


class Wished(StoredRadioWish):
    """A device that wishes for a release, with what its session goes by."""

    serial: str
    eui: str
    interval_s: int
    clock_at: datetime | None
    root_key: bytes | None
    lorawan: str
    packages: dict[str, int | None]
    most_fragment: int | None
    session_count: int
    lost: float | None
    burst: float | None


# Devices ------------------------------------------------------------------------------------------------------------


async def find_by_eui(connection: AsyncConnection, eui: str) -> StoredRadioDevice | None:
    """The device of this EUI, locked."""
    statement = select(RadioDevice.__table__).where(RadioDevice.eui == eui).with_for_update()
    return await fetch_one(connection, statement, StoredRadioDevice)


async def radio_of(connection: AsyncConnection, device_id: int) -> StoredRadioDevice | None:
    """What is on record of a device's radio."""
    statement = select(RadioDevice.__table__).where(RadioDevice.device_id == device_id)
    return await fetch_one(connection, statement, StoredRadioDevice)


async def list_radio_devices(
    connection: AsyncConnection, *, after: str | None = None, limit: int = 100, serials: Iterable[str] | None = None
) -> list[ShownRadioDevice]:
    """Devices on narrow radio, by serial."""
    statement = (
        select(RadioDevice.__table__, Device.serial, Device.radio, Device.admission)
        .join(Device, Device.id == RadioDevice.device_id)
        .order_by(Device.serial)
        .limit(limit)
    )
    if after is not None:
        statement = statement.where(Device.serial > after)
    if serials is not None:
        statement = statement.where(Device.serial.in_(sorted(set(serials))))
    return await fetch_all(connection, statement, ShownRadioDevice)


async def count_radio_devices(connection: AsyncConnection) -> dict[str, int]:
    """How many devices are on narrow radio, by whether they can take part in a session."""
    statement = select(Device.radio, func.count()).where(Device.radio.is_not(None)).group_by(Device.radio)
    return {str(row[0]): row[1] for row in await connection.execute(statement)}


async def put_radio(connection: AsyncConnection, device_id: int, values: Mapping[str, Any]) -> None:
    """Writes what is known of a device's radio; what is not named stays."""
    statement = insert(RadioDevice).values(device_id=device_id, **values)
    await connection.execute(statement.on_conflict_do_update(index_elements=["device_id"], set_=dict(values)))


async def mark_radio(
    connection: AsyncConnection, device_id: int, radio: str, region: str, interval_s: int, at: datetime
) -> None:
    """Notes with the device itself what rules for rollouts ask."""
    values = {"radio": radio, "radio_region": region, "radio_interval_s": interval_s, "changed_at": at}
    await connection.execute(update(Device).where(Device.id == device_id).values(**values))


async def change_radio(connection: AsyncConnection, device_id: int, **values: Any) -> None:
    """Writes columns of a device's radio."""
    await connection.execute(update(RadioDevice).where(RadioDevice.device_id == device_id).values(**values))


async def owner_of_eui(connection: AsyncConnection, eui: str) -> str | None:
    """The serial of the device with this EUI."""
    statement = (
        select(Device.serial).join(RadioDevice, RadioDevice.device_id == Device.id).where(RadioDevice.eui == eui)
    )
    return await connection.scalar(statement)


# Wishes -------------------------------------------------------------------------------------------------------------


async def put_wish(connection: AsyncConnection, wish: Mapping[str, Any]) -> None:
    """Notes that a device was told to fetch a release; how many sessions it had for it stays with the same try."""
    statement = insert(RadioWish).values(**wish, sessions=0)
    new = statement.excluded
    same = (RadioWish.attempt_id == new.attempt_id) & (RadioWish.try_number == new.try_number)
    changed: dict[str, Any] = {name: getattr(new, name) for name in wish if name != "device_id"}
    changed["sessions"] = 0
    await connection.execute(statement.on_conflict_do_update(index_elements=["device_id"], set_=changed, where=~same))


async def drop_wish(connection: AsyncConnection, device_id: int) -> None:
    """The device wishes for nothing (any more)."""
    await connection.execute(delete(RadioWish).where(RadioWish.device_id == device_id))


async def count_sessions(connection: AsyncConnection, devices: Iterable[int]) -> None:
    """One more session was planned with these devices."""
    statement = update(RadioWish).where(RadioWish.device_id.in_(sorted(devices)))
    await connection.execute(statement.values(sessions=RadioWish.sessions + 1))


async def list_wishes(connection: AsyncConnection) -> list[Wished]:
    """Who wishes for what, as long as its attempt is still to be fetched for."""
    statement = (
        select(
            RadioWish.__table__,
            Device.serial,
            *(
                getattr(RadioDevice, name)
                for name in (
                    "eui",
                    "interval_s",
                    "clock_at",
                    "root_key",
                    "lorawan",
                    "packages",
                    "most_fragment",
                    "session_count",
                    "lost",
                    "burst",
                )
            ),
        )
        .join(Device, Device.id == RadioWish.device_id)
        .join(RadioDevice, RadioDevice.device_id == RadioWish.device_id)
        .join(AttemptRow, AttemptRow.id == RadioWish.attempt_id)
        .where(
            AttemptRow.live,
            AttemptRow.state.in_(("offered", "downloading")),
            AttemptRow.try_number == RadioWish.try_number,
        )
        .order_by(RadioWish.device_id)
    )
    return await fetch_all(connection, statement, Wished)


async def slowest_interval(connection: AsyncConnection, rollout_id: int) -> int | None:
    """How seldom (s) the slowest of a rollout's devices on narrow radio speaks that are still to be fetched for."""
    statement = (
        select(func.max(RadioDevice.interval_s))
        .join(AttemptRow, AttemptRow.device_id == RadioDevice.device_id)
        .where(AttemptRow.rollout_id == rollout_id, AttemptRow.live, AttemptRow.state.in_(WANTED))
    )
    return await connection.scalar(statement)


async def release_parts(connection: AsyncConnection, manifest: str) -> tuple[bytes, bytes, list[str]] | None:
    """What a release file is put together from: authentication, manifest, and the digest of each image."""
    statement = select(Release.id, Release.authentication, Release.manifest).where(Release.manifest_digest == manifest)
    row = (await connection.execute(statement)).one_or_none()
    if row is None:
        return None
    images = select(ReleaseImage.digest, func.min(ReleaseImage.position)).where(ReleaseImage.release_id == row.id)
    found = await connection.execute(images.group_by(ReleaseImage.digest).order_by(func.min(ReleaseImage.position)))
    return row.authentication, row.manifest, [one.digest for one in found]


# Sessions -----------------------------------------------------------------------------------------------------------


async def add_session(
    connection: AsyncConnection, values: Mapping[str, Any], members: Sequence[Mapping[str, Any]]
) -> int:
    """Plans a session with its members; returns its id."""
    session_id = int(
        (await connection.execute(insert(RadioSession).values(**values).returning(RadioSession.id))).scalar_one()
    )
    await add_members(connection, session_id, members)
    return session_id


async def add_members(connection: AsyncConnection, session_id: int, members: Sequence[Mapping[str, Any]]) -> None:
    """Takes devices into a session; each gets the session number that it has not had yet."""
    empty = {
        "in_group": False,
        "has_session": False,
        "has_fragments": False,
        "problem": "",
        "received": 0,
        "complete": False,
    }
    rows = [{"session_id": session_id, **empty, **one} for one in members]
    if rows:
        await connection.execute(insert(RadioMember), rows)
        for one in members:
            await change_radio(connection, one["device_id"], session_count=one["session_count"])


async def list_sessions(
    connection: AsyncConnection,
    *,
    rollout_id: int | None = None,
    session_id: int | None = None,
    under_way: bool = False,
    lock: bool = False,
) -> list[StoredRadioSession]:
    """Sessions in the order in which they were planned."""
    statement = select(RadioSession.__table__).order_by(RadioSession.id)
    if rollout_id is not None:
        statement = statement.where(RadioSession.rollout_id == rollout_id)
    if session_id is not None:
        statement = statement.where(RadioSession.id == session_id)
    if under_way:
        statement = statement.where(RadioSession.state != "ended")
    if lock:
        statement = statement.with_for_update()
    return await fetch_all(connection, statement, StoredRadioSession)


async def change_session(connection: AsyncConnection, session_id: int, **values: Any) -> None:
    """Writes columns of a session."""
    await connection.execute(update(RadioSession).where(RadioSession.id == session_id).values(**values))


async def list_members(connection: AsyncConnection, session_id: int) -> list[ShownRadioMember]:
    """The members of a session, by serial."""
    statement = (
        select(
            RadioMember.__table__,
            Device.serial,
            RadioDevice.eui,
            RadioDevice.interval_s,
            AttemptRow.state,
            AttemptRow.reason,
            AttemptRow.try_number,
        )
        .join(Device, Device.id == RadioMember.device_id)
        .join(RadioDevice, RadioDevice.device_id == RadioMember.device_id)
        .join(AttemptRow, AttemptRow.id == RadioMember.attempt_id)
        .where(RadioMember.session_id == session_id)
        .order_by(Device.serial)
    )
    return await fetch_all(connection, statement, ShownRadioMember)


async def member_of(connection: AsyncConnection, device_id: int) -> tuple[StoredRadioSession, StoredRadioMember] | None:
    """The newest session that a device is a member of, and how far it is in that."""
    statement = select(RadioMember.__table__).where(RadioMember.device_id == device_id)
    member = await fetch_one(
        connection, statement.order_by(RadioMember.session_id.desc()).limit(1).with_for_update(), StoredRadioMember
    )
    if member is None:
        return None
    (session,) = await list_sessions(connection, session_id=member["session_id"])
    return session, member


async def change_member(connection: AsyncConnection, session_id: int, device_id: int, **values: Any) -> None:
    """Writes columns of a member."""
    statement = update(RadioMember).where(RadioMember.session_id == session_id, RadioMember.device_id == device_id)
    await connection.execute(statement.values(**values))


async def newest_address(connection: AsyncConnection) -> int | None:
    """The address of the group that was made last."""
    return await connection.scalar(select(RadioSession.address).order_by(RadioSession.id.desc()).limit(1))


# The network --------------------------------------------------------------------------------------------------------


async def network_row(connection: AsyncConnection) -> StoredRadioNetwork | None:
    """How far the radio network was followed."""
    statement = select(RadioNetworkRow.__table__).where(RadioNetworkRow.id == NETWORK)
    return await fetch_one(connection, statement, StoredRadioNetwork)


async def put_network(connection: AsyncConnection, **values: Any) -> None:
    """Notes how far the radio network was followed, or why it cannot be."""
    first = {"url": "", "uplinks": 0, "region": "", "trouble": "", **values}
    statement = insert(RadioNetworkRow).values(id=NETWORK, **first)
    await connection.execute(statement.on_conflict_do_update(index_elements=["id"], set_=values))
