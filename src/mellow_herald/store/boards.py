"""Boards: hardware models."""

from typing import Any

from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.board import BoardComponent, BoardFacts, BoardSlot, Runs
from mellow_herald.core.component import Kind, Storage, component_name
from mellow_herald.store.database import fetch_all, fetch_one
from mellow_herald.store.rows import StoredBoard
from mellow_herald.store.tables import Board, Device


class CountedBoard(StoredBoard):
    """A board, and how many devices it has."""

    devices: int


async def put_board(connection: AsyncConnection, values: dict[str, Any]) -> bool:
    """Adds a board or replaces what is known of it; True if it is new."""
    statement = insert(Board).values(**values)
    changed = {name: value for name, value in values.items() if name not in ("name", "added_at")}
    existed = await connection.scalar(select(Board.name).where(Board.name == values["name"]))
    await connection.execute(statement.on_conflict_do_update(index_elements=["name"], set_=changed))
    return existed is None


async def list_boards(connection: AsyncConnection, name: str | None = None) -> list[CountedBoard]:
    """All boards, or the one of this name, with their number of devices."""
    devices = select(func.count()).where(Device.board == Board.name).scalar_subquery()
    statement = select(Board.__table__, devices.label("devices")).order_by(Board.name)
    if name is not None:
        statement = statement.where(Board.name == name)
    return await fetch_all(connection, statement, CountedBoard)


async def find_board(connection: AsyncConnection, name: str) -> StoredBoard | None:
    """One board."""
    return await fetch_one(connection, select(Board.__table__).where(Board.name == name), StoredBoard)


def board_facts(row: StoredBoard) -> BoardFacts:
    """A board as the checks at publishing see it."""
    return BoardFacts(
        row["name"],
        row["vendor_domain"],
        tuple(row["lines"]),
        tuple(row["hw_revs"]),
        tuple(BoardSlot(**slot) for slot in row["slots"]),
        Runs(row["runs"]),
        row["run_address"],
        tuple(_component(one) for one in row["components"]),
    )


def _component(stored: dict[str, Any]) -> BoardComponent:
    storage = stored["storage"]
    return BoardComponent(
        component_name(Kind(stored["kind"]), stored["place"] or stored["name"]),
        None if storage is None else Storage(storage),
        stored["size"] or 0,
        stored["address"],
        stored["schema"],
        stored["action"],
        stored["trusted"],
    )
