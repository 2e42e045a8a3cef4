"""Counts that are kept as attempts move, held against counting them, whatever moves them, whoever folds meanwhile."""

import asyncio
import random
from collections import Counter
from datetime import UTC, datetime, timedelta

import pytest
from sqlalchemy import delete, insert, select, update
from sqlalchemy.ext.asyncio import AsyncConnection, AsyncEngine

from mellow_herald.core.attempt import State
from mellow_herald.store import tallies
from mellow_herald.store.database import make_engine
from mellow_herald.store.tables import AttemptRow, Tally
from tests.harness.rows import add_attempt, add_device, add_release, add_rollout

T0 = datetime(2026, 11, 23, 6, tzinfo=UTC)
DEVICES = 120
STATES = [state.value for state in State]


async def fill(engine: AsyncEngine) -> None:
    async with engine.begin() as connection:
        await add_release(connection, T0)
        for rollout in (1, 2):
            await add_rollout(connection, rollout, T0)
        for number in range(1, DEVICES + 1):
            await add_device(connection, number, T0)


async def add_attempts(connection: AsyncConnection, numbers: range, rollout: int) -> None:
    for number in numbers:
        await add_attempt(connection, number, T0, rollout_id=rollout, ring=number % 3, live=True)


async def stir(connection: AsyncConnection, rng: random.Random, number: int) -> None:
    """One statement, of any kind that moves attempts."""
    bad = rng.choice((None, T0 + timedelta(minutes=rng.randrange(60))))
    values = {
        "state": rng.choice(STATES),
        "reason": rng.choice((None, "crashed", "no-contact")),
        "waiting_for": rng.choice((None, "battery")),
        "left_out": rng.random() < 0.2,
        "exposed_at": rng.choice((None, T0)),
        "first_bad_at": bad,
        "first_bad_why": None if bad is None else rng.choice(("crashed", "silent")),
        "fetched": rng.randrange(101),
        "ring": rng.randrange(3),
        "unasked_at": rng.choice((None, T0)),
    }
    some = sorted(rng.sample(range(1, DEVICES + 1), rng.randrange(1, 12)))
    moved = update(AttemptRow).where(AttemptRow.id.in_(some))
    await connection.execute(moved.values(live=False) if number % 7 == 0 else moved.values(**values))


async def counted(connection: AsyncConnection, rollout: int) -> Counter[tuple[object, ...]]:
    rows = await connection.execute(select(AttemptRow.__table__).where(AttemptRow.rollout_id == rollout))
    found: Counter[tuple[object, ...]] = Counter()
    for row in rows:
        key = (row.ring, row.state, row.reason, row.waiting_for, row.left_out)
        found.update({("attempts", *key): 1, ("percents", *key): row.fetched, ("live", *key): int(row.live)})
        for name, at in (("exposed", row.exposed_at), ("ever_bad", row.first_bad_at), ("unasked", row.unasked_at)):
            found[(name, *key)] += int(at is not None)
    return +found


async def kept(connection: AsyncConnection, rollout: int) -> Counter[tuple[object, ...]]:
    found: Counter[tuple[object, ...]] = Counter()
    for row in await tallies.count_attempts(connection, [rollout]):
        key = (row["ring"], row["state"], row["reason"], row["waiting_for"], row["left_out"])
        found.update({(name, *key): int(row[name]) for name in tallies.SUMS})  # type: ignore[literal-required]
    return +found


@pytest.mark.parametrize("seed", range(3))
async def test_they_are_what_counting_says_while_many_move_and_fold(
    database_url: str, seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(tallies, "MOST_LINES", 5)
    engine, rng, over = make_engine(database_url), random.Random(seed), False
    await fill(engine)
    async with engine.begin() as connection:
        await add_attempts(connection, range(1, 61), 1)
        await add_attempts(connection, range(61, DEVICES + 1), 2)

    async def fold() -> None:
        while not over:
            await tallies.fold(engine)
            await asyncio.sleep(rng.uniform(0, 0.005))

    async def move(turn: int) -> None:
        try:
            async with engine.begin() as connection:
                await connection.execute(select(AttemptRow.id).order_by(AttemptRow.id).with_for_update())
                for number in range(4):
                    await stir(connection, rng, turn + number)
                if rng.random() < 0.2:
                    raise TimeoutError  # what is rolled back moved nothing
        except TimeoutError:
            pass

    folding = [asyncio.create_task(fold()) for _ in range(2)]
    for turn in range(12):
        await asyncio.gather(*(move(turn + n) for n in range(4)))
        async with engine.connect() as connection:
            await connection.execution_options(isolation_level="REPEATABLE READ")
            for rollout in (1, 2):
                assert await kept(connection, rollout) == await counted(connection, rollout)
    over = True
    await asyncio.gather(*folding)
    async with engine.begin() as connection:
        harm = await tallies.count_harm(connection, [1, 2])
        rows = await connection.execute(select(AttemptRow.rollout_id, AttemptRow.first_bad_why))
        there = Counter((row.rollout_id, row.first_bad_why) for row in rows if row.first_bad_why is not None)
        assert {(one, why): n for one, of in harm.items() for why, n in of.items()} == there
        await connection.execute(delete(AttemptRow).where(AttemptRow.rollout_id == 2))
        assert await kept(connection, 2) == Counter()
    assert await tallies.mend(engine) == set()
    await engine.dispose()


async def test_what_does_not_agree_is_named_and_put_right(database_url: str) -> None:
    engine = make_engine(database_url)
    await fill(engine)
    async with engine.begin() as connection:
        await add_attempts(connection, range(1, 61), 1)
        await add_attempts(connection, range(61, DEVICES + 1), 2)
        await connection.execute(delete(Tally).where(Tally.rollout_id == 1, Tally.ring == 2))
        line = {"rollout_id": 1, "ring": 0, "state": "staged", "left_out": False}
        await connection.execute(insert(Tally).values(**line, **dict.fromkeys(tallies.SUMS, 3)))
    found = await asyncio.gather(*(tallies.mend(engine) for _ in range(4)))
    assert sorted(map(len, found)) == [0, 0, 0, 1] and {1} in found, "of several workers that look at once one mends it"
    async with engine.connect() as connection:
        assert await kept(connection, 1) == await counted(connection, 1)
    assert await tallies.mend(engine) == set()
    await engine.dispose()
