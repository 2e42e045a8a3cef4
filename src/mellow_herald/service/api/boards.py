"""Boards."""

from datetime import timedelta
from typing import Any

from fastapi import APIRouter, Response

from mellow_herald.core.duration import parse_duration, write_duration
from mellow_herald.service.api.parameters import Ctx
from mellow_herald.service.people import Anyone, Publisher
from mellow_herald.service.problems import ProblemError, problems
from mellow_herald.store import releases
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal
from mellow_herald.wire.board import BoardIn, BoardOut

router = APIRouter(tags=["boards"])


def _shown(row: Any) -> BoardOut:
    values = dict(row)
    check_in = write_duration(timedelta(seconds=values["check_in_s"]))
    return BoardOut.model_validate({**values, "check_in": check_in})


@router.post("/boards", status_code=201, responses=problems())
async def add_board(board: BoardIn, who: Publisher, response: Response, context: Ctx) -> BoardOut:
    """Adds a board, or replaces what is known of it (200 instead of 201)."""
    now = context.clock.now()
    values = board.model_dump(exclude={"check_in"})
    check_in_s = int(parse_duration(board.check_in).total_seconds())
    if check_in_s < 1:
        raise ProblemError(422, "bad-values", "check_in: 0s is no interval; write for example 5m.")
    async with context.engine.begin() as connection:
        new = await releases.put_board(connection, {**values, "check_in_s": check_in_s, "added_at": now})
        what = "board added" if new else "board changed"
        await publish(connection, [FeedEvent(now, "board", data={"board": board.name})])
        await write_journal(connection, JournalEntry(now, who.name, what, board.name, "from a board file"))
        (row,) = [row for row in await releases.list_boards(connection) if row["name"] == board.name]
    response.status_code = 201 if new else 200
    context.memory.intervals[board.name] = check_in_s
    return _shown(row)


@router.get("/boards", responses=problems())
async def list_boards(who: Anyone, context: Ctx) -> list[BoardOut]:
    """All boards."""
    async with context.engine.connect() as connection:
        return [_shown(row) for row in await releases.list_boards(connection)]
