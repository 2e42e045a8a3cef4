"""Boards: hardware models."""

from collections.abc import Mapping
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.checks import BoardFacts, BoardSlot
from mellow_herald.store.tables import Board, Device

Row = Mapping[str, Any]


async def put_board(connection: AsyncConnection, values: dict[str, Any]) -> bool:
    """Adds a board or replaces what is known of it; True if it is new."""
    statement = insert(Board).values(**values)
    changed = {name: value for name, value in values.items() if name not in ("name", "added_at")}
    existed = await connection.scalar(select(Board.name).where(Board.name == values["name"]))
    await connection.execute(statement.on_conflict_do_update(index_elements=["name"], set_=changed))
    return existed is None


async def list_boards(connection: AsyncConnection, name: str | None = None) -> list[Row]:
    """All boards, or the one of this name, with their number of devices."""
    devices = select(func.count()).where(Device.board == Board.name).scalar_subquery()
    statement = select(Board.__table__, devices.label("devices")).order_by(Board.name)
    if name is not None:
        statement = statement.where(Board.name == name)
    return list((await connection.execute(statement)).mappings())


async def find_board(connection: AsyncConnection, name: str) -> Row | None:
    """One board."""
    return (await connection.execute(select(Board.__table__).where(Board.name == name))).mappings().first()


def board_facts(row: Row) -> BoardFacts:
    """A board as the checks at publishing see it."""
    return BoardFacts(
        row["name"],
        row["vendor_domain"],
        tuple(row["lines"]),
        tuple(row["hw_revs"]),
        tuple(BoardSlot(**slot) for slot in row["slots"]),
        row["position_dependent"],
    )
