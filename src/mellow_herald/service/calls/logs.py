"""Log lines of devices: kept, shown, and told to whoever follows."""

from collections.abc import Sequence

from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.store import fleet, history
from mellow_herald.store.feed import FeedEvent, publish
from mellow_herald.wire.device import LogLine
from mellow_herald.wire.fleet import LogLineOut


async def take_lines(context: Context, device_id: int, lines: Sequence[LogLine]) -> None:
    """Keeps lines that an admitted device sent; a repeated line has no second effect."""
    now = context.clock.now()
    rows = [
        {"boots": one.boots, "number": one.number, "at": one.at or now, "heard_at": now, "text": one.text}
        for one in {(line.boots, line.number): line for line in lines}.values()
    ]
    async with context.engine.begin() as connection:
        # Locked, so that two calls of one device do not trim its lines at once.
        device = (await fleet.lock_devices(connection, [device_id])).get(device_id)
        if device is None or device["admission"] != "admitted":
            raise ProblemError(403, "not-admitted", "The device is not admitted. Ask the engineer to admit it.")
        if await history.add_lines(connection, device_id, rows):
            data = {"serial": device["serial"], "lines": len(rows)}
            await publish(connection, [FeedEvent(now, "log", None, device_id, data=data)])


async def show_lines(context: Context, serial: str, after: int, limit: int) -> list[LogLineOut]:
    """The last lines of a device's log after line ``after``, oldest first."""
    async with context.engine.connect() as connection:
        device = None if "\0" in serial else await fleet.find_device(connection, serial)
        if device is None:
            raise ProblemError(404, "not-found", f"There is no device {serial!r}. See `herald device list`.")
        rows = await history.list_lines(connection, device["id"], after, limit)
    return [LogLineOut.model_validate(dict(row)) for row in rows]
