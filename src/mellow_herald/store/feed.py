"""The event feed and the journal: written by any transaction, numbered by one sealer in commit order.

A serial number is given when a row is inserted, not when it commits, so a reader that goes by it can skip a row
that commits late. The sealer numbers only rows it can see, that is committed ones, under a lock: whoever reads on
from the last sealed number misses nothing.
"""

from collections.abc import AsyncIterator, Sequence
from dataclasses import asdict, dataclass, field
from datetime import datetime
from typing import Any, cast

from sqlalchemy import Select, Table, Text, and_, bindparam, func, insert, or_, select, text, update
from sqlalchemy.ext.asyncio import AsyncConnection, AsyncEngine

from mellow_herald.core.journal import GENESIS, covered, link_hash
from mellow_herald.store.database import as_rows, fetch_all, tell_when_over
from mellow_herald.store.gate import Lock, take, try_take
from mellow_herald.store.rows import StoredEntry, StoredEvent
from mellow_herald.store.tables import Device, JournalRow, Outbox

SLICE = 5000
ROLLOUT = "rollout"
# So far back is looked for the latest events that are not of rollouts as a whole.
REACH = 20_000


@dataclass(frozen=True, slots=True)
class FeedEvent:
    """Something that happened, for the feed."""

    at: datetime
    kind: str
    rollout_id: int | None = None
    device_id: int | None = None
    attempt_id: int | None = None
    data: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class JournalEntry:
    """Something that a person or a rule decided. ``why`` must say more than nothing."""

    at: datetime
    who: str
    what: str
    subject: str
    why: str
    data: dict[str, Any] = field(default_factory=dict)


ADD_EVENTS = text(
    "INSERT INTO outbox (at, kind, rollout_id, device_id, attempt_id, data)"
    " SELECT at, kind, rollout_id, device_id, attempt_id, data"
    " FROM jsonb_populate_recordset(NULL::outbox, CAST(:rows AS jsonb))"
)


async def publish(connection: AsyncConnection, events: Sequence[FeedEvent]) -> None:
    """Adds events to the feed, in this transaction."""
    if not events:
        return
    rows = [
        {
            "at": e.at,
            "kind": e.kind,
            "rollout_id": e.rollout_id,
            "device_id": e.device_id,
            "attempt_id": e.attempt_id,
            "data": e.data,
        }
        for e in events
    ]
    await connection.execute(ADD_EVENTS, {"rows": as_rows(rows)})
    tell_when_over(connection)


ADD_ENTRY = insert(cast(Table, JournalRow.__table__))


async def write_journal(connection: AsyncConnection, entry: JournalEntry) -> None:
    """Adds an entry to the journal, in this transaction."""
    await connection.execute(ADD_ENTRY, [asdict(entry)])
    tell_when_over(connection)


async def seal(engine: AsyncEngine, *, wait: bool = False) -> int:
    """Numbers what has committed since the last time; returns how many rows.

    0 if another process is at it, unless asked to wait for it: then all that was committed at the call is numbered.
    """
    async with engine.begin() as connection:
        if wait:
            await take(connection, Lock.SEALER)
        elif not await try_take(connection, Lock.SEALER):
            return 0
        count = await _seal_events(connection) + await _seal_journal(connection)
        if count:
            tell_when_over(connection)
        return count


async def _seal_events(connection: AsyncConnection) -> int:
    done = await connection.execute(
        text(
            "WITH top AS (SELECT coalesce(max(sealed), 0) AS last FROM outbox), fresh AS ("
            " SELECT id, row_number() OVER (ORDER BY id) AS place FROM outbox WHERE sealed IS NULL"
            " ORDER BY id LIMIT :slice)"
            " UPDATE outbox SET sealed = top.last + fresh.place FROM top, fresh WHERE outbox.id = fresh.id"
        ),
        {"slice": SLICE},
    )
    return done.rowcount


async def _seal_journal(connection: AsyncConnection) -> int:
    fresh = select(JournalRow).where(JournalRow.link.is_(None)).order_by(JournalRow.id).limit(SLICE)
    rows = await fetch_all(connection, fresh, StoredEntry)
    if not rows:
        return 0
    link, previous = await last_link(connection)
    sealed = []
    for row in rows:
        link += 1
        previous = link_hash(previous, link, content(row))
        sealed.append({"row": row["id"], "new_link": link, "new_hash": previous})
    statement = update(JournalRow).where(JournalRow.id == bindparam("row"))
    await connection.execute(statement.values(link=bindparam("new_link"), hash=bindparam("new_hash")), sealed)
    return len(sealed)


async def newest_entry_at(connection: AsyncConnection, what: str) -> datetime | None:
    """When (service time) this was last written into the journal."""
    at: datetime | None = await connection.scalar(select(func.max(JournalRow.at)).where(JournalRow.what == what))
    return at


async def last_link(connection: AsyncConnection) -> tuple[int, str]:
    """Number and hash of the journal's newest link; 0 and the chain's beginning if there is none."""
    newest = select(JournalRow.link, JournalRow.hash).where(JournalRow.link.is_not(None))
    last = (await connection.execute(newest.order_by(JournalRow.link.desc()).limit(1))).first()
    return (last.link, last.hash) if last else (0, GENESIS)


async def read_chain(connection: AsyncConnection) -> AsyncIterator[tuple[int, str, dict[str, Any]]]:
    """Number, hash and content of every link of the journal, in order."""
    async for rows in each_entry(connection, JournalFilter()):
        for row in rows:
            assert row["link"] is not None and row["hash"] is not None
            yield row["link"], row["hash"], content(row)


def content(row: StoredEntry) -> dict[str, Any]:
    """What the hash of a journal entry covers."""
    return covered(row["who"], row["what"], row["subject"], row["why"], row["data"], row["at"])


async def read_feed(
    connection: AsyncConnection, after: int, *, rollout_id: int | None = None, limit: int = 500
) -> list[StoredEvent]:
    """Sealed events after number ``after``, in order."""
    statement = select(Outbox).where(Outbox.sealed > after).order_by(Outbox.sealed).limit(limit)
    if rollout_id is not None:
        statement = statement.where(Outbox.rollout_id == rollout_id)
    return await _named(connection, await fetch_all(connection, statement, StoredEvent))


async def latest_events(
    connection: AsyncConnection, kinds: Sequence[str], *, rollout_id: int | None = None, limit: int = 20
) -> list[StoredEvent]:
    """The newest sealed events of these kinds, newest first: those of rollouts however old they are, others if they are
    among the last ``REACH``. What moved nothing (how far a download is) is not among them."""
    newest = select(func.max(Outbox.sealed)).scalar_subquery()
    told = Outbox.data["moved"].astext.is_distinct_from("false")
    found: list[StoredEvent] = []
    for where in (Outbox.kind == ROLLOUT, and_(Outbox.kind != ROLLOUT, Outbox.sealed > newest - REACH)):
        statement = select(Outbox).where(Outbox.sealed.is_not(None), Outbox.kind.in_(list(kinds)), told, where)
        if rollout_id is not None:
            statement = statement.where(Outbox.rollout_id == rollout_id)
        found += await fetch_all(connection, statement.order_by(Outbox.sealed.desc()).limit(limit), StoredEvent)
    found = sorted(found, key=lambda row: -(row["sealed"] or 0))[:limit]
    return await _named(connection, found)


async def _named(connection: AsyncConnection, found: list[StoredEvent]) -> list[StoredEvent]:
    """What the service itself says of a device knows its number alone: people know it by its serial."""
    ids = {row["device_id"] for row in found if row["device_id"] is not None and "serial" not in row["data"]}
    if not ids:
        return found
    named = await connection.execute(select(Device.id, Device.serial).where(Device.id.in_(sorted(ids))))
    serials = {row.id: row.serial for row in named}
    return [
        {**row, "data": {"serial": serials[row["device_id"]], **row["data"]}} if row["device_id"] in serials else row
        for row in found
    ]


async def newest_sealed(connection: AsyncConnection) -> int:
    """The number of the newest sealed event, 0 if there is none."""
    return int(await connection.scalar(select(func.coalesce(func.max(Outbox.sealed), 0))) or 0)


@dataclass(frozen=True, slots=True)
class JournalFilter:
    """Which entries are wanted: by ``who`` (exactly), by words within ``what`` and ``subject``, by words anywhere
    (``text``), from ``since`` on and before ``until``; ``decisions`` leaves out that devices enrolled."""

    who: str | None = None
    what: str | None = None
    subject: str | None = None
    text: str | None = None
    since: datetime | None = None
    until: datetime | None = None
    decisions: bool = False


ENROLMENTS = ("enrolled", "enrolled again")


async def read_journal(
    connection: AsyncConnection, wanted: JournalFilter = JournalFilter(), *, before: int | None = None, limit: int = 100
) -> list[StoredEntry]:
    """Sealed journal entries, newest first."""
    statement = _picked(wanted).order_by(JournalRow.link.desc()).limit(limit)
    if before is not None:
        statement = statement.where(JournalRow.link < before)
    return await fetch_all(connection, statement, StoredEntry)


async def each_entry(connection: AsyncConnection, wanted: JournalFilter) -> AsyncIterator[list[StoredEntry]]:
    """Sealed journal entries, oldest first, so many at a time."""
    after = 0
    while rows := await fetch_all(
        connection, _picked(wanted).where(JournalRow.link > after).order_by(JournalRow.link).limit(SLICE), StoredEntry
    ):
        yield rows
        after = rows[-1]["link"] or after


def _picked(wanted: JournalFilter) -> Select[JournalRow]:
    statement = select(JournalRow).where(JournalRow.link.is_not(None))
    if wanted.who is not None:
        statement = statement.where(JournalRow.who == wanted.who)
    for column, words in ((JournalRow.what, wanted.what), (JournalRow.subject, wanted.subject)):
        if words is not None:
            statement = statement.where(column.icontains(words, autoescape=True))
    if wanted.text is not None:
        anywhere = [JournalRow.who, JournalRow.what, JournalRow.subject, JournalRow.why, JournalRow.data.cast(Text)]
        statement = statement.where(or_(*(one.icontains(wanted.text, autoescape=True) for one in anywhere)))
    if wanted.since is not None:
        statement = statement.where(JournalRow.at >= wanted.since)
    if wanted.until is not None:
        statement = statement.where(JournalRow.at < wanted.until)
    if wanted.decisions:
        statement = statement.where(JournalRow.what.not_in(ENROLMENTS))
    return statement
