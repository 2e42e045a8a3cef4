"""Releases."""

from typing import Annotated, Any

from fastapi import APIRouter, Query, Request, Response

from mellow_herald.service.api.parameters import Ctx, Id, IdCursor
from mellow_herald.service.pages import link_next
from mellow_herald.service.people import Anyone, Publisher
from mellow_herald.service.problems import ProblemError, problems
from mellow_herald.service.publishing import receive
from mellow_herald.store import releases
from mellow_herald.wire.model import Page
from mellow_herald.wire.release import ENVELOPE_MEDIA_TYPE, ReleaseOut

router = APIRouter(tags=["releases"])
BODY: dict[str, Any] = {
    "requestBody": {
        "required": True,
        "description": "A release file made by `herald release seal`: a SUIT envelope with its images inside.",
        "content": {ENVELOPE_MEDIA_TYPE: {"schema": {"type": "string", "format": "binary"}}},
    }
}


def _shown(row: Any, **more: Any) -> ReleaseOut:
    values = dict(row)
    size = sum(component["size"] for component in values["components"])
    name = f"{values['board']}/{values['line']}/{values['version']}"
    return ReleaseOut.model_validate(
        {**values, "name": name, "manifest": values["manifest_digest"], "key": values["kid"], "size": size, **more}
    )


@router.post("/releases", status_code=201, responses=problems(409, 411, 413, 415), openapi_extra=BODY)
async def publish_release(request: Request, response: Response, who: Publisher, context: Ctx) -> ReleaseOut:
    """Publishes a release file, taken as a stream. 200 if the very same release was there already."""
    media_type = request.headers.get("content-type", "").partition(";")[0]
    if media_type != ENVELOPE_MEDIA_TYPE:
        raise ProblemError(415, "wrong-media-type", f"Send a release file as {ENVELOPE_MEDIA_TYPE}.")
    announced = request.headers.get("content-length")
    length = int(announced) if announced is not None and announced.isdigit() else None
    release_id, new = await receive(context, request.stream(), length, who.name)
    response.status_code = 201 if new else 200
    async with context.engine.connect() as connection:
        (row,) = await releases.list_releases(connection, release_id=release_id)
    return _shown(row, already_there=not new)


@router.get("/releases", responses=problems())
async def list_releases(
    who: Anyone,
    context: Ctx,
    request: Request,
    response: Response,
    limit: Annotated[int, Query(ge=1, le=1000)] = 100,
    after: IdCursor = None,
) -> Page[ReleaseOut]:
    """Releases, newest first."""
    async with context.engine.connect() as connection:
        rows = await releases.list_releases(connection, after=after, limit=limit + 1)
    items = [_shown(row) for row in rows[:limit]]
    cursor = str(items[-1].id) if len(rows) > limit else None
    link_next(request, response, cursor)
    return Page(items=items, next=cursor)


@router.get("/releases/{release_id}", responses=problems(404))
async def show_release(release_id: Id, who: Anyone, context: Ctx) -> ReleaseOut:
    """One release."""
    async with context.engine.connect() as connection:
        rows = await releases.list_releases(connection, release_id=release_id)
    if not rows:
        raise ProblemError(404, "not-found", f"There is no release {release_id}. See `herald release list`.")
    return _shown(rows[0])
