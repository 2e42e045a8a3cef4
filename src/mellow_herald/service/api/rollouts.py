"""Plans, rollouts and attempts."""

import json
from collections.abc import AsyncIterator
from typing import Annotated

from fastapi import APIRouter, Query, Request, Response
from fastapi.responses import StreamingResponse

from mellow_herald.core.attempt import State, WaitingFor
from mellow_herald.core.limits import LARGEST_INTEGER
from mellow_herald.core.selector import parse_selector
from mellow_herald.service.api.pages import link_next
from mellow_herald.service.api.parameters import Ctx, Id, IdCursor, IfMatch, RequestKey, revision_of
from mellow_herald.service.context import Context
from mellow_herald.service.people.callers import Anyone, Caller, Operator
from mellow_herald.service.people.narrowing import together, within
from mellow_herald.service.problems import ProblemError, Responses, again, problems
from mellow_herald.service.readings import change
from mellow_herald.service.rollouts import editing, life, previewing, shown, steering
from mellow_herald.service.rollouts import report as reports
from mellow_herald.service.rollouts.life import Agreed
from mellow_herald.service.rollouts.planning import resolve_target
from mellow_herald.service.rollouts.record import stored_rollout
from mellow_herald.service.rollouts.report_page import write_page
from mellow_herald.service.rollouts.report_text import write_markdown
from mellow_herald.store import attempts, fleet, rollouts
from mellow_herald.store.failures import failed_tries
from mellow_herald.wire.fleet import TimelineEntry
from mellow_herald.wire.model import Page
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.report import CourseOut, FailureOut, ReportOut
from mellow_herald.wire.rollout import (
    AttemptOut,
    GoIn,
    LeaveOutIn,
    PlanEdit,
    PlanEditPreview,
    PreviewOut,
    ReasonIn,
    ResumeIn,
    RetryIn,
    RolloutOut,
    SettlementOut,
)

JSON_LINES = "application/x-ndjson"
MARKDOWN: Responses = {200: {"description": "Markdown", "content": {"text/markdown": {"schema": {"type": "string"}}}}}
PAGE: Responses = {200: {"description": "HTML", "content": {"text/html": {"schema": {"type": "string"}}}}}
LINES: Responses = {200: {"description": "JSON lines", "content": {JSON_LINES: {"schema": {"type": "string"}}}}}
# Of a log, where not all of it was asked for.
LAST_LINES = 5
router = APIRouter(tags=["rollouts"])


Overtake = Annotated[bool, Query(description="An urgent plan takes over devices that wait in other rollouts.")]


@router.post("/rollouts", status_code=201, responses={**problems(409), **again(RolloutOut)})
async def start_rollout(
    plan: PlanDocument,
    who: Operator,
    context: Ctx,
    response: Response,
    idempotency_key: RequestKey = None,
    counts: Annotated[
        list[Annotated[int, Query(ge=0, le=LARGEST_INTEGER)]] | None,
        Query(
            description="The devices of each ring, as the preview showed them; if they have changed, nothing starts."
        ),
    ] = None,
    within: Annotated[float, Query(ge=0, le=1, description="By what share a count may have changed.")] = 0.05,
    overtake: Overtake = False,
) -> RolloutOut:
    """Starts a rollout by a plan. With the same ``Idempotency-Key`` it is started only once (then 200)."""
    plan = await _narrowed(context, plan, who)
    agreed = None if counts is None else Agreed(counts, within)
    rollout_id, new = await life.start(context, plan, who.name, idempotency_key, agreed=agreed, overtake=overtake)
    response.status_code = 201 if new else 200
    return await shown.show(context, rollout_id)


@router.post("/previews", responses=problems())
async def preview_rollout(plan: PlanDocument, who: Anyone, context: Ctx, overtake: Overtake = False) -> PreviewOut:
    """What a plan would do now: rings, who is passed over, bytes, both bounds of harm, expected times."""
    return await previewing.preview(context, await _narrowed(context, plan, who), overtake=overtake)


async def _narrowed(context: Context, plan: PlanDocument, who: Caller) -> PlanDocument:
    """The plan, for the devices that somebody is narrowed to and no others."""
    if who.only is None:
        return plan
    async with context.engine.connect() as connection:
        target = await resolve_target(connection, plan.target)
    return plan.model_copy(update={"target": together(who.only, target)})


@router.post("/previews/devices", responses={**problems(), **LINES}, response_class=StreamingResponse)
async def export_preview(
    plan: PlanDocument, who: Anyone, context: Ctx, overtake: Overtake = False
) -> StreamingResponse:
    """Every device that a ring would have and every one that would be passed over, as JSON lines."""
    rows = previewing.export(context, await _narrowed(context, plan, who), overtake=overtake)
    # The first row is awaited here, so that what is wrong with the plan is still a problem and not half an answer.
    first = await anext(rows, None)

    async def lines() -> AsyncIterator[str]:
        if first is not None:
            yield json.dumps(first) + "\n"
        async for row in rows:
            yield json.dumps(row) + "\n"

    return StreamingResponse(lines(), media_type=JSON_LINES)


@router.get("/rollouts", responses=problems())
async def list_rollouts(
    who: Anyone,
    context: Ctx,
    request: Request,
    response: Response,
    limit: Annotated[int, Query(ge=1, le=200)] = 50,
    after: IdCursor = None,
) -> Page[RolloutOut]:
    """Rollouts, newest first."""
    async with context.engine.connect() as connection:
        rows = await rollouts.list_rollouts(connection, after=after, limit=limit + 1)
        page = rows[:limit]
        theirs = await within(connection, who.only, context.clock.now(), [row["id"] for row in page])
        items = await shown.assemble(connection, [row for row in page if row["id"] in theirs], context.clock.now())
    cursor = str(page[-1]["id"]) if len(rows) > limit else None
    link_next(request, response, cursor)
    return Page(items=items, next=cursor)


@router.get("/rollouts/{rollout_id}", responses=problems(404))
async def show_rollout(rollout_id: Id, who: Anyone, context: Ctx, response: Response) -> RolloutOut:
    """One rollout with its rings and counts; ``ETag`` is the revision of its plan."""
    rollout = await shown.show(context, rollout_id)
    response.headers["etag"] = f'"{rollout.revision}"'
    return rollout


@router.patch("/rollouts/{rollout_id}/plan", responses=problems(404, 409, 412))
async def edit_plan(
    rollout_id: Id, body: PlanEdit, who: Operator, context: Ctx, response: Response, if_match: IfMatch = None
) -> RolloutOut:
    """Changes the pace, the calendar, ``wait_at_most``, an open ring's ``enough``, or rings that are not open yet, of a
    rollout that runs. With ``If-Match`` only if nobody else changed its plan since."""
    await editing.edit(context, rollout_id, body, revision_of(if_match), who.name)
    return await show_rollout(rollout_id, who, context, response)


@router.post("/rollouts/{rollout_id}/plan-preview", responses=problems(404, 409))
async def preview_plan_edit(rollout_id: Id, body: PlanEdit, who: Anyone, context: Ctx) -> PlanEditPreview:
    """What a change of the plan would do now, and to how many devices. Changes nothing."""
    return await editing.preview(context, rollout_id, body)


@router.post("/rollouts/{rollout_id}/go", responses=problems(404, 409))
async def go_on(rollout_id: Id, body: GoIn, who: Operator, context: Ctx) -> RolloutOut:
    """Lets the ring open that awaits go."""
    await steering.go(context, rollout_id, body, who.name)
    return await shown.show(context, rollout_id)


@router.get("/rollouts/{rollout_id}/course", responses=problems(404))
async def show_course(rollout_id: Id, who: Anyone, context: Ctx) -> CourseOut:
    """States over time."""
    return await reports.course(context, rollout_id)


async def _whole_report(context: Context, rollout_id: int) -> ReportOut:
    told = await reports.report(context, rollout_id)
    # Kept for a while where the fleet is large, as the rest of it is.
    question = ("changes", rollout_id, told.rollout.state)
    changes = await context.counted(question, lambda: change.watched(context, told.rollout))
    return told.model_copy(update={"changes": changes})


@router.get("/rollouts/{rollout_id}/report", responses=problems(404))
async def show_report(rollout_id: Id, who: Anyone, context: Ctx) -> ReportOut:
    """What was planned, what happened, who decided what, and where the time went."""
    return await _whole_report(context, rollout_id)


@router.get("/rollouts/{rollout_id}/report.md", responses={**problems(404), **MARKDOWN}, response_class=Response)
async def report_as_text(rollout_id: Id, who: Anyone, context: Ctx) -> Response:
    """The report as Markdown."""
    text = write_markdown(await _whole_report(context, rollout_id))
    return Response(text, media_type="text/markdown; charset=utf-8")


@router.get("/rollouts/{rollout_id}/report.html", responses={**problems(404), **PAGE}, response_class=Response)
async def report_as_page(rollout_id: Id, who: Anyone, context: Ctx) -> Response:
    """The report as one HTML file with charts."""
    page = write_page(await _whole_report(context, rollout_id))
    # The page brings its own style, which the console's policy would not let in; it has no script at all.
    headers = {"content-security-policy": "default-src 'none'; style-src 'unsafe-inline'"}
    return Response(page, media_type="text/html; charset=utf-8", headers=headers)


@router.get("/rollouts/{rollout_id}/attempts", responses=problems(404))
async def list_attempts(
    rollout_id: Id,
    who: Anyone,
    context: Ctx,
    request: Request,
    response: Response,
    state: State | None = None,
    reason: Annotated[str | None, Query(max_length=100, pattern=r"^[a-z-]*$")] = None,
    ring: Annotated[int | None, Query(ge=0, le=100)] = None,
    waiting_for: WaitingFor | None = None,
    ever_bad: Annotated[bool | None, Query(description="Only those that ever went bad, or only the others.")] = None,
    where: Annotated[str | None, Query(max_length=4000, description="A selector over the attempts' devices.")] = None,
    limit: Annotated[int, Query(ge=1, le=1000)] = 100,
    after: Annotated[
        int, Query(ge=0, le=LARGEST_INTEGER, description="Cursor: the id of the last attempt before.")
    ] = 0,
) -> Page[AttemptOut]:
    """A rollout's attempts."""
    node = parse_selector(where) if where else None
    now = context.clock.now()
    async with context.engine.connect() as connection:
        rows = await attempts.list_attempts(
            connection,
            rollout_id,
            state=state,
            reason=reason,
            ring=ring,
            waiting_for=waiting_for,
            ever_bad=ever_bad,
            where=node,
            now=now,
            after=after,
            limit=limit + 1,
        )
    items = [AttemptOut.model_validate(shown.attempt_as_shown(row, now)) for row in rows[:limit]]
    cursor = str(items[-1].id) if len(rows) > limit else None
    link_next(request, response, cursor)
    return Page(items=items, next=cursor)


@router.get("/rollouts/{rollout_id}/failures", responses=problems(404))
async def list_failures(
    rollout_id: Id,
    who: Anyone,
    context: Ctx,
    request: Request,
    response: Response,
    reason: Annotated[str | None, Query(max_length=100, pattern=r"^[a-z-]*$")] = None,
    where: Annotated[str | None, Query(max_length=4000, description="A selector over the devices.")] = None,
    logs: Annotated[bool, Query(description="All lines of the logs, not the last few.")] = False,
    limit: Annotated[int, Query(ge=1, le=1000, description="So many devices; each has an entry a try.")] = 100,
    after: Annotated[int, Query(ge=0, le=LARGEST_INTEGER, description="Cursor: `next` of the page before.")] = 0,
) -> Page[FailureOut]:
    """Every try that went bad, whatever came of it later: why, what the device told, and its log."""
    node = parse_selector(where) if where else None
    now = context.clock.now()
    async with context.engine.connect() as connection:
        await stored_rollout(connection, rollout_id)
        rows = await failed_tries(
            connection, rollout_id, reason=reason, where=node, now=now, after=after, limit=limit + 1
        )
    ids = sorted({row["attempt_id"] for row in rows})
    cursor = str(ids[limit - 1]) if len(ids) > limit else None
    items = [
        reports.failure_as_shown(row, None if logs else LAST_LINES) for row in rows if row["attempt_id"] in ids[:limit]
    ]
    link_next(request, response, cursor)
    return Page(items=items, next=cursor)


@router.post("/rollouts/{rollout_id}/retries", responses=problems(404, 409))
async def retry_bad_devices(rollout_id: Id, body: RetryIn, who: Operator, context: Ctx) -> RolloutOut:
    """Gives all bad devices of a ring, or of all rings, one more try, but for those that were left out."""
    await steering.retry_bad(context, rollout_id, body, who.name)
    return await shown.show(context, rollout_id)


@router.post("/rollouts/{rollout_id}/leave-out", responses=problems(404, 409))
async def leave_devices_out(rollout_id: Id, body: LeaveOutIn, who: Operator, context: Ctx) -> RolloutOut:
    """Goes on without some devices: those that a selector picks, or those that keep a ring from going on."""
    await steering.leave_out(context, rollout_id, body, who.name)
    return await shown.show(context, rollout_id)


@router.get("/attempts/{attempt_id}", responses=problems(404))
async def show_attempt(attempt_id: Id, who: Anyone, context: Ctx) -> AttemptOut:
    """One attempt."""
    async with context.engine.connect() as connection:
        row = await attempts.find_attempt(connection, attempt_id)
    if row is None:
        raise ProblemError(404, "not-found", f"There is no attempt {attempt_id}.")
    return AttemptOut.model_validate(shown.attempt_as_shown(row, context.clock.now()))


@router.post("/attempts/{attempt_id}/call-off", responses=problems(404, 409))
async def call_off_attempt(attempt_id: Id, body: ReasonIn, who: Operator, context: Ctx) -> AttemptOut:
    """Stops one device's attempt before it switches."""
    await steering.call_off(context, attempt_id, who.name, body.reason)
    return await show_attempt(attempt_id, who, context)


@router.post("/attempts/{attempt_id}/retry", responses=problems(404, 409))
async def retry_attempt(attempt_id: Id, body: ReasonIn, who: Operator, context: Ctx) -> AttemptOut:
    """Gives one device one more try."""
    await steering.retry(context, attempt_id, who.name, body.reason)
    return await show_attempt(attempt_id, who, context)


@router.get("/attempts/{attempt_id}/timeline", responses=problems(404))
async def show_timeline(attempt_id: Id, who: Anyone, context: Ctx) -> list[TimelineEntry]:
    """What happened in an attempt, newest first."""
    async with context.engine.connect() as connection:
        if await attempts.find_attempt(connection, attempt_id) is None:
            raise ProblemError(404, "not-found", f"There is no attempt {attempt_id}.")
        return [TimelineEntry.model_validate(dict(row)) for row in await fleet.timeline(connection, attempt_id)]


@router.post("/rollouts/{rollout_id}/hold", responses=problems(404, 409))
async def hold_rollout(rollout_id: Id, body: ReasonIn, who: Operator, context: Ctx) -> RolloutOut:
    """Gives no further offers or clearances for now."""
    await life.hold(context, rollout_id, who.name, body.reason)
    return await shown.show(context, rollout_id)


@router.get("/settlements", responses=problems())
async def list_settlements(who: Anyone, context: Ctx) -> list[SettlementOut]:
    """Attempts that had stood wrong and were settled by what their devices had last said, when the service was brought
    up to date; the newest 1,000 of them."""
    async with context.engine.connect() as connection:
        return [SettlementOut.model_validate(dict(row)) for row in await attempts.list_settlements(connection)]


@router.post("/rollouts/{rollout_id}/resume", responses=problems(404, 409))
async def resume_rollout(rollout_id: Id, body: ResumeIn, who: Operator, context: Ctx) -> RolloutOut:
    """Goes on with a held or halted rollout, without the devices that ``leave_out`` picks. After a halt a new round
    begins, and what was called off is queued again."""
    await life.resume(context, rollout_id, who.name, body)
    return await shown.show(context, rollout_id)


@router.post("/rollouts/{rollout_id}/halt", responses=problems(404, 409))
async def halt_rollout(rollout_id: Id, body: ReasonIn, who: Operator, context: Ctx) -> RolloutOut:
    """Stops a rollout at once; what was not cleared is called off."""
    await life.halt(context, rollout_id, who.name, body.reason)
    return await shown.show(context, rollout_id)


@router.post("/rollouts/{rollout_id}/cancel", responses=problems(404, 409))
async def cancel_rollout(rollout_id: Id, body: ReasonIn, who: Operator, context: Ctx) -> RolloutOut:
    """Ends a rollout for good; refused while devices are at risk."""
    await life.cancel(context, rollout_id, who.name, body.reason)
    return await shown.show(context, rollout_id)
