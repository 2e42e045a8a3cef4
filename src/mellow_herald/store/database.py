"""The connection to PostgreSQL: engine, migrations, and sets of rows as one JSON parameter."""

import json
from collections.abc import Mapping, Sequence
from datetime import date, datetime
from importlib.resources import files
from typing import Any, TypeVar, cast

import alembic.command
import alembic.config
from pydantic_core import from_json
from sqlalchemy import BigInteger, Connection, Executable, any_, bindparam, text
from sqlalchemy.dialects.postgresql import ARRAY
from sqlalchemy.ext.asyncio import AsyncConnection, AsyncEngine, create_async_engine

from mellow_herald.store.gate import Lock, take

CHANNEL = "herald"
Record = TypeVar("Record", bound=Mapping[str, Any])


def make_engine(url: str, pool_size: int = 16) -> AsyncEngine:
    """The engine of one service process."""
    return create_async_engine(
        url, pool_size=pool_size, max_overflow=4, pool_pre_ping=True, json_deserializer=from_json
    )


async def migrate(engine: AsyncEngine) -> None:
    """Brings the schema up to date; safe when several processes start at once."""
    async with engine.begin() as connection:
        await take(connection, Lock.MIGRATION)
        await connection.run_sync(_upgrade)


def _upgrade(connection: Connection) -> None:
    alembic.command.upgrade(alembic_config(connection), "head")


def alembic_config(connection: Connection) -> alembic.config.Config:
    """Alembic's configuration for our migrations on an open connection."""
    config = alembic.config.Config()
    config.set_main_option("script_location", str(files("mellow_herald.store") / "migrations"))
    config.attributes["connection"] = connection
    return config


async def notify(connection: AsyncConnection, payload: str) -> None:
    """Tells all service processes something when the transaction commits."""
    await connection.execute(text("SELECT pg_notify(:channel, :payload)"), {"channel": CHANNEL, "payload": payload})


def among(parameter: str) -> Any:
    """What a number is compared with to be one of a list that is given when the statement runs: statements of the
    devices' calls are built once, since building them takes longer than running them."""
    return any_(bindparam(parameter, type_=ARRAY(BigInteger)))


def as_rows(rows: Sequence[Mapping[str, Any]]) -> str:
    """Rows as a JSON array for ``jsonb_populate_recordset``: one parameter, typed by the table itself."""
    return json.dumps(list(rows), default=_plain, separators=(",", ":"))


def _plain(value: object) -> str:
    if isinstance(value, datetime | date):
        return value.isoformat()
    if isinstance(value, bytes):
        return "\\x" + value.hex()
    return str(value)


async def fetch_all(
    connection: AsyncConnection, statement: Executable, kind: type[Record], parameters: Mapping[str, Any] | None = None
) -> list[Record]:
    """The rows of a query. ``kind`` is the ``TypedDict`` that says what is in one: the query's columns by name."""
    result = await connection.execute(statement, dict(parameters) if parameters else None)
    return cast(list[Record], list(result.mappings()))


async def fetch_one(
    connection: AsyncConnection, statement: Executable, kind: type[Record], parameters: Mapping[str, Any] | None = None
) -> Record | None:
    """The first row of a query, None if there is none."""
    rows = await fetch_all(connection, statement, kind, parameters)
    return rows[0] if rows else None
