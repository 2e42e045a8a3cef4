"""The tables that are kept by stretches of days, of which old ones are dropped whole."""

from collections.abc import Iterable
from datetime import UTC, datetime, timedelta

from sqlalchemy import text
from sqlalchemy.ext.asyncio import AsyncConnection, AsyncEngine

DAY_S = 86_400
# How many days a partition has.
SPANS = {"reading_chunk": 1, "reading_minute": 7, "reading_hour": 28}


def _name(table: str, begin: datetime) -> str:
    return f"{table}_{begin:%Y%m%d}"


def _begin(table: str, at: datetime) -> datetime:
    days = int(at.timestamp() // DAY_S)
    return datetime.fromtimestamp((days - days % SPANS[table]) * DAY_S, UTC)


async def make_room(connection: AsyncConnection, times: Iterable[datetime]) -> None:
    """Makes the partitions that rows of these times belong in, where there are none yet."""
    listed = {(table, _begin(table, at)) for at in times for table in SPANS}
    there = set(await _partitions(connection))
    for table, begin in sorted(listed):
        if _name(table, begin) not in there:
            end = begin + timedelta(days=SPANS[table])
            await connection.execute(
                text(
                    f"CREATE TABLE IF NOT EXISTS {_name(table, begin)} PARTITION OF {table}"
                    f" FOR VALUES FROM ('{begin.isoformat()}') TO ('{end.isoformat()}')"
                )
            )


async def drop_before(engine: AsyncEngine, table: str, oldest: datetime) -> list[str]:
    """Drops the partitions in which all is older; returns their names. They are detached before, which nobody who
    reads or writes waits for. What broke off on the way (whoever reads for long holds it up) is done to its end."""
    async with engine.connect() as connection:
        found = (await connection.execute(_PARTITIONS_OF, {"name": f"^{table}_[0-9]{{8}}$"})).all()
    span, dropped = timedelta(days=SPANS[table]), []
    for name, attached, pending in found:
        begin = datetime.strptime(name.removeprefix(f"{table}_"), "%Y%m%d").replace(tzinfo=UTC)
        if begin + span <= oldest:
            async with engine.connect() as connection:
                alone = await connection.execution_options(isolation_level="AUTOCOMMIT")
                if attached:
                    how = "FINALIZE" if pending else "CONCURRENTLY"
                    await alone.execute(text(f"ALTER TABLE {table} DETACH PARTITION {name} {how}"))
                await alone.execute(text(f"DROP TABLE {name}"))
            dropped.append(name)
    return dropped


_PARTITIONS_OF = text(
    "SELECT c.relname, i.inhrelid IS NOT NULL, coalesce(i.inhdetachpending, false) FROM pg_class c"
    " LEFT JOIN pg_inherits i ON i.inhrelid = c.oid"
    " WHERE c.relkind = 'r' AND pg_table_is_visible(c.oid) AND c.relname ~ :name ORDER BY c.relname"
)


async def _partitions(connection: AsyncConnection) -> list[str]:
    found = await connection.execute(
        text(
            "SELECT c.relname FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid"
            " JOIN pg_class p ON p.oid = i.inhparent WHERE p.relname = ANY(:tables) ORDER BY c.relname"
        ),
        {"tables": list(SPANS)},
    )
    return [name for (name,) in found]
