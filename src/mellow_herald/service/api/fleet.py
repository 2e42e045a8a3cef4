"""Enrolment codes and devices."""

from collections.abc import Sequence
from typing import Annotated

from fastapi import APIRouter, Query, Request, Response
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.duration import parse_duration
from mellow_herald.core.limits import LARGEST_INTEGER
from mellow_herald.core.selector import Node
from mellow_herald.service.api.pages import link_next
from mellow_herald.service.api.parameters import Ctx, Id, RequestKey, TextCursor
from mellow_herald.service.api.uploads import BODY, AllowedParams, announced_length, check_media_type
from mellow_herald.service.calls.enrolment import make_code
from mellow_herald.service.calls.logs import show_lines
from mellow_herald.service.context import Context
from mellow_herald.service.fleet import admission, bench, devices
from mellow_herald.service.people.callers import Anyone, Caller, Operator
from mellow_herald.service.people.narrowing import keep_named, node_of, together
from mellow_herald.service.problems import ProblemError, again, problems
from mellow_herald.service.rollouts import shown
from mellow_herald.store import fleet, selections
from mellow_herald.store.fleet import SORTED_BY, DeviceOrder
from mellow_herald.wire.fleet import (
    AdmissionIn,
    AdmissionOut,
    CodeIn,
    CodeOut,
    DeviceDetail,
    DeviceEdit,
    DeviceOut,
    DeviceReleases,
    InstallIn,
    LabelsIn,
    LogAsk,
    LogLineOut,
    PinIn,
)
from mellow_herald.wire.model import Page
from mellow_herald.wire.rollout import ReasonIn, RolloutOut

ORDER = rf"^-?({'|'.join(SORTED_BY)}|label\.[A-Za-z0-9._-]{{1,63}})$"
ORDERS = f"By {', '.join(SORTED_BY)} or label.KEY; with a - before it the other way round."
router = APIRouter(tags=["fleet"])


@router.post("/codes", status_code=201, responses=problems())
async def add_code(asked: CodeIn, who: Operator, context: Ctx) -> CodeOut:
    """Makes an enrolment code; it is shown this once."""
    return await make_code(context, asked, who.name)


@router.get("/codes", responses=problems())
async def list_codes(who: Anyone, context: Ctx) -> list[CodeOut]:
    """Enrolment codes, without the codes themselves."""
    async with context.engine.connect() as connection:
        return [CodeOut.model_validate(dict(row)) for row in await fleet.list_codes(connection)]


@router.delete("/codes/{code_id}", status_code=204, responses=problems(404))
async def close_code(code_id: Id, who: Operator, context: Ctx) -> None:
    """Closes an enrolment code before its time; devices that came in by it stay."""
    await admission.close_code(context, code_id, who.name)


@router.post("/admissions", responses=problems(404, 409))
async def decide_admission(body: AdmissionIn, who: Operator, context: Ctx) -> AdmissionOut:
    """Admits, refuses or retires devices. Those it does not concern (admitted already, say) are left as they are."""
    where = await _theirs(context, who, body.where, body.serials)
    return AdmissionOut(serials=await admission.decide(context, body.to, where, body.serials, who.name, body.reason))


@router.post("/pins", responses=problems())
async def pin_devices(body: PinIn, who: Operator, context: Ctx) -> AdmissionOut:
    """Pins devices to what they run, or lets them go again. An attempt that is under way goes on."""
    where = await _theirs(context, who, body.where, body.serials)
    until = context.clock.now() + parse_duration(body.valid_for) if body.valid_for else None
    return AdmissionOut(serials=await admission.pin(context, body.serials, where, until, who.name, body.reason))


@router.post("/labels", responses=problems())
async def label_devices(body: LabelsIn, who: Operator, context: Ctx) -> AdmissionOut:
    """Puts labels on devices or takes them off, and marks them as bench devices or no longer."""
    await _theirs(context, who, body.where, body.serials)
    where = together(who.only, body.where) if body.where else None
    return AdmissionOut(serials=await admission.label(context, body.model_copy(update={"where": where}), who.name))


async def _theirs(context: Context, who: Caller, where: str | None, serials: Sequence[str]) -> Node | None:
    """What a selector of somebody's picks; a problem if devices that are named are none of theirs."""
    async with context.engine.connect() as connection:
        await keep_named(connection, context, who.only, serials)
    return node_of(who.only, where) if where else None


@router.get("/devices", responses=problems())
async def list_devices(
    who: Anyone,
    context: Ctx,
    request: Request,
    response: Response,
    where: Annotated[
        str | None, Query(description="A selector, or @ and the name of a selection.", examples=["board = comb-s1"])
    ] = None,
    limit: Annotated[int, Query(ge=1, le=1000)] = 100,
    after: TextCursor = None,
    order: Annotated[str, Query(max_length=100, pattern=ORDER, description=ORDERS)] = "serial",
    exact: Annotated[bool, Query(description="Count exactly in a fleet of more than 200,000 devices, too.")] = False,
) -> Page[DeviceOut]:
    """Devices, by serial if nothing else is asked; ``total``, on the first page, counts all that match. In a very large
    fleet it is told by a sample (``about``), unless ``exact`` is asked for."""
    wanted = DeviceOrder(order.removeprefix("-"), order.startswith("-"))
    # By anything but the serial, a cursor is a place in the list.
    placed = wanted != DeviceOrder()
    if placed and after is not None and not (after.isdigit() and len(after) < 12):
        raise ProblemError(422, "bad-values", "after: not a cursor of this order; begin again without it.")
    async with context.engine.connect() as connection:
        node = await selected(connection, where, who)
        rows, total, about = await devices.find(
            context, connection, node, after=after, limit=limit, order=wanted, exact=exact
        )
    items = [DeviceOut.model_validate(devices.as_shown(row, context.clock.now())) for row in rows[:limit]]
    last = str(int(after or 0) + limit) if placed else items[-1].serial if items else None
    cursor = last if len(rows) > limit else None
    link_next(request, response, cursor)
    return Page(items=items, next=cursor, total=total, about=about)


async def selected(connection: AsyncConnection, where: str | None, who: Caller) -> Node | None:
    """What a selector, or the name of a selection behind an @, picks of somebody's devices; None for everything."""
    if not where or not where.startswith("@"):
        return node_of(who.only, where)
    saved = await selections.list_selections(connection, where[1:].replace("\0", ""))
    if not saved:
        raise ProblemError(422, "unknown-selection", f"There is no selection {where[1:]}. See `herald selection list`.")
    return node_of(who.only, saved[0]["selector"])


@router.get("/devices/{serial}", responses=problems(404))
async def show_device(serial: str, who: Anyone, context: Ctx) -> DeviceDetail:
    """Everything known of one device, with its timeline."""
    return await devices.show(context, serial)


@router.get("/devices/{serial}/releases", responses=problems(404))
async def show_releases_for_device(serial: str, who: Anyone, context: Ctx) -> DeviceReleases:
    """Which releases of its board a device could take, or why it would be passed over; and what it took so far."""
    return await devices.releases_for(context, serial)


@router.patch("/devices/{serial}", responses=problems(404))
async def edit_device(serial: str, body: DeviceEdit, who: Operator, context: Ctx) -> DeviceDetail:
    """Changes labels, note, gateway or bench mark of a device."""
    await admission.edit(context, serial, body, who.name)
    return await show_device(serial, who, context)


@router.post("/devices/{serial}/allow_enrolment", responses=problems(404))
async def allow_enrolment(serial: str, body: ReasonIn, who: Operator, context: Ctx) -> DeviceDetail:
    """Lets a device that lost its token enrol once more."""
    await admission.allow_enrolment(context, serial, who.name, body.reason)
    return await show_device(serial, who, context)


@router.post("/devices/{serial}/settle", responses=problems(404))
async def settle_device(serial: str, body: ReasonIn, who: Operator, context: Ctx) -> DeviceDetail:
    """Takes the marks off a device that was rescued, or whose token two units used."""
    await admission.settle(context, serial, who.name, body.reason)
    return await show_device(serial, who, context)


@router.post("/devices/{serial}/log", responses=problems(404))
async def ask_for_log(serial: str, body: LogAsk, who: Operator, context: Ctx) -> DeviceDetail:
    """Asks a device for its log lines for a while; it hears of it at its next check-in."""
    length = parse_duration(body.valid_for) if body.valid_for else None
    await admission.ask_for_log(context, serial, length, who.name)
    return await show_device(serial, who, context)


@router.get("/devices/{serial}/log", responses=problems(404))
async def show_log(
    serial: str,
    who: Anyone,
    context: Ctx,
    after: Annotated[int, Query(ge=0, le=LARGEST_INTEGER, description="Only lines after this one.")] = 0,
    limit: Annotated[int, Query(ge=1, le=2000)] = 200,
) -> list[LogLineOut]:
    """The last lines of a device's log, oldest first."""
    return await show_lines(context, serial, after, limit)


@router.post("/devices/{serial}/install", status_code=201, responses={**problems(404, 409), **again(RolloutOut)})
async def install_on_device(
    serial: str,
    body: InstallIn,
    who: Operator,
    context: Ctx,
    response: Response,
    idempotency_key: RequestKey = None,
) -> RolloutOut:
    """Brings a release to one device at once: a rollout of one."""
    rollout_id, new = await devices.install(context, serial, body, who.name, idempotency_key)
    response.headers["location"] = f"/api/v1/rollouts/{rollout_id}"
    response.status_code = 201 if new else 200
    return await shown.show(context, rollout_id)


@router.post(
    "/devices/{serial}/bench_install",
    status_code=201,
    responses={**problems(404, 409, 413, 415, 507), **again(RolloutOut)},
    openapi_extra=BODY,
)
async def bench_install(
    serial: str,
    request: Request,
    who: Operator,
    context: Ctx,
    response: Response,
    may: AllowedParams,
    again: bool = False,
    reason: Annotated[str, Query(min_length=3, max_length=500)] = "tried on the bench",
    idempotency_key: RequestKey = None,
) -> RolloutOut:
    """Brings a sealed build to a bench device at once, as a scratch image that never is a release: a rollout of one."""
    check_media_type(request)
    wishes = bench.BenchWishes(may, again, reason)
    length = announced_length(request)
    rollout_id, new = await bench.install_build(
        context, serial, request.stream(), length, who.name, wishes, idempotency_key
    )
    response.headers["location"] = f"/api/v1/rollouts/{rollout_id}"
    response.status_code = 201 if new else 200
    return await shown.show(context, rollout_id)
