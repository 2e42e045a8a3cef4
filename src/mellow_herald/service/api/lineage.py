"""Lineage: versions over time; and cleaning away what nobody needs."""

from fastapi import APIRouter

from mellow_herald.service.api.parameters import Ctx
from mellow_herald.service.fleet import lineage
from mellow_herald.service.people.callers import Anyone, Publisher
from mellow_herald.service.problems import problems
from mellow_herald.service.releases import retention
from mellow_herald.wire.model import Name
from mellow_herald.wire.release import CleanIn, CleanOut, LineageOut, UnusedRelease

router = APIRouter(tags=["releases"])


@router.get("/lineage/{board}/{line}", responses=problems())
async def show_lineage(board: Name, line: Name, who: Anyone, context: Ctx) -> LineageOut:
    """How many devices ran which version of a line over time, and the rollouts that brought them there."""
    return await lineage.show(context, board, line)


@router.get("/unused_releases", responses=problems())
async def list_unused_releases(who: Anyone, context: Ctx) -> list[UnusedRelease]:
    """Releases whose images no device runs and no rollback needs."""
    return await retention.unused(context)


@router.post("/unused_releases/clean", responses=problems(409))
async def clean_unused_releases(body: CleanIn, who: Publisher, context: Ctx) -> CleanOut:
    """Cleans away the images of these releases; their records stay."""
    return await retention.clean(context, body.releases, who.name)
