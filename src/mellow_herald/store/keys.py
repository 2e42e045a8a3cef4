"""Key lists: carried, never made here."""

from datetime import datetime

from sqlalchemy import select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.keys import KeyList, verify_key_list
from mellow_herald.store.database import fetch_one
from mellow_herald.store.rows import StoredKeyList
from mellow_herald.store.tables import KeyListRow


async def newest_key_list(connection: AsyncConnection) -> StoredKeyList | None:
    """The key list in force."""
    statement = select(KeyListRow.__table__).order_by(KeyListRow.number.desc()).limit(1)
    return await fetch_one(connection, statement, StoredKeyList)


async def trusted_keys(connection: AsyncConnection) -> KeyList | None:
    """The key list in force, verified again."""
    row = await newest_key_list(connection)
    return None if row is None else verify_key_list(row["body"], row["root"])


async def add_key_list(connection: AsyncConnection, number: int, root: bytes, body: bytes, at: datetime) -> None:
    """Adds a key list; the caller has checked that its number is the highest."""
    await connection.execute(insert(KeyListRow).values(number=number, root=root, body=body, published_at=at))
