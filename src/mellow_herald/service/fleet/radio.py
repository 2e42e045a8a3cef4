"""What is on record of devices' radios: recorded when they enrol, added and corrected later."""

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.service.context import Context
from mellow_herald.service.key_box import KeyBox
from mellow_herald.service.problems import ProblemError
from mellow_herald.store import fleet, radio
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal
from mellow_herald.store.radio import ShownRadioDevice
from mellow_herald.store.rows.radio import StoredRadioDevice
from mellow_herald.wire.device import RadioIn
from mellow_herald.wire.model import Page
from mellow_herald.wire.radio import (
    RadioDeviceOut,
    RadioEntries,
    RadioEntry,
    RadioNetworkOut,
    RadioRefusal,
    RadioReport,
)

NEEDED = ("clock", "multicast", "fragments")
# What is compared to tell whether anything changes.
FACTS = ("eui", "region", "device_class", "lorawan", "interval_s", "ports", "packages", "most_fragment")


def standing(packages: Mapping[str, int | None], *, has_key: bool) -> str:
    """Whether a device can take part in a session, or what is missing."""
    if any(packages.get(name) is None for name in NEEDED):
        return "no-packages"
    return "ready" if has_key else "no-key"


async def record_at_enrolment(context: Context, connection: AsyncConnection, device_id: int, told: RadioIn) -> None:
    """Records what a device says of its radio when it enrols; a key that is on record stays if it tells none."""
    entry = RadioEntry(serial="x", **told.model_dump(exclude={"root_key"}), root_key=told.root_key)
    before = await radio.radio_of(connection, device_id)
    await _check_eui(connection, told.eui, device_id)
    await _write(context, connection, device_id, before, entry, context.clock.now())


async def record(context: Context, asked: RadioEntries, by: str) -> RadioReport:
    """Records what is known of devices' radios; what cannot be is refused by itself, the others are taken."""
    report = RadioReport(changed=[], unchanged=0, refusals=[])
    now = context.clock.now()
    async with context.engine.begin() as connection:
        for entry in asked.devices:
            try:
                changed = await _record_one(context, connection, entry, now)
            except ProblemError as problem:
                report.refusals.append(RadioRefusal(serial=entry.serial, kind=problem.kind, detail=problem.detail))
                continue
            if changed:
                report.changed.append(entry.serial)
            else:
                report.unchanged += 1
        if asked.check:
            await connection.rollback()
            return report
        if report.changed:
            keys = sum(entry.root_key is not None for entry in asked.devices if entry.serial in set(report.changed))
            subject = report.changed[0] if len(report.changed) == 1 else f"{len(report.changed)} devices"
            data = {"devices": report.changed[:20], "count": len(report.changed), "keys": keys}
            await write_journal(connection, JournalEntry(now, by, "radio facts recorded", subject, asked.reason, data))
            await publish(connection, [FeedEvent(now, "device", data={"radio": len(report.changed)})])
    context.memory.epoch += 1
    return report


async def _record_one(context: Context, connection: AsyncConnection, entry: RadioEntry, now: datetime) -> bool:
    device = await fleet.find_device(connection, entry.serial, lock=True)
    if device is None:
        detail = f"There is no device {entry.serial!r}. See `herald device list`."
        raise ProblemError(404, "not-found", detail)
    before = await radio.radio_of(connection, device["id"])
    if before is None and entry.eui is None:
        detail = f"Nothing is on record of the radio of {entry.serial}: say its EUI, too."
        raise ProblemError(422, "no-eui", detail)
    if entry.eui is not None:
        await _check_eui(connection, entry.eui, device["id"])
    return await _write(context, connection, device["id"], before, entry, now)


async def _check_eui(connection: AsyncConnection, eui: str, device_id: int) -> None:
    other = await radio.find_by_eui(connection, eui)
    if other is not None and other["device_id"] != device_id:
        serial = await radio.owner_of_eui(connection, eui)
        raise ProblemError(409, "eui-taken", f"EUI {eui} is that of {serial}: correct it there first.")


async def _write(
    context: Context,
    connection: AsyncConnection,
    device_id: int,
    before: StoredRadioDevice | None,
    entry: RadioEntry,
    now: datetime,
) -> bool:
    told = entry.model_dump(mode="json", exclude_none=True, exclude={"serial", "root_key"})
    usual = RadioIn(eui=entry.eui or "0" * 16).model_dump(mode="json", exclude={"root_key"})
    base: dict[str, Any] = usual if before is None else {name: dict(before)[name] for name in FACTS}
    # A package or a port of which nothing is said stays.
    merged = {name: {**base[name], **told.get(name, {})} for name in ("ports", "packages")}
    if entry.packages is not None:
        merged["packages"] = entry.packages.model_dump()
    values = {**base, **told, **merged}
    key = None if entry.root_key is None else bytes.fromhex(entry.root_key)
    sealed = None if before is None else before["root_key"]
    box = KeyBox(context.settings.data_dir)
    same_key = key is None or (sealed is not None and _same(box, sealed, key, device_id))
    if before is not None and same_key and values == base:
        return False
    if not same_key and key is not None:
        # Another key has to prove itself anew.
        values |= {"root_key": box.seal(key, about(device_id)), "key_proved_at": None}
    await radio.put_radio(connection, device_id, {**values, "changed_at": now})
    stands = standing(values["packages"], has_key=key is not None or sealed is not None)
    await radio.mark_radio(connection, device_id, stands, values["region"], values["interval_s"], now)
    return True


def about(device_id: int) -> str:
    """What a device's root key is sealed for."""
    return f"root key of device {device_id}"


def _same(box: KeyBox, sealed: bytes, key: bytes, device_id: int) -> bool:
    try:
        return box.unseal(sealed, about(device_id)) == key
    except ProblemError:  # sealed with a file that is gone: it is written anew
        return False


async def list_devices(context: Context, after: str | None, limit: int) -> Page[RadioDeviceOut]:
    """Devices on narrow radio, by serial."""
    async with context.engine.connect() as connection:
        rows = await radio.list_radio_devices(connection, after=after, limit=limit + 1)
        total = None if after else sum((await radio.count_radio_devices(connection)).values())
    items = [shown(row) for row in rows[:limit]]
    return Page(items=items, next=items[-1].serial if len(rows) > limit else None, total=total)


async def show_device(context: Context, serial: str) -> RadioDeviceOut:
    """What is on record of one device's radio."""
    async with context.engine.connect() as connection:
        rows = [] if "\0" in serial else await radio.list_radio_devices(connection, serials=[serial])
    if not rows:
        detail = f"Nothing is on record of the radio of {serial}. `herald radio list` shows those that have one."
        raise ProblemError(404, "not-found", detail)
    return shown(rows[0])


def shown(row: ShownRadioDevice) -> RadioDeviceOut:
    """A device's radio as it is shown: never with its key."""
    return RadioDeviceOut.model_validate({**row, "has_key": row["root_key"] is not None})


async def show_network(context: Context) -> RadioNetworkOut:
    """The radio network that is followed."""
    async with context.engine.connect() as connection:
        row = await radio.network_row(connection)
        counts = await radio.count_radio_devices(connection)
    url = context.settings.radio
    same = row is not None and row["url"] == url
    return RadioNetworkOut(
        url=url,
        region=row["region"] if row is not None and same else None,
        heard_at=row["heard_at"] if row is not None and same else None,
        trouble=row["trouble"] if row is not None and same else "",
        devices=counts,
    )
