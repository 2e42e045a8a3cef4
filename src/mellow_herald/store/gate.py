"""Advisory locks: the gate of a rollout, and the other things only one may do at a time.

The gate is taken before any row lock: shared by whatever hands out an order, exclusive by halt, hold and cancel.
PostgreSQL queues its takers fairly, so a halt does not starve behind a stream of offers.
"""

from collections.abc import Iterable
from enum import IntEnum

from sqlalchemy import text
from sqlalchemy.ext.asyncio import AsyncConnection


class Lock(IntEnum):
    """What an advisory lock stands for; the second number says which one."""

    GATE = 1
    CONDUCTOR = 2
    SEALER = 3
    MIGRATION = 4
    CLOCK = 5
    IMAGES = 6
    LINEAGE = 7
    KEYS = 8
    RELEASES = 9
    BASELINES = 10
    PACE = 11
    FAMILY = 12
    WEBHOOKS = 13
    PEOPLE = 14
    RADIO = 15
    COAP = 16
    READINGS = 17
    REHEARSAL = 18


def _numbers(lock: Lock, which: int) -> dict[str, int]:
    # Advisory locks take 32 bits; two rollouts that share one only wait for each other.
    return {"lock": lock, "which": which % 2**31}


async def take(connection: AsyncConnection, lock: Lock, which: int = 0) -> None:
    """Takes a lock exclusively until the transaction ends."""
    await connection.execute(text("SELECT pg_advisory_xact_lock(:lock, :which)"), _numbers(lock, which))


async def try_take(connection: AsyncConnection, lock: Lock, which: int = 0) -> bool:
    """Takes a lock exclusively if it is free; tells whether it did."""
    statement = text("SELECT pg_try_advisory_xact_lock(:lock, :which)")
    return bool(await connection.scalar(statement, _numbers(lock, which)))


async def hold(connection: AsyncConnection, lock: Lock, which: int = 0) -> bool:
    """Takes a lock if it is free, over all transactions, until the connection is closed; tells whether it did."""
    statement = text("SELECT pg_try_advisory_lock(:lock, :which)")
    return bool(await connection.scalar(statement, _numbers(lock, which)))


async def share(connection: AsyncConnection, lock: Lock, which: int = 0) -> None:
    """Shares a lock with others that share it, until the transaction ends."""
    await connection.execute(text("SELECT pg_advisory_xact_lock_shared(:lock, :which)"), _numbers(lock, which))


async def share_gates(connection: AsyncConnection, rollouts: Iterable[int]) -> None:
    """Shares the gates of these rollouts until the transaction ends, always in rising order."""
    for rollout in sorted(set(rollouts)):
        await share(connection, Lock.GATE, rollout)


async def close_gate(connection: AsyncConnection, rollout: int) -> int:
    """Takes a rollout's gate exclusively and draws a number: every clearance given before has a lower one."""
    await take(connection, Lock.GATE, rollout)
    return (await draw_numbers(connection, 1))[0]


async def draw_numbers(connection: AsyncConnection, count: int) -> list[int]:
    """Draws ``count`` rising gate numbers; the caller holds the gate."""
    drawn = await connection.execute(
        text("SELECT nextval('gate_number') FROM generate_series(1, :count)"), {"count": count}
    )
    return sorted(row[0] for row in drawn)
