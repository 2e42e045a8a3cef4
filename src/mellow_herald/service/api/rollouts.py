"""Rollouts and attempts."""

from typing import Annotated

from fastapi import APIRouter, Query, Request, Response

from mellow_herald.core.attempt import State
from mellow_herald.service import rollouts as service
from mellow_herald.service.api.parameters import LARGEST, Ctx, Id, IdCursor, RequestKey
from mellow_herald.service.devices import attempt_as_shown
from mellow_herald.service.pages import link_next
from mellow_herald.service.people import Anyone, Operator
from mellow_herald.service.problems import ProblemError, problems
from mellow_herald.store import attempts, fleet, rollouts
from mellow_herald.wire.fleet import TimelineEntry
from mellow_herald.wire.model import Page
from mellow_herald.wire.rollout import AttemptOut, PlanDocument, ReasonIn, RolloutOut

router = APIRouter(tags=["rollouts"])


@router.post("/rollouts", status_code=201, responses=problems(409))
async def start_rollout(
    plan: PlanDocument,
    who: Operator,
    context: Ctx,
    response: Response,
    idempotency_key: RequestKey = None,
) -> RolloutOut:
    """Starts a rollout by a plan. With the same ``Idempotency-Key`` it is started only once (then 200)."""
    rollout_id, new = await service.start(context, plan, who.name, idempotency_key)
    response.status_code = 201 if new else 200
    return await service.show(context, rollout_id)


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
        items = await service.assemble(connection, rows[:limit])
    cursor = str(items[-1].id) if len(rows) > limit else None
    link_next(request, response, cursor)
    return Page(items=items, next=cursor)


@router.get("/rollouts/{rollout_id}", responses=problems(404))
async def show_rollout(rollout_id: Id, who: Anyone, context: Ctx) -> RolloutOut:
    """One rollout with its rings and counts."""
    return await service.show(context, rollout_id)


@router.get("/rollouts/{rollout_id}/attempts", responses=problems(404))
async def list_attempts(
    rollout_id: Id,
    who: Anyone,
    context: Ctx,
    request: Request,
    response: Response,
    state: State | None = None,
    reason: Annotated[str | None, Query(max_length=100, pattern=r"^[a-z-]*$")] = None,
    limit: Annotated[int, Query(ge=1, le=1000)] = 100,
    after: Annotated[int, Query(ge=0, le=LARGEST, description="Cursor: the id of the last attempt before.")] = 0,
) -> Page[AttemptOut]:
    """A rollout's attempts."""
    async with context.engine.connect() as connection:
        rows = await attempts.list_attempts(
            connection, rollout_id, state=state, reason=reason, after=after, limit=limit + 1
        )
    items = [AttemptOut.model_validate(attempt_as_shown(row, context.clock.now())) for row in rows[:limit]]
    cursor = str(items[-1].id) if len(rows) > limit else None
    link_next(request, response, cursor)
    return Page(items=items, next=cursor)


@router.get("/attempts/{attempt_id}", responses=problems(404))
async def show_attempt(attempt_id: Id, who: Anyone, context: Ctx) -> AttemptOut:
    """One attempt."""
    async with context.engine.connect() as connection:
        row = await attempts.find_attempt(connection, attempt_id)
    if row is None:
        raise ProblemError(404, "not-found", f"There is no attempt {attempt_id}.")
    return AttemptOut.model_validate(attempt_as_shown(row, context.clock.now()))


@router.get("/attempts/{attempt_id}/timeline", responses=problems(404))
async def show_timeline(attempt_id: Id, who: Anyone, context: Ctx) -> list[TimelineEntry]:
    """What happened in an attempt, newest first."""
    async with context.engine.connect() as connection:
        if await attempts.find_attempt(connection, attempt_id) is None:
            raise ProblemError(404, "not-found", f"There is no attempt {attempt_id}.")
        return [TimelineEntry.model_validate(dict(row)) for row in await fleet.timeline(connection, attempt_id)]


@router.post("/rollouts/{rollout_id}/hold", responses=problems(404, 409))
async def hold_rollout(rollout_id: Id, said: ReasonIn, who: Operator, context: Ctx) -> RolloutOut:
    """Gives no further offers or clearances for now."""
    await service.hold(context, rollout_id, who.name, said.reason)
    return await service.show(context, rollout_id)


@router.post("/rollouts/{rollout_id}/resume", responses=problems(404, 409))
async def resume_rollout(rollout_id: Id, said: ReasonIn, who: Operator, context: Ctx) -> RolloutOut:
    """Goes on with a held or halted rollout."""
    await service.resume(context, rollout_id, who.name, said.reason)
    return await service.show(context, rollout_id)


@router.post("/rollouts/{rollout_id}/halt", responses=problems(404, 409))
async def halt_rollout(rollout_id: Id, said: ReasonIn, who: Operator, context: Ctx) -> RolloutOut:
    """Stops a rollout at once; what was not cleared is called off."""
    await service.halt(context, rollout_id, who.name, said.reason)
    return await service.show(context, rollout_id)


@router.post("/rollouts/{rollout_id}/cancel", responses=problems(404, 409))
async def cancel_rollout(rollout_id: Id, said: ReasonIn, who: Operator, context: Ctx) -> RolloutOut:
    """Ends a rollout for good; refused while devices are at risk."""
    await service.cancel(context, rollout_id, who.name, said.reason)
    return await service.show(context, rollout_id)
