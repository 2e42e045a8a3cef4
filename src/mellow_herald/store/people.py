"""People, their sessions and tokens, and the keys device tokens are made with."""

from collections.abc import Sequence
from datetime import datetime
from typing import TypedDict

from sqlalchemy import func, select, union, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.store.database import fetch_all, fetch_one
from mellow_herald.store.rows import StoredCredential, StoredPerson
from mellow_herald.store.tables import Credential, EnrolmentCode, MacKey, Person


class SignedIn(TypedDict):
    """A credential that is good, with its person's ``name`` and ``role``."""

    id: int
    kind: str
    person_id: int
    name: str
    role: str


async def count_people(connection: AsyncConnection) -> int:
    """How many people there are."""
    return int(await connection.scalar(select(func.count()).select_from(Person)) or 0)


async def add_person(connection: AsyncConnection, name: str, role: str, password_hash: str, at: datetime) -> bool:
    """Adds a person; False if the name is taken."""
    statement = insert(Person).values(name=name, role=role, password_hash=password_hash, created_at=at)
    done = await connection.execute(statement.on_conflict_do_nothing().returning(Person.id))
    return done.scalar() is not None


async def find_person(connection: AsyncConnection, name: str) -> StoredPerson | None:
    """A person who may sign in, by name."""
    statement = select(Person.__table__).where(Person.name == name, Person.closed_at.is_(None))
    return await fetch_one(connection, statement, StoredPerson)


async def add_credential(
    connection: AsyncConnection,
    person_id: int,
    kind: str,
    name: str,
    secret_hash: str,
    at: datetime,
    expires_at: datetime,
) -> int:
    """Adds a session or token; returns its id. Times are real time."""
    values = {"person_id": person_id, "kind": kind, "name": name, "secret_hash": secret_hash}
    statement = insert(Credential).values(**values, created_at=at, expires_at=expires_at).returning(Credential.id)
    return int((await connection.execute(statement)).scalar_one())


async def find_credential(connection: AsyncConnection, secret_hash: str, at: datetime) -> SignedIn | None:
    """Who holds this secret, if it is good at ``at``."""
    statement = (
        select(Credential.id, Credential.kind, Person.id.label("person_id"), Person.name, Person.role)
        .join(Person, Person.id == Credential.person_id)
        .where(
            Credential.secret_hash == secret_hash,
            Credential.closed_at.is_(None),
            Credential.expires_at > at,
            Person.closed_at.is_(None),
        )
    )
    return await fetch_one(connection, statement, SignedIn)


async def spent_credential(connection: AsyncConnection, secret_hash: str) -> StoredCredential | None:
    """The session or token with this secret, whether it is good still or not."""
    statement = select(Credential.__table__).where(Credential.secret_hash == secret_hash)
    return await fetch_one(connection, statement, StoredCredential)


async def list_tokens(connection: AsyncConnection, person_id: int) -> list[StoredCredential]:
    """A person's tokens that are not closed."""
    statement = select(Credential.__table__).where(
        Credential.person_id == person_id, Credential.kind == "token", Credential.closed_at.is_(None)
    )
    return await fetch_all(connection, statement.order_by(Credential.id), StoredCredential)


async def close_credential(connection: AsyncConnection, credential_id: int, person_id: int, at: datetime) -> bool:
    """Closes a person's session or token; False if there is no such one."""
    statement = update(Credential).where(
        Credential.id == credential_id, Credential.person_id == person_id, Credential.closed_at.is_(None)
    )
    return (await connection.execute(statement.values(closed_at=at))).rowcount > 0


async def mac_keys(connection: AsyncConnection) -> dict[int, bytes]:
    """All keys that device tokens may be made with, by id."""
    return {row.id: row.secret for row in await connection.execute(select(MacKey.id, MacKey.secret))}


async def secrets_known(connection: AsyncConnection, hashes: Sequence[str]) -> set[str]:
    """Which of these are the hashes of a token, session or enrolment code that was ever given out."""
    asked = [
        select(Credential.secret_hash).where(Credential.secret_hash.in_(hashes)),
        select(EnrolmentCode.code_hash).where(EnrolmentCode.code_hash.in_(hashes)),
    ]
    return set(await connection.scalars(union(*asked)))


async def add_mac_key(connection: AsyncConnection, secret: bytes, at: datetime) -> None:
    """Adds a key (32 bytes)."""
    await connection.execute(insert(MacKey).values(secret=secret, created_at=at))
