"""Devices on narrow radio, and the sessions in which groups of them are sent a release."""

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import Any, TypedDict

from sqlalchemy import delete, func, select, text, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import State
from mellow_herald.store.database import among, fetch_all, fetch_one
from mellow_herald.store.rows.radio import (
    StoredRadioDevice,
    StoredRadioMember,
    StoredRadioNetwork,
    StoredRadioSession,
)
from mellow_herald.store.tables import (
    AttemptRow,
    Device,
    RadioDevice,
    RadioMember,
    RadioNetworkRow,
    RadioSession,
    RadioWish,
    Rollout,
)

NETWORK = 1
# So many intervals a device is given to say how it stands after a session.
WAITED = 2.5
AFTER_RESTORE = 1000
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


class Listening(TypedDict):
    """What a forecast goes by of a device."""

    serial: str
    interval_s: int
    lost: float | None
    burst: float | None
    most_fragment: int | None


class Expected(TypedDict):
    """A device that a session would have, and what that goes by."""

    device_id: int
    attempt_id: int
    try_number: int
    session_count: int
    interval_s: int
    clock_at: datetime | None
    lost: float | None
    burst: float | None
    most_fragment: int | None


class Placed(StoredRadioMember):
    """A member with what tells whether what it was told still holds: the group's address, and the fragments' size."""

    fragment: int
    address: int


class Wished(Expected):
    """A device that wishes for a release. ``tries`` are the sessions that it was to be in for this, ``sessions`` those
    of them for which it was ready."""

    rollout_id: int
    manifest: str
    sessions: int
    tries: int
    at: datetime
    serial: str
    eui: str
    root_key: bytes | None
    back: bool


# Devices ------------------------------------------------------------------------------------------------------------


async def find_by_eui(connection: AsyncConnection, eui: str) -> StoredRadioDevice | None:
    """The device of this EUI."""
    statement = select(RadioDevice.__table__).where(RadioDevice.eui == eui)
    row = await fetch_one(connection, statement, StoredRadioDevice)
    return None if row is None else StoredRadioDevice(**row)


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


async def listening(connection: AsyncConnection, ids: Sequence[int]) -> list[Listening]:
    """Those of these devices that are on narrow radio."""
    columns = (RadioDevice.interval_s, RadioDevice.lost, RadioDevice.burst, RadioDevice.most_fragment)
    statement = (
        select(Device.serial, *columns)
        .join(Device, Device.id == RadioDevice.device_id)
        .where(RadioDevice.device_id == among("ids"))
        .order_by(Device.serial)
    )
    return await fetch_all(connection, statement, Listening, {"ids": list(ids)})


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


async def next_word(connection: AsyncConnection, device_id: int) -> tuple[int, int, int]:
    """Numbers one more word in a device's stead: boots and number of its own last word, and which one after that."""
    statement = update(RadioDevice).where(RadioDevice.device_id == device_id).values(spoken=RadioDevice.spoken + 1)
    row = (await connection.execute(statement.returning(RadioDevice.boots, RadioDevice.seq, RadioDevice.spoken))).one()
    return row.boots, row.seq, row.spoken


async def owner_of_eui(connection: AsyncConnection, eui: str) -> str | None:
    """The serial of the device with this EUI."""
    statement = (
        select(Device.serial).join(RadioDevice, RadioDevice.device_id == Device.id).where(RadioDevice.eui == eui)
    )
    return await connection.scalar(statement)


# Wishes -------------------------------------------------------------------------------------------------------------


async def put_wish(connection: AsyncConnection, wish: Mapping[str, Any]) -> None:
    """Notes that a device was told to fetch a release."""
    statement = insert(RadioWish).values(**wish)
    same = (RadioWish.attempt_id == wish["attempt_id"]) & (RadioWish.try_number == wish["try_number"])
    changed = {name: value for name, value in wish.items() if name != "device_id"}
    await connection.execute(statement.on_conflict_do_update(index_elements=["device_id"], set_=changed, where=~same))


async def drop_wish(connection: AsyncConnection, device_id: int) -> None:
    """The device wishes for nothing (any more)."""
    await connection.execute(delete(RadioWish).where(RadioWish.device_id == device_id))


async def list_wishes(connection: AsyncConnection) -> list[Wished]:
    """Who wishes for what, as long as its attempt is still to be fetched for."""
    over = (
        select(func.count())
        .select_from(RadioMember)
        .join(RadioSession, RadioSession.id == RadioMember.session_id)
        .where(
            RadioMember.device_id == RadioWish.device_id,
            RadioMember.attempt_id == RadioWish.attempt_id,
            RadioMember.try_number == RadioWish.try_number,
            RadioSession.state == "ended",
        )
        .correlate(RadioWish)
    )
    statement = (
        select(
            RadioWish.__table__,
            over.scalar_subquery().label("tries"),
            over.where(RadioMember.ready.is_(True)).scalar_subquery().label("sessions"),
            Device.serial,
            AttemptRow.back_to.is_not(None).label("back"),
            *(
                getattr(RadioDevice, name)
                for name in (
                    "eui",
                    "interval_s",
                    "clock_at",
                    "root_key",
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


async def expected_devices(connection: AsyncConnection, rollout_id: int) -> list[Expected]:
    """A rollout's devices on narrow radio that its release is still to be brought to, those too that have not asked
    yet; who goes back to something of its own is not among them."""
    statement = (
        select(
            AttemptRow.device_id,
            AttemptRow.id.label("attempt_id"),
            AttemptRow.try_number,
            RadioDevice.session_count,
            RadioDevice.interval_s,
            RadioDevice.clock_at,
            RadioDevice.lost,
            RadioDevice.burst,
            RadioDevice.most_fragment,
        )
        .join(AttemptRow, AttemptRow.device_id == RadioDevice.device_id)
        .where(
            AttemptRow.rollout_id == rollout_id,
            AttemptRow.live,
            AttemptRow.state.in_(WANTED),
            AttemptRow.back_to.is_(None),
        )
        .order_by(AttemptRow.device_id)
    )
    return await fetch_all(connection, statement, Expected)


async def rollout_of(connection: AsyncConnection, attempt_id: int) -> int:
    """The rollout of an attempt."""
    return int(await connection.scalar(select(AttemptRow.rollout_id).where(AttemptRow.id == attempt_id)) or 0)


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
        "missing": None,
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
    member = await fetch_one(connection, statement.order_by(RadioMember.session_id.desc()).limit(1), StoredRadioMember)
    if member is None:
        return None
    (session,) = await list_sessions(connection, session_id=member["session_id"])
    return session, StoredRadioMember(**member)


async def list_complete(connection: AsyncConnection, devices: Iterable[int]) -> set[tuple[int, int, int]]:
    """The tries for which devices have the whole block: device, attempt and try."""
    member = (RadioMember.device_id, RadioMember.attempt_id, RadioMember.try_number)
    statement = select(*member).where(RadioMember.complete, RadioMember.device_id.in_(sorted(set(devices))))
    return {(row[0], row[1], row[2]) for row in await connection.execute(statement)}


async def last_places(
    connection: AsyncConnection, devices: Iterable[int], rollout_id: int, manifest: str
) -> dict[int, Placed]:
    """How far devices came in their newest session for a release, by device."""
    statement = (
        select(RadioMember.__table__, RadioSession.fragment, RadioSession.address)
        .distinct(RadioMember.device_id)
        .join(RadioSession, RadioSession.id == RadioMember.session_id)
        .where(
            RadioMember.device_id.in_(sorted(set(devices))),
            RadioSession.rollout_id == rollout_id,
            RadioSession.manifest == manifest,
        )
        .order_by(RadioMember.device_id, RadioMember.session_id.desc())
    )
    rows = await fetch_all(connection, statement, Placed)
    return {row["device_id"]: row for row in rows}


async def highest_fragment(connection: AsyncConnection, manifest: str, fragment: int) -> int:
    """The number of the last fragment of a block, cut in this way, that was ever sent."""
    highest = func.max(RadioSession.first_number - 1 + RadioSession.sent)
    statement = select(highest).where(RadioSession.manifest == manifest, RadioSession.fragment == fragment)
    return int(await connection.scalar(statement) or 0)


async def was_sent_whole(connection: AsyncConnection, rollout_id: int, manifest: str) -> bool:
    """Whether a session of a rollout has sent all plain fragments of a release."""
    statement = select(RadioSession.id).where(
        RadioSession.rollout_id == rollout_id,
        RadioSession.manifest == manifest,
        RadioSession.first_number == 1,
        RadioSession.sent >= RadioSession.fragments,
    )
    return await connection.scalar(statement.limit(1)) is not None


async def list_unsure(connection: AsyncConnection, now: datetime) -> set[int]:
    """Devices that were in a session that is over, and have not told since then how they stand: they are asked when
    they speak, and waited for, as long as they speak two times."""
    newest = (
        select(RadioMember.device_id, func.max(RadioMember.session_id).label("session_id"))
        .group_by(RadioMember.device_id)
        .subquery()
    )
    seldom = func.make_interval(0, 0, 0, 0, 0, 0, RadioDevice.interval_s * WAITED)
    statement = (
        select(RadioMember.device_id)
        .join(newest, (newest.c.device_id == RadioMember.device_id) & (newest.c.session_id == RadioMember.session_id))
        .join(RadioSession, RadioSession.id == RadioMember.session_id)
        .join(RadioDevice, RadioDevice.device_id == RadioMember.device_id)
        .where(
            RadioSession.state == "ended",
            RadioMember.has_fragments,
            ~RadioMember.complete,
            RadioMember.problem == "",
            func.coalesce(RadioMember.heard_at < RadioSession.ended_at, True),
            RadioSession.ended_at + seldom > now,
        )
    )
    return set(await connection.scalars(statement))


async def change_member(connection: AsyncConnection, session_id: int, device_id: int, **values: Any) -> None:
    """Writes columns of a member."""
    statement = update(RadioMember).where(RadioMember.session_id == session_id, RadioMember.device_id == device_id)
    await connection.execute(statement.values(**values))


async def forget_session_times(connection: AsyncConnection, session_id: int) -> None:
    """A session begins at another time than its members were told."""
    statement = update(RadioMember).where(RadioMember.session_id == session_id, ~RadioMember.complete)
    await connection.execute(statement.values(has_session=False))


async def newest_address(connection: AsyncConnection) -> int | None:
    """The highest address that a group was given."""
    return await connection.scalar(select(func.max(RadioSession.address)))


# The network --------------------------------------------------------------------------------------------------------


async def renew_after_restore(connection: AsyncConnection, at: datetime, last_counter: int) -> None:
    """What devices may have had after the backup is not given again: sessions under way are over, no group's counter
    goes on, and devices' sessions are numbered from far above."""
    under_way = update(RadioSession).where(RadioSession.state != "ended")
    await connection.execute(under_way.values(state="ended", ended_at=at, outcome="restored", answers_until=None))
    await connection.execute(update(RadioSession).values(next_counter=last_counter))
    await connection.execute(update(RadioDevice).values(session_count=RadioDevice.session_count + AFTER_RESTORE))


STILL_THERE = text("SELECT 1")


async def cleared_in_halted(connection: AsyncConnection) -> list[tuple[int, str]]:
    """Devices on narrow radio, with their EUI, that have leave to switch from a rollout that is halted."""
    statement = (
        select(AttemptRow.device_id, RadioDevice.eui)
        .join(RadioDevice, RadioDevice.device_id == AttemptRow.device_id)
        .join(Rollout, Rollout.id == AttemptRow.rollout_id)
        .where(AttemptRow.live, AttemptRow.state == State.CLEARED.value, Rollout.state == "halted")
    )
    return [(row[0], row[1]) for row in await connection.execute(statement)]


async def network_row(connection: AsyncConnection) -> StoredRadioNetwork | None:
    """How far the radio network was followed."""
    statement = select(RadioNetworkRow.__table__).where(RadioNetworkRow.id == NETWORK)
    return await fetch_one(connection, statement, StoredRadioNetwork)


async def put_network(connection: AsyncConnection, **values: Any) -> None:
    """Notes how far the radio network was followed, or why it cannot be."""
    first = {"url": "", "run": "", "uplinks": 0, "region": "", "trouble": "", **values}
    statement = insert(RadioNetworkRow).values(id=NETWORK, **first)
    await connection.execute(statement.on_conflict_do_update(index_elements=["id"], set_=values))
