"""Signals, listening, and readings over time."""

from datetime import datetime, timedelta
from typing import Annotated, Literal

from fastapi import APIRouter, Query
from fastapi.responses import Response, StreamingResponse

from mellow_herald.core.duration import parse_duration
from mellow_herald.core.limits import LARGEST_INTEGER
from mellow_herald.core.readings.buckets import By
from mellow_herald.service.api.parameters import Ctx, Id
from mellow_herald.service.people.callers import Anyone, Caller, Operator
from mellow_herald.service.people.narrowing import together
from mellow_herald.service.problems import ProblemError, problems
from mellow_herald.service.readings import asking, change, listening
from mellow_herald.wire.board import Where
from mellow_herald.wire.charts import EVERYBODY
from mellow_herald.wire.model import Duration, Moment, Name
from mellow_herald.wire.readings import (
    ChangeOut,
    LastValueOut,
    ListeningEnd,
    ListeningIn,
    ListeningOut,
    ListeningPreview,
    SeriesOut,
    SignalOut,
)

router = APIRouter(tags=["readings"])
USUAL, MINUTE, LONGEST = timedelta(hours=1), timedelta(minutes=1), timedelta(days=90)
CSV = "text/csv"


def _within(who: Caller, asked: ListeningIn) -> ListeningIn:
    """Of the devices that are theirs."""
    return asked.model_copy(update={"where": together(who.only, asked.where)})


def _own(who: Caller) -> str | None:
    """Whose listenings somebody may see: who is narrowed their own, anybody else everybody's."""
    return who.name if who.only is not None else None


@router.get("/signals", responses=problems())
async def list_signals(who: Anyone, context: Ctx, board: Name | None = None) -> list[SignalOut]:
    """All signals, or those of one board: which are declared, asked for, and arrive, from how many devices."""
    return await asking.list_signals(context, board, who.only)


@router.post("/previews/listening", responses=problems())
async def preview_listening(asked: ListeningIn, who: Anyone, context: Ctx) -> ListeningPreview:
    """Says what a listening would ask of whom, and what that would cost a day; asks nobody."""
    return await listening.preview(context, _within(who, asked))


@router.post("/listenings", status_code=201, responses=problems(409))
async def begin_listening(asked: ListeningIn, who: Operator, context: Ctx) -> ListeningOut:
    """Asks devices to send readings from now on. They learn it at their next check-in."""
    return await listening.begin(context, _within(who, asked), who.name)


@router.get("/listenings", responses=problems())
async def list_listenings(who: Anyone, context: Ctx, over: bool = False) -> list[ListeningOut]:
    """Listenings that go on, and with ``over`` those that are over too; the newest first. Who is narrowed to some
    devices sees their own."""
    return await listening.show_all(context, over=over, of=_own(who))


@router.get("/listenings/{number}", responses=problems(404))
async def show_listening(number: Id, who: Anyone, context: Ctx) -> ListeningOut:
    """One listening."""
    return await listening.show(context, number, _own(who))


@router.post("/listenings/{number}/end", responses=problems(404, 409))
async def end_listening(number: Id, body: ListeningEnd, who: Operator, context: Ctx) -> ListeningOut:
    """Ends a listening: the devices are told at their next check-in."""
    return await listening.end(context, number, body, who.name, _own(who))


@router.get("/readings/latest", responses=problems())
async def latest_readings(
    who: Anyone,
    context: Ctx,
    where: Where,
    signal: Name | None = None,
    limit: Annotated[int, Query(ge=1, le=10_000)] = 1000,
) -> list[LastValueOut]:
    """What devices sent last of their signals, and how old that is."""
    return await asking.latest(context, together(who.only, where) or where, signal, limit)


@router.get("/rollouts/{rollout_id}/readings", responses=problems(404))
async def readings_before_and_after(
    rollout_id: Id, who: Anyone, context: Ctx, signal: Name, span: Duration = "1d"
) -> ChangeOut:
    """What a rollout did to a signal: its devices so long before and after their switch, beside those that have not
    switched."""
    length = parse_duration(span)
    if not MINUTE <= length <= LONGEST:
        raise ProblemError(422, "bad-values", "span: write between 1m and 90d.")
    return await change.before_and_after(context, rollout_id, signal, length)


@router.get("/readings", response_model=SeriesOut, responses={200: {"content": {CSV: {}}}, **problems(404)})
async def readings(
    who: Anyone,
    context: Ctx,
    signal: Name,
    where: Where = EVERYBODY,
    begin: Annotated[Moment | None, Query(alias="from")] = None,
    end: Annotated[Moment | None, Query(alias="to")] = None,
    points: Annotated[int, Query(ge=1, le=5000)] = 1000,
    by: By = By.DEVICE,
    rollout: Annotated[int | None, Query(ge=0, le=LARGEST_INTEGER)] = None,
    form: Annotated[Literal["json", "csv"], Query(alias="format")] = "json",
) -> SeriesOut | Response:
    """A signal over time: for each device that the selector picks, or for all that have a version, a revision or a ring
    (of this ``rollout``) in common, the least, the most, the mean and the last value in at most so many buckets."""
    until: datetime = end or context.clock.now()
    since = begin or until - USUAL
    told = await asking.series(
        context, signal, together(who.only, where) or where, since, until, points=points, by=by, rollout_id=rollout
    )
    if form == "csv":
        name = f'attachment; filename="{signal}.csv"'
        return StreamingResponse(asking.as_csv(told), media_type=CSV, headers={"content-disposition": name})
    return told
