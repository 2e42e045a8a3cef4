"""Recordings: what devices have kept at full rate."""

from typing import Annotated

from fastapi import APIRouter, Query
from fastapi.responses import StreamingResponse

from mellow_herald.service.api.parameters import Ctx, Id
from mellow_herald.service.people.callers import Anyone, Operator
from mellow_herald.service.people.narrowing import together
from mellow_herald.service.problems import problems
from mellow_herald.service.readings import recordings
from mellow_herald.wire.board import Where
from mellow_herald.wire.charts import EVERYBODY
from mellow_herald.wire.recordings import RecordingIn, RecordingOut
from mellow_herald.wire.rollout import ReasonIn

router = APIRouter(tags=["readings"])
FILE: dict[str, dict[str, str]] = {kind: {} for kind, _ in recordings.MEDIA.values()}


@router.post("/devices/{serial}/recordings", status_code=201, responses=problems(404, 409))
async def ask_for_recording(serial: str, asked: RecordingIn, who: Operator, context: Ctx) -> RecordingOut:
    """Asks a device for a stretch of what it has kept at full rate. It learns that at its next check-in, says how large
    it is, and sends it in parts."""
    return await recordings.ask(context, serial, asked, who.name)


@router.get("/recordings", responses=problems())
async def list_recordings(who: Anyone, context: Ctx, where: Where = EVERYBODY) -> list[RecordingOut]:
    """Recordings of the devices that a selector picks, the newest first."""
    return await recordings.show_all(context, together(who.only, where) or where)


@router.get("/recordings/{number}", responses=problems(404))
async def show_recording(number: Id, who: Anyone, context: Ctx) -> RecordingOut:
    """One recording, and how far it is."""
    return await recordings.show(context, number, who.only)


@router.post("/recordings/{number}/cancel", responses=problems(404, 409))
async def cancel_recording(number: Id, body: ReasonIn, who: Operator, context: Ctx) -> RecordingOut:
    """The device need not send it any more; what of it has come is dropped."""
    return await recordings.cancel(context, number, body.reason, who.name, who.only)


@router.get(
    "/recordings/{number}/file",
    response_class=StreamingResponse,
    responses={200: {"content": FILE}, **problems(404, 409)},
)
async def recording_file(
    number: Id, who: Anyone, context: Ctx, form: Annotated[recordings.Form, Query(alias="format")] = recordings.Form.CSV
) -> StreamingResponse:
    """A complete recording: CSV packed by gzip, JSON Lines with a first line that describes the signals, or NetCDF."""
    told = await recordings.as_file(context, number, form, who.only)
    heading = {"content-disposition": f'attachment; filename="{told.name}"'}
    return StreamingResponse(told.body, media_type=told.kind, headers=heading)
