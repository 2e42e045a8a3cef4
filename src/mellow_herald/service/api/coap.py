"""Devices that speak CoAP."""

from typing import Annotated

from fastapi import APIRouter, Query, Request, Response

from mellow_herald.service.api.pages import link_next
from mellow_herald.service.api.parameters import Ctx, TextCursor
from mellow_herald.service.fleet import coap
from mellow_herald.service.people.callers import Anyone, Operator
from mellow_herald.service.problems import problems
from mellow_herald.wire.coap import CoapDeviceOut, CoapSecret, CoapServiceOut, SecretIn
from mellow_herald.wire.model import Page

router = APIRouter(tags=["constrained transport"])


@router.get("/coap", responses=problems())
async def show_coap(who: Anyone, context: Ctx) -> CoapServiceOut:
    """Where CoAP is served, how many devices speak it, and how many are registered."""
    return await coap.show_service(context)


@router.get("/coap/devices", responses=problems())
async def list_coap_devices(
    who: Anyone,
    context: Ctx,
    request: Request,
    response: Response,
    limit: Annotated[int, Query(ge=1, le=1000)] = 100,
    after: TextCursor = None,
) -> Page[CoapDeviceOut]:
    """Devices that speak CoAP, by serial."""
    page = await coap.list_devices(context, after, limit)
    link_next(request, response, page.next)
    return page


@router.get("/coap/devices/{serial}", responses=problems(404))
async def show_coap_device(serial: str, who: Anyone, context: Ctx) -> CoapDeviceOut:
    """One device that speaks CoAP: its registration, and what its update object told last."""
    return await coap.show_device(context, serial)


@router.post("/coap/devices/{serial}/secret", responses=problems(404, 409))
async def renew_coap_secret(serial: str, body: SecretIn, who: Operator, context: Ctx) -> CoapSecret:
    """Gives a device a new secret, shown this once; the former one ends."""
    return await coap.renew_secret(context, serial, body, who.name)
