"""Following the database: wake-ups by LISTEN/NOTIFY with a poll behind them, sealing, and the SSE stream."""

import asyncio
import json
from collections.abc import AsyncIterator, Mapping
from typing import Any

import asyncpg
import structlog
from sqlalchemy.engine import make_url

from mellow_herald.core.duration import parse_duration
from mellow_herald.core.selector import parse_selector
from mellow_herald.service.calls.memory import Intervals
from mellow_herald.service.context import Context
from mellow_herald.service.fleet.admission import load_admissions
from mellow_herald.service.problems import say_trouble
from mellow_herald.service.readings import recordings, wishes
from mellow_herald.service.readings.listening import load_wishes
from mellow_herald.service.signals import READINGS
from mellow_herald.service.tasks import end, woken
from mellow_herald.store import feed, people
from mellow_herald.store.boards import board_facts, list_boards
from mellow_herald.store.database import CHANNEL
from mellow_herald.wire.event import Event

log = structlog.get_logger()

POLL_SECONDS = 1.0
AGAIN_SECONDS = 1.0
# Many transactions may commit in a moment; one look sees them all.
GATHER_SECONDS = 0.03
TELL_SECONDS = 0.01
PING_SECONDS = 15.0
RIGHTS_SECONDS = 1.5
# After these an order may stand for devices that had none.
ORDER_KINDS = frozenset({"orders", "admission"})
# After these devices are asked for other readings.
WISH_KINDS = frozenset({wishes.EVENT, recordings.EVENT})


def as_event(row: Mapping[str, Any]) -> Event:
    """A feed row as it goes out."""
    return Event(
        id=row["sealed"],
        at=row["at"],
        kind=row["kind"],
        rollout_id=row["rollout_id"],
        device_id=row["device_id"],
        attempt_id=row["attempt_id"],
        data=row["data"],
    )


class FeedReader:
    """Seals what commits and hands it on, in one process."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._wake = asyncio.Event()
        self._last: int | None = None

    async def run(self) -> None:
        """Works until cancelled; a lost database connection is tried again."""
        while True:
            try:
                if self._last is None:
                    async with self._context.engine.connect() as connection:
                        self._last = await feed.newest_sealed(connection)
                await self._listen()
            except Exception as error:  # whatever it is, without the feed no order would ever be noticed
                log.warning("the feed broke off, trying again", error=str(error))
                await asyncio.sleep(AGAIN_SECONDS)

    async def _listen(self) -> None:
        url = make_url(self._context.engine.url).set(drivername="postgresql")
        listener = await asyncpg.connect(url.render_as_string(hide_password=False))
        telling = None
        try:
            await listener.add_listener(CHANNEL, lambda *_: self._wake.set())
            listener.add_termination_listener(lambda *_: self._wake.set())
            telling = asyncio.create_task(self._tell(listener))
            while True:
                await self._catch_up()
                await asyncio.sleep(GATHER_SECONDS)
                await woken(self._wake, POLL_SECONDS)
                self._wake.clear()
                if telling.done():
                    await telling  # raises why
                if listener.is_closed():
                    raise ConnectionError("the database closed the connection that is listened on")
        finally:
            if telling is not None:
                await end([telling])
            listener.terminate()

    async def _tell(self, listener: "asyncpg.Connection[asyncpg.Record]") -> None:
        """Tells all processes, this one too, that something was written: once for all that was in the meantime. What
        is lost of it the others see at their next look."""
        written = self._context.pools.written
        # There is nothing in it that could be lost.
        await listener.execute("SET synchronous_commit = off")
        while True:
            await written.wait()
            written.clear()
            await listener.execute(f"NOTIFY {CHANNEL}")
            await asyncio.sleep(TELL_SECONDS)

    async def _catch_up(self) -> None:
        memory, signals = self._context.memory, self._context.signals
        assert self._last is not None
        await feed.seal(self._context.engine)
        while True:
            async with self._context.engine.connect() as connection:
                rows = await feed.read_feed(connection, self._last)
            if not rows:
                break
            for row in rows:
                if row["kind"] in ORDER_KINDS:
                    memory.epoch += 1
                if row["kind"] == "board":
                    await load_boards(self._context)
            if any(row["kind"] in WISH_KINDS for row in rows):
                await load_wishes(self._context)
            decided = {row["device_id"] for row in rows if row["kind"] == "admission" and row["device_id"] is not None}
            if decided:
                await load_admissions(self._context, sorted(decided))
            if any(row["kind"] in ORDER_KINDS for row in rows):
                await self._context.waiting.wake(self._context.engine)
            # How far a download is moves no rollout on.
            words = [row for row in rows if row["data"].get("moved", True)]
            moved = {row["rollout_id"] for row in words if row["rollout_id"] is not None}
            if moved:
                signals.moved |= moved
                signals.conductor.set()
            # Only now: whatever broke off above is done again.
            self._last = rows[-1]["sealed"]
            if signals.followers:
                signals.spread([as_event(row) for row in rows])
        memory.feed_was_read()


async def load_boards(context: Context) -> None:
    """Reads what devices' calls need to know of boards; what was remembered with others no longer counts."""
    async with context.engine.connect() as connection:
        boards = await list_boards(connection)
    context.memory.intervals = {
        row["name"]: Intervals(
            row["check_in_s"],
            tuple(
                (parse_selector(one["where"]), int(parse_duration(one["every"]).total_seconds()))
                for one in row["check_in_exceptions"]
            ),
        )
        for row in boards
    }
    context.memory.in_place = {row["name"]: board_facts(row).in_place for row in boards}
    context.memory.epoch += 1


async def keep_rights(context: Context) -> None:
    """Until cancelled: lets those followers go who were closed, or whose roles have changed."""
    while True:
        try:
            if asked := context.signals.credentials:
                async with context.engine.connect() as connection:
                    roles = await people.rights_of(connection, sorted(asked), context.clock.real())
                context.signals.check({one: frozenset(roles.get(one, ())) for one in asked})
        except Exception as error:
            say_trouble("rights could not be looked at again; trying again", error)
        await asyncio.sleep(RIGHTS_SECONDS)


async def stream(
    context: Context,
    after: int | None,
    rollout_id: int | None,
    credential_id: int,
    rights: frozenset[str],
    *,
    bare: bool = False,
    readings: bool = False,
) -> AsyncIterator[str]:
    """The feed as Server-Sent Events, from after event number ``after`` (None: from now on), without gaps, for as long
    as the credential stands for these rights; ``bare`` leaves out whom they are about, ``readings`` says too, without a
    number, that some have come."""
    with context.signals.follow(credential_id, rights, readings=readings) as follower:
        async with context.engine.connect() as connection:
            last = await feed.newest_sealed(connection) if after is None else after
        yield f"retry: 1000\n: the feed stands at {last}\n\n"
        behind = after is not None
        while not (context.signals.stopping.is_set() or follower.ended):
            if behind:
                async for event in _stored(context, last, rollout_id):
                    last = event.id
                    yield _frame(event, bare=bare)
                behind = False
            try:
                async with asyncio.timeout(PING_SECONDS):
                    event = await follower.queue.get()
            except TimeoutError:
                yield ": still here\n\n"
                continue
            if event is READINGS:
                follower.told = False
                yield "event: readings\ndata: {}\n\n"
            elif event is None:
                behind = not follower.ended
            elif event.id > last:
                last = event.id
                if rollout_id is None or event.rollout_id == rollout_id:
                    yield _frame(event, bare=bare)


async def _stored(context: Context, after: int, rollout_id: int | None) -> AsyncIterator[Event]:
    while True:
        async with context.engine.connect() as connection:
            rows = await feed.read_feed(connection, after, rollout_id=rollout_id)
        for row in rows:
            yield as_event(row)
        if not rows:
            return
        after = rows[-1]["sealed"]


def _frame(event: Event, *, bare: bool) -> str:
    if bare:
        event = Event(id=event.id, at=event.at, kind=event.kind, data={})
    body = json.dumps(event.model_dump(mode="json"), separators=(",", ":"))
    return f"id: {event.id}\nevent: {event.kind}\ndata: {body}\n\n"
