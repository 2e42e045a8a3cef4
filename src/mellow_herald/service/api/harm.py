"""Seeing harm and undoing it: brakes, suspects, rollbacks, and the swap of one device's slots."""

from typing import Annotated

from fastapi import APIRouter, Query, Response

from mellow_herald.core.plan import BrakeKind
from mellow_herald.service.api.parameters import Ctx, Id, RequestKey
from mellow_herald.service.people.callers import Anyone, Operator
from mellow_herald.service.problems import again, problems
from mellow_herald.service.rollouts import brakes, rollbacks, shown, suspects
from mellow_herald.wire.brake import BrakesOut
from mellow_herald.wire.rollback import RollbackIn, RollbackPreview, SwapIn
from mellow_herald.wire.rollout import RolloutOut
from mellow_herald.wire.suspect import SuspectsOut

router = APIRouter(tags=["harm"])


@router.get("/rollouts/{rollout_id}/brake", responses=problems(404))
async def show_brakes(rollout_id: Id, who: Anyone, context: Ctx) -> BrakesOut:
    """What both brakes show in this round, how they came there, and the control beside them."""
    return await brakes.show(context, rollout_id)


@router.get("/rollouts/{rollout_id}/suspects", responses=problems(404))
async def show_suspects(
    rollout_id: Id,
    who: Anyone,
    context: Ctx,
    brake: Annotated[BrakeKind | None, Query(description="Of which brake's bad devices; the firmware's first.")] = None,
    excepted: Annotated[bool, Query(description="Count devices that the rollout left out, too.")] = False,
) -> SuspectsOut:
    """What failing devices have in common that healthy ones do not."""
    return await suspects.find(context, rollout_id, brake, excepted=excepted)


@router.post("/rollouts/{rollout_id}/rollback-preview", responses=problems(404, 409))
async def preview_rollback(rollout_id: Id, body: RollbackIn, who: Anyone, context: Ctx) -> RollbackPreview:
    """How each device of a rollout would get back to what it came from, or why it cannot. Changes nothing."""
    return await rollbacks.preview(context, rollout_id, body)


@router.post("/rollouts/{rollout_id}/rollback", status_code=201, responses={**problems(404, 409), **again(RolloutOut)})
async def roll_back(
    rollout_id: Id,
    body: RollbackIn,
    who: Operator,
    context: Ctx,
    response: Response,
    idempotency_key: RequestKey = None,
) -> RolloutOut:
    """Brings devices of a halted or ended rollout back to what they came from: a rollout of its own. With the same
    ``Idempotency-Key`` it is started only once (then 200)."""
    rollback_id, new = await rollbacks.start(context, rollout_id, body, who.name, idempotency_key)
    response.headers["location"] = f"/api/v1/rollouts/{rollback_id}"
    response.status_code = 201 if new else 200
    return await shown.show(context, rollback_id)


@router.post("/devices/{serial}/swap", status_code=201, responses={**problems(404, 409), **again(RolloutOut)})
async def swap_slots(
    serial: str, body: SwapIn, who: Operator, context: Ctx, response: Response, idempotency_key: RequestKey = None
) -> RolloutOut:
    """Lets one device switch to what stands in its other slot: a rollout of one, without a download."""
    rollout_id, new = await rollbacks.swap(context, serial, body, who.name, idempotency_key)
    response.headers["location"] = f"/api/v1/rollouts/{rollout_id}"
    response.status_code = 201 if new else 200
    return await shown.show(context, rollout_id)
