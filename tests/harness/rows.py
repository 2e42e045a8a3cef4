"""Rows as they stand in the store, for tests that ask it without a service."""

from datetime import datetime
from typing import Any

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.store.tables import Base

TABLES = Base.metadata.tables


async def add(connection: AsyncConnection, table: str, **values: Any) -> None:
    """One row."""
    await connection.execute(TABLES[table].insert().values(**values))


async def add_release(connection: AsyncConnection, at: datetime) -> None:
    """Board b with release 1 of line l."""
    await add(
        connection,
        "board",
        name="b",
        vendor_domain="x.example",
        lines=[],
        hw_revs=[],
        slots=[],
        runs="anywhere",
        check_in_s=60,
        check_in_exceptions=[],
        added_at=at,
    )
    await add(
        connection,
        "release",
        id=1,
        board="b",
        line="l",
        version="1.0.0",
        version_key=b"",
        state="draft",
        floor=1,
        hw_rev_min=0,
        hw_rev_max=9,
        needs={},
        independent=False,
        notes="",
        labels={},
        revision=1,
        checks=[],
        manifest_digest="m",
        authentication=b"",
        manifest=b"",
        kid="k",
        uploaded_at=at,
        uploaded_by="t",
    )


async def add_rollout(connection: AsyncConnection, number: int, at: datetime, **values: Any) -> None:
    """A running rollout of release 1."""
    common = {
        "release_id": 1,
        "plan": {},
        "target": "",
        "revision": 1,
        "overtakes": False,
        "state": "running",
        "created_by": "t",
        "created_at": at,
        "targeted": 0,
        "round": 1,
        "round_at": at,
        "watch": {},
        "kind": "forward",
        "scope": {},
    }
    await add(connection, "rollout", **{"id": number, "name": "r", **common, **values})


async def add_device(connection: AsyncConnection, number: int, at: datetime, **values: Any) -> None:
    """An admitted device of board b and line l."""
    common = {
        "board": "b",
        "line": "l",
        "hw_rev": 1,
        "labels": {},
        "admission": "admitted",
        "generation": 1,
        "token_used": True,
        "may_enrol_again": False,
        "note": "",
        "running": {},
        "standby": {},
        "version_keys": {},
        "enrolled_at": at,
        "changed_at": at,
        "arriving": False,
    }
    await add(connection, "device", **{"id": number, "serial": f"d{number}", **common, **values})


async def add_attempt(connection: AsyncConnection, number: int, at: datetime, **values: Any) -> None:
    """An attempt of rollout 1 on the device of the same number."""
    row = {
        "rollout_id": 1,
        "device_id": number,
        "facts": {},
        "parts": {},
        "before": {},
        "created_at": at,
        "changed_at": at,
        "live": False,
        "state": "queued",
        "try_number": 1,
        "tries": 1,
        "soak_s": 0,
        "retry_pause_s": 0,
        "installs": 0,
        "fetched": 0,
        "retry_bad": False,
        "vouched": False,
        "came_from": {},
        "closed": False,
        "left_out": False,
    }
    await add(connection, "attempt", id=number, **(row | values))
