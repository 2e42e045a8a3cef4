"""Lists of devices by serial: what a plan's target may be."""

from typing import Annotated, Any

from fastapi import APIRouter, Query, Request

from mellow_herald.core.refusal import Refused
from mellow_herald.core.serials import MOST_SERIALS
from mellow_herald.service.api.parameters import Ctx, Id
from mellow_herald.service.fleet import lists
from mellow_herald.service.people.callers import Anyone, Operator
from mellow_herald.service.problems import problems
from mellow_herald.wire.lists import ListDetail, ListOut
from mellow_herald.wire.model import Name

router = APIRouter(tags=["fleet"])
LARGEST_LIST = 100 * MOST_SERIALS
BODY: dict[str, Any] = {
    "requestBody": {
        "required": True,
        "description": "One serial a line.",
        "content": {"text/plain": {"schema": {"type": "string"}}},
    }
}


@router.post("/lists", status_code=201, responses=problems(413), openapi_extra=BODY)
async def add_list(
    request: Request,
    who: Operator,
    context: Ctx,
    board: Annotated[Name | None, Query(description="The board of the release that it is meant for.")] = None,
    line: Annotated[Name | None, Query(description="The line of the release that it is meant for.")] = None,
) -> ListOut:
    """Keeps a list of devices, to be a plan's target; says which lines name a device that is unknown, doubled, not
    admitted, or of another board or line. A list never changes; the same one has the same number."""
    body = bytearray()
    async for piece in request.stream():
        body += piece
        if len(body) > LARGEST_LIST:
            raise Refused("too-large", f"the list is larger than {LARGEST_LIST} bytes.", "Make several lists.")
    try:
        text = body.decode()
    except UnicodeDecodeError:
        raise Refused("bad-list", "the list is no UTF-8 text.", "Save it as UTF-8, one serial a line.") from None
    return await lists.add(context, text, board, line, who.name)


@router.get("/lists/{list_id}", responses=problems(404))
async def show_list(list_id: Id, who: Anyone, context: Ctx) -> ListDetail:
    """A list of devices."""
    return await lists.show(context, list_id)
