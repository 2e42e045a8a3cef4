"""Chart pages, and how series look to whom."""

from collections.abc import Mapping
from datetime import datetime
from typing import Any, TypedDict

from sqlalchemy import delete, func, or_, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.store.database import fetch_all, fetch_one
from mellow_herald.store.tables import ChartPageRow, Person, SeriesStyleRow


class StoredChartPage(TypedDict):
    """A row of ``tables.ChartPageRow``, and who made it."""

    id: int
    person_id: int
    name: str
    shared: bool
    document: dict[str, Any]
    edition: int
    made_at: datetime
    changed_at: datetime
    made_by: str


class StoredStyle(TypedDict):
    """A row of ``tables.SeriesStyleRow``, without whose it is."""

    signal: str
    series: str
    name: str | None
    colour: str | None


_PAGES = select(ChartPageRow.__table__, Person.name.label("made_by")).join(Person, Person.id == ChartPageRow.person_id)


async def list_pages(connection: AsyncConnection, person_id: int) -> list[StoredChartPage]:
    """A person's own and those that are shared, by name."""
    seen = or_(ChartPageRow.person_id == person_id, ChartPageRow.shared)
    return await fetch_all(connection, _PAGES.where(seen).order_by(ChartPageRow.name, ChartPageRow.id), StoredChartPage)


async def find_page(connection: AsyncConnection, number: int, *, change: bool = False) -> StoredChartPage | None:
    """One of them; nobody else changes it until the transaction ends if it is to ``change``."""
    statement = _PAGES.where(ChartPageRow.id == number)
    if change:
        statement = statement.with_for_update(of=ChartPageRow.__table__)
    return await fetch_one(connection, statement, StoredChartPage)


async def count_pages(connection: AsyncConnection, person_id: int) -> int:
    """How many a person keeps."""
    count = select(func.count()).select_from(ChartPageRow).where(ChartPageRow.person_id == person_id)
    return int(await connection.scalar(count) or 0)


async def is_taken(connection: AsyncConnection, person_id: int, name: str, beside: int | None = None) -> bool:
    """Whether a person has another page of that name."""
    statement = select(ChartPageRow.id).where(ChartPageRow.person_id == person_id, ChartPageRow.name == name)
    if beside is not None:
        statement = statement.where(ChartPageRow.id != beside)
    return await connection.scalar(statement) is not None


async def add_page(connection: AsyncConnection, values: Mapping[str, Any]) -> int | None:
    """A new one; its number, or None if that person has one of that name."""
    statement = insert(ChartPageRow).values(**values).on_conflict_do_nothing().returning(ChartPageRow.id)
    number = await connection.scalar(statement)
    return None if number is None else int(number)


async def change_page(connection: AsyncConnection, number: int, values: Mapping[str, Any]) -> None:
    """What it is from now on."""
    await connection.execute(update(ChartPageRow).where(ChartPageRow.id == number).values(**values))


async def drop_page(connection: AsyncConnection, number: int) -> None:
    """Deletes it."""
    await connection.execute(delete(ChartPageRow).where(ChartPageRow.id == number))


async def list_styles(connection: AsyncConnection, person_id: int) -> list[StoredStyle]:
    """How series look to a person."""
    shown = (SeriesStyleRow.signal, SeriesStyleRow.series, SeriesStyleRow.name, SeriesStyleRow.colour)
    statement = select(*shown).where(SeriesStyleRow.person_id == person_id)
    return await fetch_all(connection, statement.order_by(SeriesStyleRow.signal, SeriesStyleRow.series), StoredStyle)


async def set_style(connection: AsyncConnection, person_id: int, style: StoredStyle) -> None:
    """How a series looks to a person from now on; as it always did, where it has neither name nor colour."""
    if style["name"] is None and style["colour"] is None:
        same = (SeriesStyleRow.signal == style["signal"], SeriesStyleRow.series == style["series"])
        await connection.execute(delete(SeriesStyleRow).where(SeriesStyleRow.person_id == person_id, *same))
        return
    statement = insert(SeriesStyleRow).values(person_id=person_id, **style)
    looks = {"name": style["name"], "colour": style["colour"]}
    keys = ["person_id", "signal", "series"]
    await connection.execute(statement.on_conflict_do_update(index_elements=keys, set_=looks))
