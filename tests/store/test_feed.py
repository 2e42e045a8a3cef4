import asyncio
import random
from datetime import UTC, datetime

from sqlalchemy import update

from mellow_herald.core.journal import first_broken
from mellow_herald.store.database import make_engine
from mellow_herald.store.feed import (
    FeedEvent,
    JournalEntry,
    content,
    newest_sealed,
    publish,
    read_feed,
    read_journal,
    seal,
    write_journal,
)
from mellow_herald.store.gate import Lock as GateLock
from mellow_herald.store.gate import close_gate, draw_numbers, share_gates, try_take
from mellow_herald.store.tables import JournalRow

T0 = datetime(2026, 11, 23, 6, tzinfo=UTC)


async def test_a_reader_never_misses_a_late_commit(database_url: str) -> None:
    """Writers commit in another order than they inserted; two sealers race; the reader goes by the last number."""
    engine = make_engine(database_url)
    rng = random.Random(5)
    writing = True

    async def write(number: int) -> None:
        async with engine.begin() as connection:
            await publish(connection, [FeedEvent(T0, "thing", data={"n": number})])
            await asyncio.sleep(rng.uniform(0, 0.03))

    async def keep_sealing() -> None:
        while writing:
            await seal(engine)
            await asyncio.sleep(rng.uniform(0, 0.004))

    seen: list[int] = []
    numbers: list[int] = []

    async def read() -> None:
        while writing or len(seen) < 120:
            async with engine.connect() as connection:
                for row in await read_feed(connection, numbers[-1] if numbers else 0, limit=7):
                    seen.append(row["data"]["n"])
                    numbers.append(row["sealed"])
            await asyncio.sleep(0.001)

    sealers = [asyncio.create_task(keep_sealing()) for _ in range(2)]
    reader = asyncio.create_task(read())
    for batch in range(12):
        await asyncio.gather(*(write(batch * 10 + n) for n in range(10)))
    while await seal(engine):
        pass
    writing = False
    await asyncio.gather(*sealers)
    await seal(engine)
    await asyncio.wait_for(reader, 10)
    assert sorted(seen) == list(range(120)), "each exactly once"
    assert numbers == list(range(1, 121)), "without gaps, in rising order"
    await engine.dispose()


async def test_what_was_rolled_back_is_never_sealed(database_url: str) -> None:
    engine = make_engine(database_url)
    async with engine.connect() as connection:
        await publish(connection, [FeedEvent(T0, "never")])
        await connection.rollback()
    async with engine.begin() as connection:
        await publish(connection, [FeedEvent(T0, "yes")])
    await seal(engine)
    async with engine.connect() as connection:
        assert [row["kind"] for row in await read_feed(connection, 0)] == ["yes"]
        assert await newest_sealed(connection) == 1
    await engine.dispose()


async def test_the_journal_is_chained_and_shows_tampering(database_url: str) -> None:
    engine = make_engine(database_url)
    for number in range(5):
        async with engine.begin() as connection:
            entry = JournalEntry(T0, "ada", f"thing {number}", "device x", "because", {"n": number, "ü": "é"})
            await write_journal(connection, entry)
        await seal(engine)

    async def broken() -> int | None:
        async with engine.connect() as connection:
            rows = list(reversed(await read_journal(connection)))
        return first_broken((row["link"], row["hash"], content(row)) for row in rows)

    assert await broken() is None
    async with engine.begin() as connection:
        await connection.execute(update(JournalRow).where(JournalRow.link == 3).values(who="mallory"))
    assert await broken() == 3
    await engine.dispose()


async def test_a_closed_gate_waits_for_its_sharers_and_numbers_tell_before_from_after(database_url: str) -> None:
    engine = make_engine(database_url)
    cleared: list[int] = []
    sharing = asyncio.Event()

    async def clear() -> None:
        async with engine.begin() as connection:
            await share_gates(connection, [7, 3])
            sharing.set()
            await asyncio.sleep(0.1)
            cleared.extend(await draw_numbers(connection, 3))

    async def halt() -> int:
        await sharing.wait()
        async with engine.begin() as connection:
            return await close_gate(connection, 7)

    number, _ = await asyncio.gather(halt(), clear())
    assert max(cleared) < number
    await engine.dispose()


async def test_only_one_takes_a_lock_and_other_gates_stay_open(database_url: str) -> None:
    engine = make_engine(database_url)
    async with engine.begin() as one, engine.begin() as other:
        assert await try_take(one, GateLock.CONDUCTOR, 1)
        assert not await try_take(other, GateLock.CONDUCTOR, 1)
        assert await try_take(other, GateLock.CONDUCTOR, 2)
        await close_gate(one, 1)
        await share_gates(other, [2])
    await engine.dispose()
