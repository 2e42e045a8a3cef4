"""Two releases compared."""

from fastapi import APIRouter

from mellow_herald.service.api.parameters import Ctx, Id
from mellow_herald.service.people.callers import Anyone, Operator
from mellow_herald.service.problems import problems
from mellow_herald.service.rollouts import comparing, shown
from mellow_herald.wire.comparison import ChooseIn, ComparisonOut
from mellow_herald.wire.rollout import RolloutOut

router = APIRouter(tags=["rollouts"])


@router.get("/rollouts/{rollout_id}/comparison", responses=problems(404, 409))
async def compare_releases(rollout_id: Id, who: Anyone, context: Ctx) -> ComparisonOut:
    """The two releases that a rollout compares, side by side: how many devices of each went bad, what the readings that
    its brake watches did, and whether it is proven that they differ, which holds however often one asks."""
    return await comparing.compare(context, rollout_id)


@router.post("/rollouts/{rollout_id}/choose", responses=problems(404, 409))
async def choose_release(rollout_id: Id, body: ChooseIn, who: Operator, context: Ctx) -> RolloutOut:
    """Chooses the release that everybody gets from now on, by its arm's name, its version or its name: the rings that
    are to come, and who was to get the other and has no clearance yet."""
    await comparing.choose(context, rollout_id, body, who.name)
    return await shown.show(context, rollout_id)
