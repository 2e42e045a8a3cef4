"""Events, the journal and the overview."""

from datetime import datetime
from typing import Annotated

from fastapi import APIRouter, Header, Query, Request, Response
from fastapi.responses import StreamingResponse
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attention import CALLS
from mellow_herald.core.presence import LATE_AFTER, OFFLINE_AFTER
from mellow_herald.core.selector import parse_selector
from mellow_herald.service import rollouts as rollouts_service
from mellow_herald.service.api.parameters import LARGEST, Ctx, IdCursor
from mellow_herald.service.feed import stream
from mellow_herald.service.pages import link_next
from mellow_herald.service.people import Anyone
from mellow_herald.service.problems import ProblemError, problems
from mellow_herald.store import fleet, lineage, rollouts
from mellow_herald.store.feed import read_journal
from mellow_herald.wire.event import Attention, JournalEntry, Overview, PresenceSample, VersionCount
from mellow_herald.wire.model import Name, Page

FIRST = 5
router = APIRouter(tags=["watching"])
STREAM = {200: {"description": "Server-Sent Events", "content": {"text/event-stream": {"schema": {"type": "string"}}}}}


@router.get("/events", responses={**problems(), **STREAM}, response_class=StreamingResponse)
async def follow_events(
    who: Anyone,
    context: Ctx,
    rollout: Annotated[int | None, Query(ge=0, le=LARGEST, description="Only events of this rollout.")] = None,
    after: Annotated[int | None, Query(ge=0, le=LARGEST, description="As Last-Event-ID, at first.")] = None,
    last_event_id: Annotated[str | None, Header(description="Go on after this event.")] = None,
) -> StreamingResponse:
    """The event feed as Server-Sent Events. With ``Last-Event-ID`` it goes on without a gap."""
    if last_event_id and not (last_event_id.isdigit() and len(last_event_id) < 16):
        raise ProblemError(422, "bad-values", "Last-Event-ID must be the number of an event.")
    since = int(last_event_id) if last_event_id else after
    headers = {"cache-control": "no-store", "x-accel-buffering": "no"}
    return StreamingResponse(stream(context, since, rollout), media_type="text/event-stream", headers=headers)


@router.get("/journal", responses=problems())
async def show_journal(
    who: Anyone,
    context: Ctx,
    request: Request,
    response: Response,
    limit: Annotated[int, Query(ge=1, le=1000)] = 100,
    after: IdCursor = None,
) -> Page[JournalEntry]:
    """Who or what decided what, when and why; newest first."""
    async with context.engine.connect() as connection:
        rows = await read_journal(connection, before=after, limit=limit + 1)
    items = [JournalEntry.model_validate(dict(row)) for row in rows[:limit]]
    cursor = str(items[-1].link) if len(rows) > limit else None
    link_next(request, response, cursor)
    return Page(items=items, next=cursor)


@router.get("/overview", responses=problems())
async def overview(who: Anyone, context: Ctx) -> Overview:
    """What needs a person, what is moving, and who is there."""
    now = context.clock.now()
    async with context.engine.connect() as connection:
        moving = await rollouts_service.assemble(connection, await rollouts.list_rollouts(connection, live=True))
        return Overview(
            now=now,
            scale=context.clock.scale,
            presence=await fleet.count_presence(connection, now, LATE_AFTER, OFFLINE_AFTER),
            versions=[VersionCount.model_validate(dict(row)) for row in await fleet.count_versions(connection)],
            moving=moving,
            asking=await fleet.count_devices(connection, parse_selector("admission = asking")),
            unknown_builds=await fleet.count_devices(connection, parse_selector("known_build = no")),
            attention=await _attention(connection, now),
            unhealthy_images=sorted(context.unhealthy),
        )


async def _attention(connection: AsyncConnection, now: datetime) -> list[Attention]:
    found = []
    for call in CALLS:
        where = parse_selector(call.where)
        devices = await fleet.count_devices(connection, where, now)
        if devices:
            rows = await fleet.list_devices(connection, where, now=now, limit=FIRST)
            first = [row["serial"] for row in rows]
            found.append(Attention(kind=call.kind, words=call.words, devices=devices, first=first, where=call.where))
    return found


@router.get("/presence", responses=problems())
async def presence_over_time(
    who: Anyone,
    context: Ctx,
    board: Annotated[Name | None, Query(description="Only devices of this board.")] = None,
) -> list[PresenceSample]:
    """How many devices were present how over time, as it was noted then; oldest first."""
    async with context.engine.connect() as connection:
        rows = await lineage.list_presence(connection, board)
    return [PresenceSample.model_validate(row) for row in rows]
