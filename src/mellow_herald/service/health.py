"""Health."""

import asyncio
from typing import Annotated

from fastapi import APIRouter, Depends, Response
from sqlalchemy import text

from mellow_herald import __version__
from mellow_herald.core.steady import JUMP
from mellow_herald.service.context import Context, context_of
from mellow_herald.store.database import HEALTH_S
from mellow_herald.wire.event import Health

router = APIRouter(tags=["health"])
Ctx = Annotated[Context, Depends(context_of)]


@router.get("/health/live")
async def live() -> Health:
    """The process answers."""
    return Health(ok=True, version=__version__, checks={})


@router.get("/health/ready", responses={503: {"model": Health, "description": "Not ready; ``checks`` says why."}})
async def ready(response: Response, context: Ctx) -> Health:
    """The process can serve: the database answers, the feed is read, no stored image is damaged."""
    checks: dict[str, str] = {}
    try:
        async with asyncio.timeout(HEALTH_S), context.pools.health.connect() as connection:
            await connection.execute(text("SELECT 1"))
    except Exception as error:
        checks["database"] = f"does not answer ({type(error).__name__})"
    if context.memory.beat_failed:
        checks["writing"] = f"nothing can be written ({context.memory.beat_failed})"
    if not context.memory.usable:
        checks["feed"] = "was not read within the last 2 s"
    blocking = bool(checks)
    if blocking:
        response.headers["retry-after"] = "2"
    if abs(context.memory.clock_ahead) > JUMP:
        ahead = context.memory.clock_ahead.total_seconds()
        way = "ahead" if ahead > 0 else "behind"
        checks["clock"] = f"this machine's was set; it is {abs(ahead):.0f} s {way}, which is taken in slowly"
    if context.unhealthy:
        checks["images"] = f"{len(context.unhealthy)} damaged and not served; the journal names them"
    response.status_code = 503 if blocking else 200
    return Health(ok=not checks, version=__version__, checks=checks)
