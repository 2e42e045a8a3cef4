"""Listening: what devices are asked to send, what that costs, and for how long."""

import asyncio
from datetime import datetime, timedelta

from mellow_herald.core.duration import parse_duration
from mellow_herald.core.readings.signal import SHORTEST_S, bytes_a_day
from mellow_herald.core.refusal import Refused
from mellow_herald.core.selector import parse_selector
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError, say_trouble
from mellow_herald.service.readings.wishes import EVENT
from mellow_herald.store import boards
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal
from mellow_herald.store.gate import Lock, try_take
from mellow_herald.store.readings import listenings, recordings, signals
from mellow_herald.store.readings.listenings import StoredListening
from mellow_herald.store.readings.signals import StoredSignal
from mellow_herald.wire.readings import ListeningCost, ListeningEnd, ListeningIn, ListeningOut, ListeningPreview

READ_AGAIN_S, SOONEST_S = 60.0, 1.0
# Of a value in the database, with what is rolled up of it; measured.
DISK_BYTES, DISK_ROW_BYTES = 12, 180
LONGEST = timedelta(days=366)
USUAL_BYTES = 4


def _period(asked: ListeningIn) -> float:
    if asked.at_full_rate:
        return SHORTEST_S
    seconds = parse_duration(asked.every or "").total_seconds()
    if seconds < SHORTEST_S:
        raise ProblemError(422, "bad-values", f"every: the shortest period is {SHORTEST_S:g} s.")
    return seconds


def _size(row: StoredSignal | None) -> int:
    """What a value costs on the way (bytes); that of a signal that nobody has described is guessed."""
    return USUAL_BYTES if row is None else row["size"]


def _until(asked: ListeningIn, now: datetime) -> datetime:
    until = asked.until or now + min(parse_duration(asked.lasts or ""), LONGEST + timedelta(days=1))
    if not now < until <= now + LONGEST:
        raise ProblemError(422, "bad-values", f"until: {until:%Y-%m-%d %H:%M:%S} is over, or more than a year away.")
    return until


async def preview(context: Context, asked: ListeningIn) -> ListeningPreview:
    """What a listening would ask of whom, and what it would cost each of them."""
    now, period_s, where = context.clock.now(), _period(asked), parse_selector(asked.where)
    _until(asked, now)
    async with context.engine.connect() as connection:
        counts = await listenings.boards_of(connection, where, now)
        deaf = await listenings.count_deaf(connection, where, now)
        known = {(row["board"], row["name"]): row for row in await signals.of_boards(connection, counts)}
        allowed = {row["name"]: row["listen_at_most"] for row in await boards.list_boards(connection)}
        others: dict[str, list[tuple[int, float]]] = {}
        for one in await listenings.asked_boards(connection, now):
            sized = [(_size(known.get((one["board"], name))), one["period_s"]) for name in one["signals"]]
            others.setdefault(one["board"], []).extend(sized)
    costs, refused, disk = [], [], 0.0
    for board, devices in counts.items():
        rows = [known.get((board, name)) for name in asked.signals]
        own = [(_size(row), period_s) for row in rows]
        cost = ListeningCost(
            board=board,
            devices=devices,
            bytes_a_day=bytes_a_day(own),
            with_others=bytes_a_day([*own, *others.get(board, [])]),
            at_most=allowed[board],
            undeclared=[
                name for name, row in zip(asked.signals, rows, strict=True) if row is None or not row["declared"]
            ],
        )
        costs.append(cost)
        disk += devices * len(rows) * (86_400 / period_s * DISK_BYTES + 1440 * DISK_ROW_BYTES)
        if cost.with_others > cost.at_most:
            refused.append(
                f"each device of {board} would send {cost.with_others:,} bytes a day with all asked for; its board"
                f" allows {cost.at_most:,}. Ask for less, more seldom, or raise listen_at_most in the board file."
            )
    if counts and all(len(one.undeclared) == len(asked.signals) for one in costs):
        refused.append(
            f"no board of these devices declares any of {', '.join(asked.signals)}. See `herald signal list`."
        )
    devices = sum(counts.values())
    return ListeningPreview(devices=devices, not_asked=deaf, costs=costs, disk_a_day=round(disk), refused=refused)


async def begin(context: Context, asked: ListeningIn, by: str) -> ListeningOut:
    """Asks devices from now on. Problem 409 if it would cost more than a board allows."""
    foreseen = await preview(context, asked)
    if foreseen.refused:
        raise ProblemError(409, "over-budget", " ".join(foreseen.refused))
    now = context.clock.now()
    values = {
        "selector": asked.where,
        "signals": asked.signals,
        "period_s": _period(asked),
        "until": _until(asked, now),
        "made_by": by,
        "made_at": now,
    }
    async with context.engine.begin() as connection:
        number = await listenings.add(connection, values)
        await listenings.read_members(connection, number, parse_selector(asked.where), now)
        what = f"{', '.join(asked.signals)} every {values['period_s']:g} s until {values['until']:%Y-%m-%d %H:%M}"
        await write_journal(connection, JournalEntry(now, by, "listening began", f"listening {number}", what))
        await publish(connection, [FeedEvent(now, EVENT, data={"listening": number})])
    return await show(context, number)


async def end(context: Context, number: int, body: ListeningEnd, by: str, of: str | None = None) -> ListeningOut:
    """Ends a listening. Problem 409 if it is over already."""
    shown = await show(context, number, of)
    if shown.state != "going-on":
        raise ProblemError(409, "already-over", f"Listening {number} is over already.")
    now = context.clock.now()
    async with context.engine.begin() as connection:
        await listenings.end(connection, number, by, now)
        await write_journal(connection, JournalEntry(now, by, "listening ended", f"listening {number}", body.reason))
        await publish(connection, [FeedEvent(now, EVENT, data={"listening": number})])
    return await show(context, number)


async def show(context: Context, number: int, of: str | None = None) -> ListeningOut:
    """One listening. Problem 404 if there is none of that number that this person (None: anybody) began."""
    async with context.engine.connect() as connection:
        row = await listenings.find(connection, number)
    if row is None or of not in (None, row["made_by"]):
        raise ProblemError(404, "not-found", f"There is no listening {number}. See `herald signal listenings`.")
    return _shown(row, context.clock.now())


async def show_all(context: Context, *, over: bool, of: str | None = None) -> list[ListeningOut]:
    """All listenings that go on, and those that are over, of one person or of all."""
    now = context.clock.now()
    async with context.engine.connect() as connection:
        rows = await listenings.list_all(connection, now, over=over)
    return [_shown(row, now) for row in rows if of in (None, row["made_by"])]


def _shown(row: StoredListening, now: datetime) -> ListeningOut:
    state = "ended" if row["ended_at"] is not None else "over" if row["until"] <= now else "going-on"
    return ListeningOut.model_validate({**row, "where": row["selector"], "now": now, "state": state})


async def load_wishes(context: Context) -> None:
    """Reads what devices are asked for, recordings too; those for whom it has changed are told when they next call."""
    now = context.clock.now()
    async with context.engine.connect() as connection:
        rows = await listenings.asked_devices(connection, now)
        asked = await recordings.list_open(connection)
    for device_id in context.wishes.take(rows, now) | context.wishes.take_recordings(asked):
        context.memory.forget(device_id)


async def keep_listening(context: Context) -> None:
    """Until cancelled: reads once a minute whom each listening asks, and lets those go that are over."""
    while True:
        try:
            await read_again(context)
        except Exception as error:
            say_trouble("whom listenings ask could not be read again; trying again", error)
        await asyncio.sleep(max(SOONEST_S, READ_AGAIN_S / context.clock.scale))


async def read_again(context: Context) -> None:
    """Reads once whom each listening asks."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        if not await try_take(connection, Lock.READINGS, 1):
            return
        changed = await listenings.end_over(connection, now)
        rows = await listenings.list_all(connection, now)
        for row in rows:
            try:
                where = parse_selector(row["selector"])
            except Refused as refused:  # of a fact that there was when it began
                await listenings.note_trouble(connection, row["id"], str(refused))
                continue
            changed = await listenings.read_members(connection, row["id"], where, now) or changed
        if changed:
            await publish(connection, [FeedEvent(now, EVENT, data={"listenings": len(rows)})])
