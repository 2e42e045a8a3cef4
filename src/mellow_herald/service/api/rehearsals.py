"""Plans played on a model of the fleet before anybody is hurt."""

from fastapi import APIRouter

from mellow_herald.service.api.parameters import Ctx, Id
from mellow_herald.service.people.callers import Anyone
from mellow_herald.service.problems import problems
from mellow_herald.service.rehearsals import asking
from mellow_herald.wire.rehearsal import RehearsalIn, RehearsalOut

router = APIRouter(tags=["rehearsals"])


@router.post("/rehearsals", status_code=202, responses=problems(429))
async def rehearse(body: RehearsalIn, who: Anyone, context: Ctx) -> RehearsalOut:
    """Has a plan rehearsed: played many times, with each fault, on a model of the fleet as it was in the last week. It
    goes on by itself; ask again until it is done."""
    return await asking.ask(context, body, who.name)


@router.get("/rehearsals", responses=problems())
async def list_rehearsals(who: Anyone, context: Ctx) -> list[RehearsalOut]:
    """The newest rehearsals (at most 50)."""
    return await asking.list_all(context)


@router.get("/rehearsals/{rehearsal_id}", responses=problems(404))
async def show_rehearsal(rehearsal_id: Id, who: Anyone, context: Ctx) -> RehearsalOut:
    """One rehearsal: how far it is, or what it found."""
    return await asking.show(context, rehearsal_id)


@router.get("/rollouts/{rollout_id}/rehearsals", responses=problems(404))
async def list_rehearsals_of(rollout_id: Id, who: Anyone, context: Ctx) -> list[RehearsalOut]:
    """The rehearsals of a rollout's very plan that were done before it was started, the newest first."""
    async with context.engine.connect() as connection:
        return await asking.of_rollout(connection, rollout_id)


@router.post("/rehearsals/{rehearsal_id}/cancel", responses=problems(404, 409))
async def cancel_rehearsal(rehearsal_id: Id, who: Anyone, context: Ctx) -> RehearsalOut:
    """Ends a rehearsal that is under way."""
    return await asking.cancel(context, rehearsal_id, who.name)
