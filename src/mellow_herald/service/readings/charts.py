"""Chart pages: kept for oneself or shared, changed by who made them; and how series look to whom."""

from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.service.context import Context
from mellow_herald.service.people.callers import Caller
from mellow_herald.service.problems import ProblemError
from mellow_herald.store.feed import JournalEntry, write_journal
from mellow_herald.store.readings import charts
from mellow_herald.store.readings.charts import StoredChartPage, StoredStyle
from mellow_herald.wire.charts import ChartPageChange, ChartPageDocument, ChartPageIn, ChartPageOut, SeriesStyle

MOST_PAGES, MOST_STYLES = 200, 2000


async def show_all(context: Context, who: Caller) -> list[ChartPageOut]:
    """One's own and the shared ones, by name."""
    async with context.engine.connect() as connection:
        return [_shown(row, who) for row in await charts.list_pages(connection, who.person_id)]


async def show(context: Context, number: int, who: Caller) -> ChartPageOut:
    """One of them. Problem 404 if there is none of that number, or somebody keeps it for themselves."""
    async with context.engine.connect() as connection:
        return _shown(await _find(connection, number, who), who)


async def keep(context: Context, asked: ChartPageIn, who: Caller) -> ChartPageOut:
    """Keeps one. Problem 409 if one's own of that name is there, or one keeps too many."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        if await charts.count_pages(connection, who.person_id) >= MOST_PAGES:
            detail = f"{who.name} keeps {MOST_PAGES} chart pages. Drop one that nobody looks at any more."
            raise ProblemError(409, "too-many-pages", detail)
        kept = {"person_id": who.person_id, "edition": 1, "made_at": now, "changed_at": now, **_columns(asked)}
        number = await charts.add_page(connection, kept)
        if number is None:
            raise _taken(asked.name)
        if asked.shared:
            await write_journal(connection, _entry(context, who, "shared", asked.name, _looks_at(asked)))
        return _shown(await _find(connection, number, who), who)


async def change(context: Context, number: int, asked: ChartPageChange, who: Caller) -> ChartPageOut:
    """Makes it another one. Problem 403 for who has not made it (an admin may change one that is shared), 409 if
    it was changed since it was looked at."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        there = await _of_theirs(connection, number, who)
        if there["edition"] != asked.edition:
            detail = f"Chart page {number} was changed at {there['changed_at']:%Y-%m-%d %H:%M:%S} UTC. Look at it anew."
            raise ProblemError(409, "changed-since", detail)
        if await charts.is_taken(connection, there["person_id"], asked.name, beside=number):
            raise _taken(asked.name)
        changed = {"edition": asked.edition + 1, "changed_at": now, **_columns(asked)}
        try:
            await charts.change_page(connection, number, changed)
        except IntegrityError:  # at the same moment
            raise _taken(asked.name) from None
        if asked.shared or there["shared"]:
            word = "changed" if there["shared"] and asked.shared else "shared" if asked.shared else "shared no more"
            await write_journal(connection, _entry(context, who, word, asked.name, _looks_at(asked)))
        return _shown(await _find(connection, number, who), who)


async def drop(context: Context, number: int, who: Caller) -> None:
    """Drops it. Problem 403 for who has not made it (an admin may drop one that is shared)."""
    async with context.engine.begin() as connection:
        there = await _of_theirs(connection, number, who)
        await charts.drop_page(connection, number)
        if there["shared"]:
            await write_journal(connection, _entry(context, who, "dropped", there["name"], "not needed any more"))


async def list_styles(context: Context, who: Caller) -> list[SeriesStyle]:
    """How series look to whoever asks."""
    async with context.engine.connect() as connection:
        rows = await charts.list_styles(connection, who.person_id)
    return [SeriesStyle.model_validate({**row, "signal": row["signal"] or None}) for row in rows]


async def set_style(context: Context, style: SeriesStyle, who: Caller) -> SeriesStyle:
    """How a series looks to whoever asks, from now on. Problem 409 if too many look in a way of their own."""
    async with context.engine.begin() as connection:
        others = [one for one in await charts.list_styles(connection, who.person_id) if not _is(one, style)]
        if len(others) >= MOST_STYLES and (style.name or style.colour):
            detail = f"{MOST_STYLES} series have a name or a colour of {who.name}'s. Take some back."
            raise ProblemError(409, "too-many-styles", detail)
        kept = StoredStyle(series=style.series, signal=style.signal or "", name=style.name, colour=style.colour)
        await charts.set_style(connection, who.person_id, kept)
    return style


def _is(row: StoredStyle, style: SeriesStyle) -> bool:
    """Whether it is of the same series and signal."""
    return (row["series"], row["signal"]) == (style.series, style.signal or "")


def _entry(context: Context, who: Caller, word: str, name: str, why: str) -> JournalEntry:
    return JournalEntry(context.clock.now(), who.name, f"chart page {word}", name, why)


def _looks_at(asked: ChartPageIn) -> str:
    return f"{len(asked.rows)} rows of {asked.where}"


def _columns(asked: ChartPageIn) -> dict[str, object]:
    document = asked.model_dump(mode="json", include=set(ChartPageDocument.model_fields) - {"name"})
    return {"name": asked.name, "shared": asked.shared, "document": document}


def _taken(name: str) -> ProblemError:
    return ProblemError(
        409, "name-taken", f"There is a chart page {name!r} already. Change that one, or name this otherwise."
    )


def _shown(row: StoredChartPage, who: Caller) -> ChartPageOut:
    return ChartPageOut.model_validate({**row["document"], **row, "mine": row["person_id"] == who.person_id})


async def _find(connection: AsyncConnection, number: int, who: Caller, *, change: bool = False) -> StoredChartPage:
    found = await charts.find_page(connection, number, change=change)
    if found is None or not (found["shared"] or found["person_id"] == who.person_id):
        raise ProblemError(404, "not-found", f"There is no chart page {number} to see. See `herald chart list`.")
    return found


async def _of_theirs(connection: AsyncConnection, number: int, who: Caller) -> StoredChartPage:
    found = await _find(connection, number, who, change=True)
    if found["person_id"] != who.person_id and not who.is_admin:
        detail = f"Chart page {number} is {found['made_by']}'s. Keep a copy of your own, and change that."
        raise ProblemError(403, "not-yours", detail)
    return found
