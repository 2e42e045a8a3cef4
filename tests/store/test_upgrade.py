"""The schema of every released version, with rows, brought up to date while workers of that version serve."""

import asyncio
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager, suppress
from typing import Any

import alembic.command
import pytest
from sqlalchemy import Connection, MetaData, Table, text
from sqlalchemy.ext.asyncio import AsyncEngine

from mellow_herald.store.database import alembic_config, make_engine, migrate
from tests.harness.database import Databases

# By version, the schema that it came with. One more with every release.
RELEASED = {"0.1.0": "0010"}
# What those who serve write all the time, as they know the tables.
WRITES = (
    "UPDATE pulse SET seen_at = now(), seq = seq + 1 WHERE device_id = :n",
    "UPDATE device SET token_used = true, changed_at = now() WHERE id = :n",
    "UPDATE attempt SET percent = 50, changed_at = now() WHERE id = :n",
    "INSERT INTO outbox (at, kind, data) VALUES (now(), 'attempt', '{}')",
)
LONGEST_S = 5.0
# Beyond what sequences give out meanwhile.
ROWS = (1001, 1002)


def plausible(column: Any, number: int) -> Any:
    """A value that the column takes."""
    kind, name = str(column.type).upper(), column.name
    if name in VALUES:
        return VALUES[name]
    if "[]" in kind or "ARRAY" in kind:
        return []
    if "JSON" in kind:
        return {}
    if "TIMESTAMP" in kind or "DATE" in kind:
        from datetime import UTC, datetime

        return datetime(2026, 11, 20, 6, tzinfo=UTC)
    if "BOOL" in kind:
        return False
    if "BYTEA" in kind:
        return b"\x01"
    if "INT" in kind or "DOUBLE" in kind or "NUMERIC" in kind or "FLOAT" in kind:
        return number
    return f"{name}-{number}"


VALUES: dict[str, Any] = {
    "admission": "admitted",
    "kind": None,
    "state": None,
    "slot": -1,
    "roles": ["admin"],
    "role": "admin",
}
STATES = {"release": "draft", "rollout": "running", "ring": "open", "attempt": "queued"}
KINDS = {"rollout": "forward", "credential": "token", "outbox": "attempt", "serial_list": "kept"}


def row_of(table: Table, number: int) -> dict[str, Any]:
    """A row with something in every column that must have something, and that refers to rows of that number."""
    row = {}
    for column in table.columns:
        if column.nullable and column.name not in ("sealed",):
            continue
        if column.server_default is not None and column.name != "id":
            continue
        row[column.name] = plausible(column, number)
    if "state" in row:
        row["state"] = STATES.get(table.name, "queued")
    if "kind" in row:
        row["kind"] = KINDS.get(table.name, "attempt")
    if table.name == "attempt":
        row |= {"live": True, "closed": False}
    for key in table.foreign_keys:
        target, name = key.column, key.parent.name
        row[name] = plausible(target, number) if target.name not in ("id",) else number
    return row


@asynccontextmanager
async def an_old_worker(engine: AsyncEngine, waits: list[float]) -> AsyncIterator[None]:
    """Writes as the version before did, again and again, and notes how long it waited each time."""

    async def work() -> None:
        while True:
            for statement in WRITES:
                began = time.monotonic()
                async with engine.begin() as connection:
                    await connection.execute(text(statement), {"n": ROWS[0]} if ":n" in statement else {})
                waits.append(time.monotonic() - began)
            await asyncio.sleep(0.005)

    task = asyncio.create_task(work())
    await asyncio.sleep(0.2)
    try:
        yield
        await asyncio.sleep(0.3)
        if task.done():
            task.result()
    finally:
        task.cancel()
        with suppress(asyncio.CancelledError):
            await task


@pytest.mark.parametrize("version", RELEASED)
async def test_it_is_brought_up_to_date_while_the_version_before_serves(databases: Databases, version: str) -> None:
    engine = make_engine(databases.empty())
    tables = MetaData()

    def make(connection: Connection) -> None:
        alembic.command.upgrade(alembic_config(connection), RELEASED[version])
        tables.reflect(connection)
        for table in tables.sorted_tables:
            if table.name == "alembic_version":
                continue
            for number in ROWS:
                if number != ROWS[0] and table.name == "clock":
                    continue
                connection.execute(table.insert().values(row_of(table, number)))

    async with engine.begin() as connection:
        await connection.run_sync(make)
    counts = "SELECT " + ", ".join(f"(SELECT count(*) FROM {table})" for table in sorted(tables.tables))
    async with engine.connect() as connection:
        before = (await connection.execute(text(counts))).one()
    waits: list[float] = []
    async with an_old_worker(engine, waits):
        await migrate(engine)
    async with engine.connect() as connection:
        there = {row[0] for row in await connection.execute(text("SELECT tablename FROM pg_tables"))}
        lost = set(tables.tables) - there
        assert not lost, "old workers look for them"
        after = (await connection.execute(text(counts))).one()
    for name, was, now in zip(sorted(tables.tables), before, after, strict=True):
        assert now >= was, name
    assert max(waits) < LONGEST_S, "it waited, and was served"
    refused = []
    for table in tables.sorted_tables:
        if table.name not in ("alembic_version", "clock"):
            try:
                async with engine.begin() as connection:
                    await connection.execute(table.insert().values(row_of(table, 1003)))
            except Exception as error:
                refused.append(f"{table.name}: {str(error.__cause__ or error)[:150]}")
    assert not refused
    await engine.dispose()
