"""Selections: selectors saved under a name."""

from fastapi import APIRouter, Response
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.selector import parse_selector
from mellow_herald.service.api.parameters import Ctx
from mellow_herald.service.context import Context
from mellow_herald.service.people.callers import Anyone, Operator
from mellow_herald.service.problems import ProblemError, again, problems
from mellow_herald.store import selections
from mellow_herald.store.feed import JournalEntry, write_journal
from mellow_herald.store.rows import StoredSelection
from mellow_herald.wire.model import Name
from mellow_herald.wire.selection import SelectionIn, SelectionOut, Standing

router = APIRouter(tags=["fleet"])


async def _shown(connection: AsyncConnection, context: Context, row: StoredSelection) -> SelectionOut:
    counts = await selections.count_standing(connection, parse_selector(row["selector"]), context.clock.now())
    return SelectionOut.model_validate({**row, "standing": Standing(**counts)})


@router.post("/selections", status_code=201, responses={**problems(), **again(SelectionOut)})
async def save_selection(body: SelectionIn, who: Operator, context: Ctx, response: Response) -> SelectionOut:
    """Saves a selector under a name, or replaces the one of that name (200 instead of 201)."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        values: StoredSelection = {
            "name": body.name,
            "selector": body.selector,
            "note": body.note,
            "saved_at": now,
            "saved_by": who.name,
        }
        new = await selections.save_selection(connection, values)
        what = "selection saved" if new else "selection changed"
        await write_journal(
            connection, JournalEntry(now, who.name, what, body.name, body.note, {"selector": body.selector})
        )
        response.status_code = 201 if new else 200
        return await _shown(connection, context, values)


@router.get("/selections", responses=problems())
async def list_selections(who: Anyone, context: Ctx) -> list[SelectionOut]:
    """All selections, and how their devices stand."""
    async with context.engine.connect() as connection:
        rows = await selections.list_selections(connection)
        return [await _shown(connection, context, row) for row in rows]


@router.get("/selections/{name}", responses=problems(404))
async def show_selection(name: Name, who: Anyone, context: Ctx) -> SelectionOut:
    """One selection."""
    async with context.engine.connect() as connection:
        rows = await selections.list_selections(connection, name)
        if not rows:
            raise ProblemError(404, "not-found", f"There is no selection {name}. See `herald selection list`.")
        return await _shown(connection, context, rows[0])


@router.delete("/selections/{name}", status_code=204, responses=problems(404))
async def drop_selection(name: Name, who: Operator, context: Ctx) -> None:
    """Drops a selection; its devices stay as they are."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        if not await selections.drop_selection(connection, name):
            raise ProblemError(404, "not-found", f"There is no selection {name}. See `herald selection list`.")
        await write_journal(connection, JournalEntry(now, who.name, "selection dropped", name, "not needed any more"))
