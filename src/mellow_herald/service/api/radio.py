"""Devices on narrow radio, and sessions."""

from typing import Annotated

from fastapi import APIRouter, Query, Request, Response

from mellow_herald.service.api.pages import link_next
from mellow_herald.service.api.parameters import Ctx, Id, TextCursor
from mellow_herald.service.fleet import radio
from mellow_herald.service.people.callers import Anyone, Operator
from mellow_herald.service.problems import problems
from mellow_herald.service.rollouts import radio_sessions
from mellow_herald.wire.model import Page
from mellow_herald.wire.radio import RadioDeviceOut, RadioEntries, RadioNetworkOut, RadioReport, RadioSessionOut

router = APIRouter(tags=["narrow radio"])


@router.get("/radio/network", responses=problems())
async def show_radio_network(who: Anyone, context: Ctx) -> RadioNetworkOut:
    """The radio network that the service follows, and how many devices are on narrow radio."""
    return await radio.show_network(context)


@router.get("/radio/devices", responses=problems())
async def list_radio_devices(
    who: Anyone,
    context: Ctx,
    request: Request,
    response: Response,
    limit: Annotated[int, Query(ge=1, le=1000)] = 100,
    after: TextCursor = None,
) -> Page[RadioDeviceOut]:
    """Devices on narrow radio, by serial."""
    page = await radio.list_devices(context, after, limit)
    link_next(request, response, page.next)
    return page


@router.post("/radio/devices", responses=problems())
async def record_radio_devices(body: RadioEntries, who: Operator, context: Ctx) -> RadioReport:
    """Records what is known of devices' radios, root keys too: devices that cannot be recorded are refused one by one,
    the others are taken. A key is kept encrypted and never shown."""
    return await radio.record(context, body, who.name)


@router.get("/radio/devices/{serial}", responses=problems(404))
async def show_radio_device(serial: str, who: Anyone, context: Ctx) -> RadioDeviceOut:
    """What is on record of one device's radio."""
    return await radio.show_device(context, serial)


@router.get("/rollouts/{rollout_id}/radio_sessions", responses=problems(404))
async def list_radio_sessions(rollout_id: Id, who: Anyone, context: Ctx) -> list[RadioSessionOut]:
    """The sessions of a rollout in the order in which they were planned, without their members."""
    return await radio_sessions.list_sessions(context, rollout_id)


@router.get("/radio/sessions/{session_id}", responses=problems(404))
async def show_radio_session(session_id: Id, who: Anyone, context: Ctx) -> RadioSessionOut:
    """One session with its members: how far each is."""
    return await radio_sessions.show(context, session_id)
