"""Devices by the thousand: import, export, visits, and what a selector may speak of."""

from collections.abc import AsyncIterator
from typing import Annotated

from fastapi import APIRouter, Query, Request
from fastapi.responses import StreamingResponse

from mellow_herald.core.inventory import Format, write_csv
from mellow_herald.core.selector.tree import FACTS
from mellow_herald.service.api.exports import MEDIA, STREAMED, TEXT, streamed
from mellow_herald.service.api.fleet import selected
from mellow_herald.service.api.parameters import Ctx
from mellow_herald.service.context import Context
from mellow_herald.service.fleet import inventory
from mellow_herald.service.people.callers import Anyone, Caller, Operator
from mellow_herald.service.problems import problems
from mellow_herald.store import inventory as store
from mellow_herald.store import selector_terms
from mellow_herald.wire.inventory import FactName, FactValue, ImportReport, Visit

router = APIRouter(tags=["fleet"])
Where = Annotated[str | None, Query(description="A selector, or @ and the name of a selection.")]
BODY = {"requestBody": {"required": True, "content": dict.fromkeys(MEDIA.values(), TEXT)}}


@router.post("/inventory", responses=problems(), openapi_extra=BODY)
async def import_devices(
    request: Request,
    who: Operator,
    context: Ctx,
    written: Annotated[Format, Query(alias="format")] = Format.CSV,
    check: Annotated[bool, Query(description="Only say what would be done.")] = False,
) -> ImportReport:
    """Takes devices from CSV or JSON Lines. New ones are admitted and may enrol with a code of their board and line;
    known ones get labels, note and gateway. A line that cannot be taken is refused alone."""
    return await inventory.import_devices(context, request.stream(), written, who.name, check=check)


@router.get("/inventory", responses={**problems(), **STREAMED}, response_class=StreamingResponse)
async def export_devices(
    who: Anyone,
    context: Ctx,
    where: Where = None,
    written: Annotated[Format, Query(alias="format")] = Format.CSV,
) -> StreamingResponse:
    """All devices of a selector with labels and what they run; what is exported can be imported again."""
    async with context.engine.connect() as connection:
        node = await selected(connection, where, who)
    return streamed(inventory.export_devices(context, node, written), written, "devices")


@router.get("/visits", responses=problems())
async def list_visits(
    who: Anyone,
    context: Ctx,
    where: Where = None,
    limit: Annotated[int, Query(ge=1, le=10_000)] = 1000,
) -> list[Visit]:
    """Devices that somebody must go to, by site: not heard for a week, silent since an update, or in recovery. The
    first so many of them; the list to take along has them all."""
    return await _visits(who, context, where, limit)


async def _visits(who: Caller, context: Context, where: str | None, limit: int | None = None) -> list[Visit]:
    async with context.engine.connect() as connection:
        node = await selected(connection, where, who)
        rows = await store.list_visits(connection, node, context.clock.now(), limit)
    return [Visit.model_validate(dict(row)) for row in rows]


@router.get("/visits.csv", responses={**problems(), **STREAMED}, response_class=StreamingResponse)
async def visit_list(who: Anyone, context: Ctx, where: Where = None) -> StreamingResponse:
    """The same as a list to take along (CSV)."""
    visits = await _visits(who, context, where)

    async def lines() -> AsyncIterator[str]:
        columns = ("site", "serial", "board", "why", "last_heard", "last_version", "gateway", "yard", "note")
        rows = [
            (
                v.site,
                v.serial,
                v.board,
                v.why,
                v.seen_at.isoformat(timespec="minutes"),
                v.version or "",
                v.gateway or "",
                v.labels.get("yard", ""),
                v.note,
            )
            for v in visits
        ]
        yield write_csv([columns, *rows])

    return streamed(lines(), Format.CSV, "visits")


@router.get("/facts", responses=problems())
async def list_facts(who: Anyone, context: Ctx) -> list[FactName]:
    """The names a selector may speak of: facts, components' versions, and the labels that devices have."""

    async def names() -> tuple[list[str], list[str]]:
        async with context.engine.connect() as connection:
            labels = await store.label_keys(connection, None, context.clock.now())
            return labels, await selector_terms.components(connection)

    labels, components = await context.counted("names of facts", names)
    own = [FactName(name=name, kind=kind.value) for name, kind in FACTS.items()]
    versions = [FactName(name=f"{name}.version", kind="version") for name in components if name != "app"]
    return [*own, *versions, *(FactName(name=key, kind="label") for key in labels if key not in FACTS)]


@router.get("/facts/{name}", responses=problems())
async def list_values(name: str, who: Anyone, context: Ctx) -> list[FactValue]:
    """The values a fact or label has among the devices, most frequent first (at most 50)."""

    async def values() -> list[tuple[str, int]]:
        async with context.engine.connect() as connection:
            return await selector_terms.values(connection, name, context.clock.now())

    found = await context.counted(("values of a fact", name), values)
    return [FactValue(value=value, devices=count) for value, count in found]
