"""Events, the journal and the overview."""

import json
from collections.abc import AsyncIterator
from datetime import UTC, datetime
from typing import Annotated, Literal, get_args

from fastapi import APIRouter, Depends, Header, Query, Request, Response
from fastapi.responses import StreamingResponse
from pydantic import StringConstraints

from mellow_herald.core.inventory import Format, write_csv
from mellow_herald.core.journal import Chain
from mellow_herald.core.limits import LARGEST_INTEGER
from mellow_herald.service.api.exports import STREAMED, streamed
from mellow_herald.service.api.pages import link_next
from mellow_herald.service.api.parameters import Ctx, IdCursor
from mellow_herald.service.feed import as_event, stream
from mellow_herald.service.fleet import attention
from mellow_herald.service.people.callers import Anyone
from mellow_herald.service.people.narrowing import keep_rollout
from mellow_herald.service.problems import ProblemError, Responses, problems
from mellow_herald.store import lineage
from mellow_herald.store.feed import JournalFilter, each_entry, read_chain, read_journal, seal
from mellow_herald.store.feed import latest_events as read_latest
from mellow_herald.wire.event import Event, JournalCheck, JournalEntry, Overview, PresenceSample
from mellow_herald.wire.model import AnyTime, Name, Page

EventKind = Literal["attempt", "rollout", "device", "release", "admission", "board", "keys", "health"]
Words = Annotated[str | None, StringConstraints(max_length=200, pattern=r"^[^\x00]*$")]
router = APIRouter(tags=["watching"])
STREAM: Responses = {
    200: {"description": "Server-Sent Events", "content": {"text/event-stream": {"schema": {"type": "string"}}}}
}


@router.get("/events", responses={**problems(), **STREAM}, response_class=StreamingResponse)
async def follow_events(
    who: Anyone,
    context: Ctx,
    rollout: Annotated[int | None, Query(ge=0, le=LARGEST_INTEGER, description="Only events of this rollout.")] = None,
    after: Annotated[int | None, Query(ge=0, le=LARGEST_INTEGER, description="As Last-Event-ID, at first.")] = None,
    readings: Annotated[bool, Query(description="Say also, at most once a second, that readings have come.")] = False,
    last_event_id: Annotated[str | None, Header(description="Go on after this event.")] = None,
) -> StreamingResponse:
    """The event feed as Server-Sent Events. With ``Last-Event-ID`` it goes on without a gap. Who is narrowed to some
    devices hears that something happened, not to whom."""
    if last_event_id and not (last_event_id.isdigit() and len(last_event_id) < 16):
        raise ProblemError(422, "bad-values", "Last-Event-ID must be the number of an event.")
    since = int(last_event_id) if last_event_id else after
    if rollout is not None:
        async with context.engine.connect() as connection:
            await keep_rollout(connection, context, who.only, rollout)
    headers = {"cache-control": "no-store", "x-accel-buffering": "no"}
    return StreamingResponse(
        stream(context, since, rollout, who.credential_id, who.rights, bare=who.only is not None, readings=readings),
        media_type="text/event-stream",
        headers=headers,
    )


@router.get("/events/latest", responses=problems())
async def latest_events(
    who: Anyone,
    context: Ctx,
    rollout: Annotated[int | None, Query(ge=0, le=LARGEST_INTEGER, description="Only events of this rollout.")] = None,
    kind: Annotated[list[EventKind] | None, Query(max_length=10, description="Only events of these kinds.")] = None,
    limit: Annotated[int, Query(ge=1, le=200)] = 20,
) -> list[Event]:
    """The newest events that there were, newest first, without those that tell only how far a download is. Events
    of a rollout as a whole are found however old they are, others if they are recent."""
    if who.only is not None and rollout is None:
        return []  # those of the whole fleet
    async with context.engine.connect() as connection:
        if rollout is not None:
            await keep_rollout(connection, context, who.only, rollout)
        rows = await read_latest(connection, kind or get_args(EventKind), rollout_id=rollout, limit=limit)
    return [as_event(row) for row in rows]


def _wanted(
    by: Annotated[Words, Query(description="Who did it.")] = None,
    what: Annotated[Words, Query(description="Words within what was done.")] = None,
    subject: Annotated[Words, Query(description="Words within what it was done to.")] = None,
    text: Annotated[Words, Query(description="Words anywhere, reasons and numbers included.")] = None,
    since: Annotated[AnyTime | None, Query(description="From this time on.")] = None,
    until: Annotated[AnyTime | None, Query(description="Before this time.")] = None,
    decisions: Annotated[bool, Query(description="Without devices that enrolled.")] = False,
) -> JournalFilter:
    return JournalFilter(by, what, subject, text, _utc(since), _utc(until), decisions)


Wanted = Annotated[JournalFilter, Depends(_wanted)]


@router.get("/journal", responses=problems())
async def show_journal(
    who: Anyone,
    context: Ctx,
    request: Request,
    response: Response,
    wanted: Wanted,
    limit: Annotated[int, Query(ge=1, le=1000)] = 100,
    after: IdCursor = None,
) -> Page[JournalEntry]:
    """Who or what decided what, when and why; newest first. Times without a zone are UTC."""
    # Whoever did something and looks here finds it, though the feed may not have come by yet.
    await seal(context.engine, wait=True)
    async with context.engine.connect() as connection:
        rows = await read_journal(connection, wanted, before=after, limit=limit + 1)
    items = [JournalEntry.model_validate(dict(row)) for row in rows[:limit]]
    cursor = str(items[-1].link) if len(rows) > limit else None
    link_next(request, response, cursor)
    return Page(items=items, next=cursor)


@router.get("/journal/export", responses={**problems(), **STREAMED}, response_class=StreamingResponse)
async def export_journal(
    who: Anyone, context: Ctx, wanted: Wanted, written: Annotated[Format, Query(alias="format")] = Format.CSV
) -> StreamingResponse:
    """The same, oldest first and all of it. JSON Lines without a filter can be verified anywhere, by anybody."""
    await seal(context.engine, wait=True)

    async def lines() -> AsyncIterator[str]:
        if written is Format.CSV:
            yield write_csv([tuple(JournalEntry.model_fields)])
        async with context.engine.connect() as connection:
            async for rows in each_entry(connection, wanted):
                entries = [JournalEntry.model_validate(dict(row)) for row in rows]
                if written is Format.CSV:
                    yield write_csv([_cell(value) for value in dict(one).values()] for one in entries)
                else:
                    yield "".join(one.model_dump_json() + "\n" for one in entries)

    return streamed(lines(), written, "journal")


def _cell(value: object) -> object:
    if isinstance(value, datetime):
        return value.isoformat()
    return json.dumps(value, ensure_ascii=False) if isinstance(value, dict) else value


@router.get("/journal/check", responses=problems())
async def check_journal(who: Anyone, context: Ctx) -> JournalCheck:
    """Computes every hash of the journal anew. A journal that was changed after it was written has a first link that
    does not follow from the one before."""
    await seal(context.engine, wait=True)
    chain = Chain()
    async with context.engine.connect() as connection:
        async for link, hashed, entry in read_chain(connection):
            if not chain.follows(link, hashed, entry):
                return JournalCheck(links=chain.link, hash=chain.hash, broken=link)
    return JournalCheck(links=chain.link, hash=chain.hash, broken=None)


def _utc(at: datetime | None) -> datetime | None:
    return at.replace(tzinfo=UTC) if at is not None and at.tzinfo is None else at


@router.get("/overview", responses=problems())
async def overview(who: Anyone, context: Ctx) -> Overview:
    """What needs a person, what is moving, and who is there."""
    return await attention.overview(context, who.only)


@router.get("/presence", responses=problems())
async def presence_over_time(
    who: Anyone,
    context: Ctx,
    board: Annotated[Name | None, Query(description="Only devices of this board.")] = None,
) -> list[PresenceSample]:
    """How many devices were present how over time, as it was noted then; oldest first. It was noted of the whole fleet:
    who is narrowed to some devices has none."""
    if who.only is not None:
        return []
    async with context.engine.connect() as connection:
        rows = await lineage.list_presence(connection, board)
    return [PresenceSample.model_validate(row) for row in rows]
