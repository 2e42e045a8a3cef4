"""Baselines that bring devices."""

from fastapi import APIRouter

from mellow_herald.service.api.parameters import Ctx
from mellow_herald.service.fleet import baselines
from mellow_herald.service.people.callers import Anyone, Operator
from mellow_herald.service.problems import problems
from mellow_herald.wire.baseline import BaselineOut, BaselinePreview, BaselineSwitch
from mellow_herald.wire.model import Name

router = APIRouter(tags=["fleet"])


@router.get("/baselines", responses=problems())
async def list_baselines(who: Anyone, context: Ctx) -> list[BaselineOut]:
    """What newly admitted or returning devices should run, by board and line."""
    return await baselines.show_all(context)


@router.get("/baselines/{board}/{line}", responses=problems(404))
async def preview_baseline(board: Name, line: Name, who: Anyone, context: Ctx) -> BaselinePreview:
    """What a baseline would do now if it brought devices."""
    return await baselines.preview(context, board, line)


@router.patch("/baselines/{board}/{line}", responses=problems(404))
async def switch_baseline(
    board: Name, line: Name, body: BaselineSwitch, who: Operator, context: Ctx
) -> BaselinePreview:
    """Lets a baseline bring devices that arrive, or no longer."""
    await baselines.switch(context, board, line, body.brings, who.name, body.reason)
    return await baselines.preview(context, board, line)
