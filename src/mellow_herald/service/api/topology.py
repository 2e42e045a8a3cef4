"""The tree of gateways, alarms, and the steps of a plan."""

from typing import Annotated

from fastapi import APIRouter, Query

from mellow_herald.core.limits import LARGEST_INTEGER
from mellow_herald.service.api.parameters import Ctx
from mellow_herald.service.fleet import topology
from mellow_herald.service.people.callers import Anyone
from mellow_herald.service.problems import problems
from mellow_herald.service.rollouts import steps
from mellow_herald.wire.model import Name
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.topology import AlarmOut, StepsOut, TopologyOut

router = APIRouter(tags=["fleet"])


@router.get("/topology", responses=problems(404))
async def show_topology(
    who: Anyone,
    context: Ctx,
    behind: Annotated[Name | None, Query(description="Only this device and what is behind it.")] = None,
    limit: Annotated[int, Query(ge=1, le=10_000)] = 1000,
) -> TopologyOut:
    """Gateways and the devices behind them, each after its gateway: who is cut off by whose restart."""
    return await topology.show(context, behind, limit)


@router.get("/alarms", responses=problems())
async def list_alarms(
    who: Anyone,
    context: Ctx,
    serial: Annotated[Name | None, Query(description="Only those that it raised, or that are about it.")] = None,
    rollout: Annotated[
        int | None, Query(ge=0, le=LARGEST_INTEGER, description="Only those that this rollout explains.")
    ] = None,
    explained: Annotated[bool | None, Query(description="Only those that an update explains, or does not.")] = None,
    limit: Annotated[int, Query(ge=1, le=1000)] = 100,
) -> list[AlarmOut]:
    """Alarms that devices raised, newest first, with the update that explains them, if one does."""
    return await topology.list_alarms(context, serial=serial, rollout_id=rollout, explained=explained, limit=limit)


@router.post("/previews/steps", tags=["rollouts"], responses=problems())
async def preview_steps(
    plan: PlanDocument,
    who: Anyone,
    context: Ctx,
    all_devices: Annotated[bool, Query(description="Every serial of each step, not the first ones only.")] = False,
) -> StepsOut:
    """In which order the plan would stage and switch, and whom each restart of a gateway cuts off."""
    return await steps.steps(context, plan, first=None if all_devices else steps.FIRST)
