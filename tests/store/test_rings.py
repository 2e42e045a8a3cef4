"""Giving devices their attempts while another rollout does the same."""

import asyncio
import time
from datetime import UTC, datetime

import pytest
from sqlalchemy import select, text
from sqlalchemy.ext.asyncio import AsyncConnection, AsyncEngine

from mellow_herald.core.eligibility import Candidate, rules_for
from mellow_herald.core.selector import parse_selector
from mellow_herald.store.database import make_engine
from mellow_herald.store.rings import Portion, Target, give
from mellow_herald.store.tables import AttemptRow, PassedOverRow
from mellow_herald.wire.plan import PlanDocument
from tests.harness.database import Databases
from tests.harness.patience import PATIENCE_S
from tests.harness.rows import add_device, add_release, add_rollout

T0 = datetime(2026, 11, 23, 6, tzinfo=UTC)
PLAN = PlanDocument.model_validate(
    {"name": "r", "release": "b/l/2.0.0", "target": "board = b", "rings": [{"name": "all"}]}
).to_plan()
TARGET = Target(parse_selector("board = b"), rules_for(Candidate("b", "l", "2.0.0", 1, ("a" * 64,), 0, 1, None)))


@pytest.fixture
async def engine(databases: Databases) -> AsyncEngine:
    """Two running rollouts and four devices, the last of which does not suit them."""
    engine = make_engine(databases.fresh())
    async with engine.begin() as connection:
        await add_release(connection, T0)
        for number in (1, 2):
            await add_rollout(connection, number, T0)
        for number, more in enumerate(({}, {"version": "1.0.0"}, {"gateway": "g1"}, {"hw_rev": 2}), 1):
            await add_device(connection, number, T0, labels={"site": "fernhollow"}, **more)
    return engine


async def given(connection: AsyncConnection) -> dict[int, set[int]]:
    found: dict[int, set[int]] = {1: set(), 2: set()}
    for row in await connection.execute(select(AttemptRow.rollout_id, AttemptRow.device_id)):
        found[row.rollout_id].add(row.device_id)
    return found


async def passed(connection: AsyncConnection) -> dict[tuple[int, int], str]:
    rows = await connection.execute(select(PassedOverRow))
    return {(row.rollout_id, row.device_id): row.reason for row in rows}


async def wait_until_one_waits(engine: AsyncEngine) -> None:
    deadline = time.monotonic() + PATIENCE_S
    async with engine.connect() as connection:
        while not await connection.scalar(text("SELECT count(*) FROM pg_locks WHERE NOT granted")):
            assert time.monotonic() < deadline, "nobody waits for anybody"
            await asyncio.sleep(0.02)


async def test_who_is_given_to_another_rollout_in_this_very_moment_is_passed_over(engine: AsyncEngine) -> None:
    async def give_all(rollout_id: int) -> None:
        async with engine.begin() as connection:
            await give(connection, rollout_id, 0, PLAN, TARGET, T0, Portion([1, 2, 3, 4]))

    async with engine.begin() as first:
        await give(first, 1, 0, PLAN, TARGET, T0, Portion([2]))
        second = asyncio.create_task(give_all(2))
        await wait_until_one_waits(engine)
    await second
    async with engine.connect() as connection:
        assert await given(connection) == {1: {2}, 2: {1, 3}}
        assert await passed(connection) == {(2, 2): "in-other-rollout", (2, 4): "wrong-revision"}


async def test_to_give_again_changes_nothing_and_who_has_become_free_is_given_it(engine: AsyncEngine) -> None:
    async with engine.begin() as connection:
        await give(connection, 1, 0, PLAN, TARGET, T0, Portion([2]))
        for _ in range(2):
            await give(connection, 2, 0, PLAN, TARGET, T0, Portion([1, 2, 3, 4]))
        assert await passed(connection) == {(2, 2): "in-other-rollout", (2, 4): "wrong-revision"}
        await connection.execute(text("UPDATE attempt SET live = false, closed = true WHERE rollout_id = 1"))
        await give(connection, 2, 0, PLAN, TARGET, T0, Portion([1, 2, 3, 4]))
        assert await given(connection) == {1: {2}, 2: {1, 2, 3}}
        assert await passed(connection) == {(2, 4): "wrong-revision"}


async def test_an_attempt_keeps_what_its_device_was(engine: AsyncEngine) -> None:
    async with engine.begin() as connection:
        await give(connection, 1, 0, PLAN, TARGET, T0, Portion([1, 2, 3]))
        rows = await connection.execute(select(AttemptRow.device_id, AttemptRow.facts))
        common = {"site": "fernhollow", "hw_rev": "1", "board": "b", "line": "l"}
        assert {row.device_id: row.facts for row in rows} == {
            1: common,
            2: {**common, "version": "1.0.0"},
            3: {**common, "gateway": "g1"},
        }
