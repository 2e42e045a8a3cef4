"""Enrolment codes and devices."""

from typing import Annotated

from fastapi import APIRouter, Query, Request, Response
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.duration import parse_duration
from mellow_herald.core.selector import Node, parse_selector
from mellow_herald.service import admission, devices, rollouts
from mellow_herald.service.api.parameters import LARGEST, Ctx, Id, RequestKey, TextCursor
from mellow_herald.service.device_logs import show_lines
from mellow_herald.service.enrolment import make_code
from mellow_herald.service.pages import link_next
from mellow_herald.service.people import Anyone, Operator
from mellow_herald.service.problems import ProblemError, problems
from mellow_herald.store import fleet, selections
from mellow_herald.wire.fleet import (
    AdmissionIn,
    AdmissionOut,
    CodeIn,
    CodeOut,
    DeviceDetail,
    DeviceEdit,
    DeviceOut,
    InstallIn,
    LogAsk,
    LogLineOut,
    PinIn,
)
from mellow_herald.wire.model import Page
from mellow_herald.wire.rollout import ReasonIn, RolloutOut

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


@router.post("/admissions", responses=problems())
async def decide_admission(said: AdmissionIn, who: Operator, context: Ctx) -> AdmissionOut:
    """Admits, refuses or retires devices. Those it does not concern (admitted already, say) are left as they are."""
    where = parse_selector(said.where) if said.where else None
    return AdmissionOut(serials=await admission.decide(context, said.to, where, said.serials, who.name, said.reason))


@router.post("/pins", responses=problems())
async def pin_devices(said: PinIn, who: Operator, context: Ctx) -> AdmissionOut:
    """Pins devices to what they run, or lets them go again. An attempt that is under way goes on."""
    where = parse_selector(said.where) if said.where else None
    until = context.clock.now() + parse_duration(said.valid_for) if said.valid_for else None
    return AdmissionOut(serials=await admission.pin(context, said.serials, where, until, who.name, said.reason))


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
) -> Page[DeviceOut]:
    """Devices by serial; ``total`` counts all that match."""
    async with context.engine.connect() as connection:
        node = await selected(connection, where)
        rows = await fleet.list_devices(connection, node, now=context.clock.now(), after=after, limit=limit + 1)
        total = await fleet.count_devices(connection, node, context.clock.now())
    items = [DeviceOut.model_validate(devices.as_shown(row, context.clock.now())) for row in rows[:limit]]
    cursor = items[-1].serial if len(rows) > limit else None
    link_next(request, response, cursor)
    return Page(items=items, next=cursor, total=total)


async def selected(connection: AsyncConnection, where: str | None) -> Node | None:
    """What a selector, or the name of a selection behind an @, picks; None for everything."""
    if not where:
        return None
    if not where.startswith("@"):
        return parse_selector(where)
    saved = await selections.list_selections(connection, where[1:].replace("\0", ""))
    if not saved:
        raise ProblemError(422, "unknown-selection", f"There is no selection {where[1:]}. See `herald selection list`.")
    return parse_selector(saved[0]["selector"])


@router.get("/devices/{serial}", responses=problems(404))
async def show_device(serial: str, who: Anyone, context: Ctx) -> DeviceDetail:
    """Everything known of one device, with its timeline."""
    return await devices.show(context, serial)


@router.patch("/devices/{serial}", responses=problems(404))
async def edit_device(serial: str, said: DeviceEdit, who: Operator, context: Ctx) -> DeviceDetail:
    """Changes labels and note of a device."""
    await admission.edit(context, serial, said, who.name)
    return await show_device(serial, who, context)


@router.post("/devices/{serial}/allow_enrolment", responses=problems(404))
async def allow_enrolment(serial: str, said: ReasonIn, who: Operator, context: Ctx) -> DeviceDetail:
    """Lets a device that lost its token enrol once more."""
    await admission.allow_enrolment(context, serial, who.name, said.reason)
    return await show_device(serial, who, context)


@router.post("/devices/{serial}/settle", responses=problems(404))
async def settle_device(serial: str, said: ReasonIn, who: Operator, context: Ctx) -> DeviceDetail:
    """Takes the marks off a device that was rescued, or whose token two units used."""
    await admission.settle(context, serial, who.name, said.reason)
    return await show_device(serial, who, context)


@router.post("/devices/{serial}/log", responses=problems(404))
async def ask_for_log(serial: str, said: LogAsk, who: Operator, context: Ctx) -> DeviceDetail:
    """Asks a device for its log lines for a while; it hears of it at its next check-in."""
    length = parse_duration(said.valid_for) if said.valid_for else None
    await admission.ask_for_log(context, serial, length, who.name)
    return await show_device(serial, who, context)


@router.get("/devices/{serial}/log", responses=problems(404))
async def show_log(
    serial: str,
    who: Anyone,
    context: Ctx,
    after: Annotated[int, Query(ge=0, le=LARGEST, description="Only lines after this one.")] = 0,
    limit: Annotated[int, Query(ge=1, le=2000)] = 200,
) -> list[LogLineOut]:
    """The last lines of a device's log, oldest first."""
    return await show_lines(context, serial, after, limit)


@router.post("/devices/{serial}/install", status_code=201, responses=problems(404, 409))
async def install_on_device(
    serial: str,
    said: InstallIn,
    who: Operator,
    context: Ctx,
    response: Response,
    idempotency_key: RequestKey = None,
) -> RolloutOut:
    """Brings a release to one device at once: a rollout of one."""
    rollout_id, new = await devices.install(context, serial, said, who.name, idempotency_key)
    response.headers["location"] = f"/api/v1/rollouts/{rollout_id}"
    response.status_code = 201 if new else 200
    return await rollouts.show(context, rollout_id)
