"""Enrolment codes and devices."""

from datetime import timedelta
from typing import Annotated, Any

from fastapi import APIRouter, Query, Request, Response
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.duration import parse_duration
from mellow_herald.core.presence import presence
from mellow_herald.core.selector import Compare, Node, parse_selector
from mellow_herald.service import admission
from mellow_herald.service.api.parameters import Ctx, Id, TextCursor
from mellow_herald.service.context import Context
from mellow_herald.service.enrolment import make_code
from mellow_herald.service.pages import link_next
from mellow_herald.service.people import Anyone, Operator
from mellow_herald.service.problems import ProblemError, problems
from mellow_herald.store import fleet, selections
from mellow_herald.wire.fleet import (
    AdmissionIn,
    AdmissionOut,
    AttemptBrief,
    CodeIn,
    CodeOut,
    DeviceDetail,
    DeviceEdit,
    DeviceOut,
    PinIn,
    TimelineEntry,
)
from mellow_herald.wire.model import Page
from mellow_herald.wire.rollout import ReasonIn

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
        node = await _selected(connection, where)
        rows = await fleet.list_devices(connection, node, now=context.clock.now(), after=after, limit=limit + 1)
        total = await fleet.count_devices(connection, node, context.clock.now())
    items = [DeviceOut.model_validate(_facts(context, row)) for row in rows[:limit]]
    cursor = items[-1].serial if len(rows) > limit else None
    link_next(request, response, cursor)
    return Page(items=items, next=cursor, total=total)


async def _selected(connection: AsyncConnection, where: str | None) -> Node | None:
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
    async with context.engine.connect() as connection:
        rows = [] if "\x00" in serial else await fleet.list_devices(connection, Compare("serial", "=", serial), limit=1)
        if not rows:
            raise ProblemError(404, "not-found", f"There is no device {serial!r}. See `herald device list`.")
        entries = await fleet.timeline(connection, device_id=rows[0]["id"])
    facts = _facts(context, rows[0])
    return DeviceDetail.model_validate({**facts, "timeline": [as_entry(entry) for entry in entries]})


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


def as_entry(row: Any) -> TimelineEntry:
    """A timeline row as it is shown."""
    return TimelineEntry.model_validate(dict(row))


def _facts(context: Context, row: Any) -> dict[str, Any]:
    facts = dict(row)
    interval = timedelta(seconds=facts["interval_s"] or 1)
    seen_at = facts["seen_at"]
    facts["presence"] = presence(seen_at, interval, context.clock.now())
    facts["next_checkin_at"] = seen_at + timedelta(seconds=facts["next_s"]) if seen_at else None
    facts["condition"] = facts["condition"] or {}
    facts["readings"] = facts["readings"] or {}
    if facts["newest_id"] is not None:
        names = AttemptBrief.model_fields
        facts["attempt"] = AttemptBrief.model_validate({name: facts[f"newest_{name}"] for name in names})
    return facts
