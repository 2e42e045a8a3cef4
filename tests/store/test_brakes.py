"""What the brakes count, held against counting by hand on any attempts."""

from collections import Counter
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy.ext.asyncio import AsyncConnection, AsyncEngine

from mellow_herald.core.plan import BrakeKind
from mellow_herald.store.brakes import count_bad, tally, tally_over_time
from mellow_herald.store.database import make_engine
from tests.harness.database import Databases
from tests.harness.rows import add_attempt, add_device, add_release, add_rollout

T0 = datetime(2026, 11, 23, 6, tzinfo=UTC)
ROUND = T0 + timedelta(minutes=30)


@pytest.fixture(scope="module")
def engine(databases: Databases) -> Iterator[AsyncEngine]:
    yield make_engine(databases.fresh())


minutes = st.none() | st.integers(0, 90)


@st.composite
def attempts(draw: st.DrawFn) -> list[dict[str, Any]]:
    """Attempts as they may be: bad only once they count, in clusters or alone."""
    found = []
    for _ in range(draw(st.integers(0, 12))):
        offered, exposed = draw(minutes), draw(minutes)
        harmed = draw(st.none() | st.integers(exposed, 95)) if exposed is not None else None
        lost = draw(st.none() | st.integers(offered, 95)) if offered is not None and exposed is None else None
        found.append(
            {
                "ring": draw(st.integers(0, 2)),
                "facts": {"hw_rev": draw(st.integers(1, 3))},
                "offered_at": offered,
                "exposed_at": exposed,
                "harmed_at": harmed,
                "undelivered_at": lost,
                "cluster": draw(st.sampled_from((None, None, "power-lost x", "silent behind y"))),
            }
        )
    return found


def at(minute: int | None) -> datetime | None:
    return None if minute is None else T0 + timedelta(minutes=minute)


async def fill(connection: AsyncConnection, rows: list[dict[str, Any]]) -> None:
    """A rollout with these attempts, in the caller's transaction."""
    await add_release(connection, T0)
    await add_rollout(connection, 1, T0, round=2, round_at=ROUND)
    for number, row in enumerate(rows, 1):
        await add_device(connection, number, T0)
        times = {name: at(value) if name.endswith("_at") else value for name, value in row.items()}
        await add_attempt(connection, number, T0, **times)


def by_hand(rows: list[dict[str, Any]], kind: BrakeKind) -> dict[tuple[int, str], tuple[int, int]]:
    """{(ring, hw_rev): (seen, bad)}, the slow way."""
    begins, bad = ("exposed_at", "harmed_at") if kind is BrakeKind.FIRMWARE else ("offered_at", "undelivered_at")
    counted = [(n, row) for n, row in enumerate(rows) if row[begins] is not None and at(row[begins]) >= ROUND]  # type: ignore[operator]
    voted: set[str] = set()
    seen: Counter[tuple[int, str]] = Counter()
    votes: Counter[tuple[int, str]] = Counter()
    for _, row in counted:
        seen[(row["ring"], str(row["facts"]["hw_rev"]))] += 1
    for n, row in sorted(
        ((n, row) for n, row in counted if row[bad] is not None), key=lambda one: (one[1][bad], one[0])
    ):
        cluster = row["cluster"] or f"#{n}"
        if cluster not in voted:
            votes[(row["ring"], str(row["facts"]["hw_rev"]))] += 1
        voted.add(cluster)
    return {key: (count, votes[key]) for key, count in seen.items()}


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(rows=attempts())
async def test_the_tallies_are_those_counted_by_hand(engine: AsyncEngine, rows: list[dict[str, Any]]) -> None:
    async with engine.connect() as connection:
        await fill(connection, rows)
        for kind in BrakeKind:
            expected = by_hand(rows, kind)
            found = await tally(connection, 1, kind, ["hw_rev"], ROUND)
            assert {(one.ring, one.values[0]): (one.seen, one.bad) for one in found} == expected
            steps = await tally_over_time(connection, 1, kind, ["hw_rev"], ROUND, timedelta(minutes=7))
            for what, place in (("seen", 0), ("bad", 1)):
                summed: Counter[tuple[int, str]] = Counter()
                for one in steps:
                    summed[(one.ring, one.values[0])] += getattr(one, what)
                assert {key: summed[key] for key in expected} == {key: pair[place] for key, pair in expected.items()}
        ever = sum(
            (row["exposed_at"] is not None and at(row["exposed_at"]) >= ROUND and row["harmed_at"] is not None)  # type: ignore[operator]
            or (row["offered_at"] is not None and at(row["offered_at"]) >= ROUND and row["undelivered_at"] is not None)  # type: ignore[operator]
            for row in rows
        )
        assert await count_bad(connection, 1, ROUND) == ever
        assert await count_bad(connection, 1, None) == 0
        await connection.rollback()
