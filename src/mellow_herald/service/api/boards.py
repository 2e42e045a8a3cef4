"""Boards."""

from collections.abc import Sequence
from datetime import timedelta

from fastapi import APIRouter, Response
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.board import Runs
from mellow_herald.core.certificate import read_trusted
from mellow_herald.core.component import Kind, Storage
from mellow_herald.core.duration import parse_duration, write_duration
from mellow_herald.core.firmware import APP
from mellow_herald.core.readings.signal import SignalKind
from mellow_herald.core.refusal import Refused
from mellow_herald.core.settings import check_schema
from mellow_herald.service.api.parameters import Ctx
from mellow_herald.service.feed import load_boards
from mellow_herald.service.people.callers import Anyone, Publisher
from mellow_herald.service.problems import ProblemError, again, problems
from mellow_herald.store import boards
from mellow_herald.store.boards import CountedBoard
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal
from mellow_herald.store.readings import signals
from mellow_herald.store.readings.signals import StoredSignal
from mellow_herald.wire.board import BoardIn, BoardOut
from mellow_herald.wire.model import Name
from mellow_herald.wire.signal import SignalIn

router = APIRouter(tags=["boards"])


def _shown(row: CountedBoard, declared: Sequence[StoredSignal]) -> BoardOut:
    facts = boards.board_facts(row)
    check_in = write_duration(timedelta(seconds=row["check_in_s"]))
    single_slot = len(facts.slots_of("app")) == 1
    shown = [_shown_signal(one) for one in declared]
    return BoardOut.model_validate({**row, "check_in": check_in, "single_slot": single_slot, "signals": shown})


def _shown_signal(row: StoredSignal) -> SignalIn:
    usual = None if row["usual_low"] is None or row["usual_high"] is None else [row["usual_low"], row["usual_high"]]
    return SignalIn(
        name=row["name"],
        kind=SignalKind(row["kind"]),
        unit=row["unit"],
        usual=usual,
        description=row["description"],
        bytes=row["size"],
        precise=row["precise"],
        keep=None if row["keep_s"] is None else write_duration(timedelta(seconds=row["keep_s"])),
    )


def _stored_signal(one: SignalIn) -> dict[str, object]:
    low, high = one.usual or (None, None)
    keep_s = None if one.keep is None else int(parse_duration(one.keep).total_seconds())
    rest = one.model_dump(exclude={"usual", "bytes", "keep"})
    return {**rest, "usual_low": low, "usual_high": high, "size": one.bytes, "keep_s": keep_s}


async def _declared(connection: AsyncConnection, rows: Sequence[CountedBoard]) -> list[BoardOut]:
    """Boards with the signals that each declares."""
    found = await signals.of_boards(connection, {row["name"] for row in rows})
    return [_shown(row, [one for one in found if one["board"] == row["name"] and one["declared"]]) for row in rows]


def _seconds(duration: str, place: str) -> int:
    seconds = int(parse_duration(duration).total_seconds())
    if seconds < 1:
        raise ProblemError(422, "bad-values", f"{place}: 0s is no interval; write for example 5m.")
    return seconds


def _check_components(board: BoardIn) -> None:
    names = [one.full_name for one in board.components]
    with_slots = {slot.component for slot in board.slots}
    for number, one in enumerate(board.components):
        place = f"components.{number}"
        if names.count(one.full_name) > 1:
            raise ProblemError(422, "bad-values", f"{place}: {one.full_name} is there twice.")
        if one.kind is Kind.FIRMWARE and one.full_name not in with_slots:
            raise ProblemError(422, "bad-values", f"{place}: there is no slot for component {one.full_name}.")
        if one.storage is Storage.STREAMED and one.full_name == APP:
            raise ProblemError(422, "bad-values", f"{place}: {APP} streams into others, nobody streams into it.")
        try:
            if one.json_schema is not None:
                check_schema(one.json_schema)
            if one.trusted is not None:
                read_trusted(one.trusted)
        except Refused as refused:
            raise ProblemError(422, "bad-values", f"{place}: {refused}") from None


@router.post("/boards", status_code=201, responses={**problems(), **again(BoardOut)})
async def add_board(board: BoardIn, who: Publisher, response: Response, context: Ctx) -> BoardOut:
    """Adds a board, or replaces what is known of it (200 instead of 201)."""
    now = context.clock.now()
    names = [slot.name for slot in board.slots]
    if len(set(names)) != len(names):
        raise ProblemError(422, "bad-values", "slots: each slot needs a name of its own.")
    if not any(slot.component == "app" for slot in board.slots):
        raise ProblemError(422, "bad-values", "slots: none is for component app, which every device has.")
    _check_components(board)
    if (board.runs is Runs.MAPPED) != (board.run_address is not None):
        raise ProblemError(
            422, "bad-values", 'run_address: the address that code is linked for goes together with runs = "mapped".'
        )
    for number, exception in enumerate(board.check_in_exceptions):
        _seconds(exception.every, f"check_in_exceptions.{number}.every")
    named = [one.name for one in board.signals]
    if len(set(named)) != len(named):
        raise ProblemError(422, "bad-values", "signals: each signal needs a name of its own.")
    values = {**board.model_dump(exclude={"check_in", "signals"}), "check_in_s": _seconds(board.check_in, "check_in")}
    async with context.engine.begin() as connection:
        new = await boards.put_board(connection, {**values, "added_at": now})
        await signals.declare(connection, board.name, [_stored_signal(one) for one in board.signals], now)
        what = "board added" if new else "board changed"
        await publish(connection, [FeedEvent(now, "board", data={"board": board.name})])
        await write_journal(connection, JournalEntry(now, who.name, what, board.name, "from a board file"))
        (shown,) = await _declared(connection, await boards.list_boards(connection, board.name))
    response.status_code = 201 if new else 200
    await load_boards(context)
    return shown


@router.get("/boards", responses=problems())
async def list_boards(who: Anyone, context: Ctx) -> list[BoardOut]:
    """All boards."""
    async with context.engine.connect() as connection:
        return await _declared(connection, await boards.list_boards(connection))


@router.get("/boards/{board}", responses=problems(404))
async def show_board(board: Name, who: Anyone, context: Ctx) -> BoardOut:
    """One board."""
    async with context.engine.connect() as connection:
        rows = await _declared(connection, await boards.list_boards(connection, board))
    if not rows:
        raise ProblemError(404, "not-found", f"There is no board {board}. See `herald board list`.")
    return rows[0]
