"""Selections: selectors saved under a name, and how their devices stand."""

from datetime import datetime

from sqlalchemy import case, delete, exists, func, select, tuple_
from sqlalchemy.dialects.postgresql import distinct_on, insert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.selector import Node
from mellow_herald.store.database import fetch_all
from mellow_herald.store.rows import StoredSelection
from mellow_herald.store.selector_sql import compile_selector
from mellow_herald.store.tables import Baseline, Device, Release, ReleaseImage, SelectionRow


async def save_selection(connection: AsyncConnection, values: StoredSelection) -> bool:
    """Saves a selection or replaces the one of that name; True if it is new."""
    existed = await connection.scalar(select(SelectionRow.name).where(SelectionRow.name == values["name"]))
    statement = insert(SelectionRow).values(**values)
    changed = {name: value for name, value in values.items() if name != "name"}
    await connection.execute(statement.on_conflict_do_update(index_elements=["name"], set_=changed))
    return existed is None


async def list_selections(connection: AsyncConnection, name: str | None = None) -> list[StoredSelection]:
    """All selections, or the one of this name."""
    statement = select(SelectionRow.__table__).order_by(SelectionRow.name)
    if name is not None:
        statement = statement.where(SelectionRow.name == name)
    return await fetch_all(connection, statement, StoredSelection)


async def drop_selection(connection: AsyncConnection, name: str) -> bool:
    """Deletes a selection; tells whether it was there."""
    done = await connection.execute(delete(SelectionRow).where(SelectionRow.name == name))
    return bool(done.rowcount)


async def count_standing(connection: AsyncConnection, where: Node, now: datetime) -> dict[str, int]:
    """How many devices are ``current``, ``behind``, ``ahead``, ``unknown`` or ``barred``, each counted once.

    Measured against the baseline of their board and line, or where there is none its highest published version.
    Barred are those that are not admitted or have no updater; unknown those whose build no release has.
    """
    newest = (
        select(Release.id, Release.board, Release.line)
        .ext(distinct_on(Release.board, Release.line))
        .where(Release.state == "published")
        .order_by(Release.board, Release.line, Release.version_key.desc())
        .subquery()
    )
    wanted_id = func.coalesce(Baseline.release_id, newest.c.id)
    reference = (
        select(newest.c.board, newest.c.line, Release.id, Release.version_key)
        .outerjoin(Baseline, tuple_(Baseline.board, Baseline.line) == tuple_(newest.c.board, newest.c.line))
        .join(Release, Release.id == wanted_id)
        .subquery()
    )
    same = exists().where(ReleaseImage.release_id == reference.c.id, ReleaseImage.digest == Device.digest)
    known = exists().where(ReleaseImage.digest == Device.digest)
    standing = case(
        (Device.admission != "admitted", "barred"),
        (Device.updater == 0, "barred"),
        (same.correlate(Device, reference), "current"),
        (reference.c.id.is_(None), "unknown"),
        (~known.correlate(Device), "unknown"),
        (Device.version_key < reference.c.version_key, "behind"),
        (Device.version_key > reference.c.version_key, "ahead"),
        else_="unknown",
    ).label("standing")
    inner = (
        select(standing)
        .select_from(Device)
        .outerjoin(reference, tuple_(reference.c.board, reference.c.line) == tuple_(Device.board, Device.line))
        .where(compile_selector(where, now))
        .subquery()
    )
    statement = select(inner.c.standing, func.count().label("devices")).group_by(inner.c.standing)
    return {row.standing: row.devices for row in await connection.execute(statement)}
