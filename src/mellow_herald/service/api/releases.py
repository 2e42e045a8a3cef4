"""Releases."""

from typing import Annotated, Any, Literal

from fastapi import APIRouter, Depends, Query, Request, Response
from pydantic import TypeAdapter

from mellow_herald.core.diagnostic import diagnose
from mellow_herald.core.manifest import AUTHENTICATION_LIMIT, MANIFEST_LIMIT, join_envelope
from mellow_herald.core.refusal import Refused
from mellow_herald.core.selector import matches, parse_selector
from mellow_herald.core.suit import read_manifest, switch_order
from mellow_herald.service.api.pages import link_next
from mellow_herald.service.api.parameters import Ctx, Id, IdCursor, IfMatch, revision_of
from mellow_herald.service.api.uploads import BODY, AllowedParams, announced_length, check_media_type
from mellow_herald.service.context import Context
from mellow_herald.service.people.callers import Anyone, Publisher
from mellow_herald.service.problems import ProblemError, again, problems
from mellow_herald.service.releases import life as release_life
from mellow_herald.service.releases.checking import foresee
from mellow_herald.service.releases.offering import release_name
from mellow_herald.service.releases.publishing import Wishes, foresee_envelope, receive
from mellow_herald.service.releases.uses import uses
from mellow_herald.service.rollouts.life import halt_within
from mellow_herald.store import keys, releases
from mellow_herald.store.failures import failed_images
from mellow_herald.store.releases import ShownRelease, Use
from mellow_herald.wire.check import CheckAsk, CheckOut
from mellow_herald.wire.model import Labels, Page
from mellow_herald.wire.release import (
    ENVELOPE_MEDIA_TYPE,
    EnvelopeCheck,
    ManifestOut,
    ReleaseEdit,
    ReleaseOut,
    WithdrawalOut,
)
from mellow_herald.wire.rollout import ReasonIn

router = APIRouter(tags=["releases"])
LABELS: TypeAdapter[dict[str, str]] = TypeAdapter(Labels)
SIGNED: dict[str, Any] = {
    "requestBody": {
        "required": True,
        "description": "The signed envelope of a release file, without its images.",
        "content": {ENVELOPE_MEDIA_TYPE: {"schema": {"type": "string", "format": "binary"}}},
    }
}
ORDERS = "upload: the newest upload first; version: by board and line, the highest version first."
PICKED_BY = "A selector over board, line, version, state, floor, key, by and labels."
ENVELOPE: dict[int | str, dict[str, Any]] = {
    200: {"content": {ENVELOPE_MEDIA_TYPE: {"schema": {"type": "string", "format": "binary"}}}}
}


def labels(
    label: Annotated[list[str] | None, Query(max_length=50, description="`key=value`")] = None,
) -> dict[str, str]:
    """Labels as repeated query parameters."""
    pairs = dict(one.partition("=")[::2] for one in label or [])
    try:
        if any("=" not in one for one in label or []):
            raise ValueError
        return LABELS.validate_python(pairs)
    except ValueError:
        detail = "A label is written as key=value, for example ticket=HS-311; a key has no spaces."
        raise ProblemError(422, "bad-values", detail) from None


ReleaseOrder = Literal["upload", "version"]
LabelParams = Annotated[dict[str, str], Depends(labels)]


def shown(row: ShownRelease, used: Use, **more: Any) -> ReleaseOut:
    """A stored release as it is answered."""
    size = sum(component["size"] for component in row["components"])
    named = {"name": release_name(row), "manifest": row["manifest_digest"], "key": row["kid"], "size": size}
    return ReleaseOut.model_validate({**row, **used, **named, **more})


async def _show(context: Context, release_id: int, response: Response | None = None, **more: Any) -> ReleaseOut:
    async with context.engine.connect() as connection:
        rows = await releases.list_releases(connection, release_id=release_id)
        failed = await failed_images(connection, release_id)
    used = await uses(context, [release_id]) if rows else {}
    if release_id not in used:
        raise ProblemError(404, "not-found", f"There is no release {release_id}. See `herald release list`.")
    for one in rows[0]["components"]:
        one["failed_on"] = failed.get(one["name"], 0)  # type: ignore[typeddict-unknown-key]
    if response is not None:
        response.headers["etag"] = f'"{rows[0]["revision"]}"'
    return shown(rows[0], used[release_id], **more)


@router.post(
    "/releases",
    status_code=201,
    responses={**problems(409, 413, 415, 507), **again(ReleaseOut)},
    openapi_extra=BODY,
)
async def publish_release(
    request: Request,
    response: Response,
    who: Publisher,
    context: Ctx,
    may: AllowedParams,
    label: LabelParams,
    draft: bool = False,
) -> ReleaseOut:
    """Publishes a release file, taken as a stream. 200 if the very same release was there already.

    With `draft` it is checked and kept, but not offered. A refusal comes with all checks.
    """
    check_media_type(request)
    wishes = Wishes(draft, allowed=may, labels=label)
    release_id, new = await receive(context, request.stream(), announced_length(request), who.name, wishes)
    response.status_code = 201 if new else 200
    return await _show(context, release_id, already_there=not new)


@router.post("/release_checks", responses=problems())
async def foresee_checks(asked: CheckAsk, who: Anyone, context: Ctx) -> list[CheckOut]:
    """What publishing would say of a release that is not sealed yet. Changes nothing."""
    async with context.engine.connect() as connection:
        found = await foresee(connection, context.clock, asked)
    return [CheckOut.model_validate(check, from_attributes=True) for check in found]


@router.post("/release_checks/envelope", responses=problems(409, 413, 415), openapi_extra=SIGNED)
async def check_envelope(request: Request, who: Anyone, context: Ctx, may: AllowedParams) -> EnvelopeCheck:
    """What publishing would say of a signed envelope, before its images are sent. Changes nothing."""
    check_media_type(request)
    body = bytearray()
    async for piece in request.stream():
        body += piece
        if len(body) > AUTHENTICATION_LIMIT + MANIFEST_LIMIT:
            raise Refused("too-large", "the envelope is larger than a manifest may be.", "Send it without its images.")
    known, found = await foresee_envelope(context, bytes(body), Wishes(allowed=may))
    if known is not None:
        return EnvelopeCheck(release=await _show(context, known, already_there=True))
    return EnvelopeCheck(checks=[CheckOut.model_validate(check, from_attributes=True) for check in found])


@router.get("/releases", responses=problems())
async def list_releases(
    who: Anyone,
    context: Ctx,
    request: Request,
    response: Response,
    limit: Annotated[int, Query(ge=1, le=1000)] = 100,
    after: IdCursor = None,
    where: Annotated[str | None, Query(max_length=4000, description=PICKED_BY)] = None,
    order: Annotated[ReleaseOrder, Query(description=ORDERS)] = "upload",
) -> Page[ReleaseOut]:
    """Releases, page by page."""
    picked = parse_selector(where) if where else None
    by_version = order == "version"
    async with context.engine.connect() as connection:
        if by_version:
            rows = await releases.releases_by_version(connection)
        else:
            rows = await releases.list_releases(connection, after=after, limit=None if picked else limit + 1)
    found = [row for row in rows if picked is None or matches(picked, _facts(row))]
    # By version the cursor is a place in the list: releases come seldom, and a page that has shifted does no harm.
    skipped = (after or 0) if by_version else 0
    page = found[skipped : skipped + limit]
    used = await uses(context, [row["id"] for row in page])
    items = [shown(row, used[row["id"]]) for row in page if row["id"] in used]  # one may have been dropped meanwhile
    more = len(found) > skipped + limit
    cursor = str(skipped + limit if by_version else page[-1]["id"]) if more else None
    link_next(request, response, cursor)
    return Page(items=items, next=cursor)


def _facts(row: ShownRelease) -> dict[str, Any]:
    own = {name: row[name] for name in ("board", "line", "version", "state", "floor")}
    return {**row["labels"], **own, "key": row["kid"], "by": row["published_by"]}


@router.get("/releases/{release_id}", responses=problems(404))
async def show_release(release_id: Id, who: Anyone, context: Ctx, response: Response) -> ReleaseOut:
    """One release; its `ETag` guards an edit."""
    return await _show(context, release_id, response)


@router.patch("/releases/{release_id}", responses=problems(404, 412))
async def edit_release(
    release_id: Id,
    change: ReleaseEdit,
    who: Publisher,
    context: Ctx,
    response: Response,
    if_match: IfMatch = None,
) -> ReleaseOut:
    """Changes notes or labels. With `If-Match`, only if nobody else did meanwhile."""
    revision = revision_of(if_match)
    await release_life.edit(context, release_id, change, who.name, revision)
    return await _show(context, release_id, response)


@router.delete("/releases/{release_id}", status_code=204, responses=problems(404, 409))
async def drop_release(release_id: Id, who: Publisher, context: Ctx) -> None:
    """Drops a draft."""
    await release_life.drop(context, release_id, who.name)


@router.post("/releases/{release_id}/publish", responses=problems(404, 409))
async def publish_draft(release_id: Id, who: Publisher, context: Ctx, may: AllowedParams) -> ReleaseOut:
    """Publishes a draft, after checking it again against what is there now."""
    await release_life.publish_draft(context, release_id, who.name, may)
    return await _show(context, release_id)


@router.post("/releases/{release_id}/baseline", responses=problems(404, 409))
async def make_baseline(release_id: Id, change: ReasonIn, who: Publisher, context: Ctx) -> ReleaseOut:
    """Makes a release what newly admitted or returning devices of its board and line should run."""
    await release_life.make_baseline(context, release_id, who.name, change.reason)
    return await _show(context, release_id)


@router.get("/releases/{release_id}/withdrawal", responses=problems(404))
async def foresee_withdrawal(release_id: Id, who: Anyone, context: Ctx) -> WithdrawalOut:
    """What withdrawing the release would stop."""
    return await release_life.foresee_withdrawal(context, release_id)


@router.post("/releases/{release_id}/withdraw", responses=problems(404, 409))
async def withdraw_release(release_id: Id, change: ReasonIn, who: Publisher, context: Ctx) -> WithdrawalOut:
    """Withdraws a release: no device is offered it any more, and its running rollouts halt."""
    return await release_life.withdraw(context, release_id, who.name, change.reason, halt_within)


@router.get("/releases/{release_id}/manifest", responses=problems(404))
async def show_manifest(release_id: Id, who: Anyone, context: Ctx) -> ManifestOut:
    """The signed manifest, for people."""
    row, known = await _signed(context, release_id)
    manifest = read_manifest(row["manifest"])
    key = known.find(row["kid"]) if known else None
    return ManifestOut(
        diagnostic=diagnose(join_envelope(row["authentication"], row["manifest"])),
        size=len(row["manifest"]),
        key=row["kid"],
        key_name=key.name if key else "",
        key_status=key.status if key else "not listed",
        vendor_domain=manifest.vendor_domain,
        vendor_id=str(manifest.vendor_id),
        class_id=str(manifest.class_id),
        switch_order=[list(group) for group in switch_order(manifest.components)],
    )


@router.get("/releases/{release_id}/envelope", responses={**problems(404), **ENVELOPE}, response_class=Response)
async def show_envelope(release_id: Id, who: Anyone, context: Ctx) -> Response:
    """The signed envelope without its images, as devices fetch it."""
    row, _ = await _signed(context, release_id)
    return Response(join_envelope(row["authentication"], row["manifest"]), media_type=ENVELOPE_MEDIA_TYPE)


async def _signed(context: Context, release_id: int) -> tuple[Any, Any]:
    async with context.engine.connect() as connection:
        rows = await releases.list_releases(connection, release_id=release_id)
        if not rows:
            raise ProblemError(404, "not-found", f"There is no release {release_id}. See `herald release list`.")
        try:
            known = await keys.trusted_keys(connection)
        except Refused:
            known = None
        return rows[0], known
