"""People, their sessions and tokens, and the keys device tokens are made with."""

from collections.abc import Sequence
from datetime import datetime
from typing import TypedDict

from sqlalchemy import func, select, union, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.store.database import fetch_all, fetch_one
from mellow_herald.store.rows import StoredCredential, StoredPerson
from mellow_herald.store.tables import Credential, EnrolmentCode, KnownAddress, MacKey, Person


class SignedIn(TypedDict):
    """A credential that is good, with its person's ``name`` and ``roles``; ``token`` is its own name, ``only_for`` what
    it may be used for alone."""

    id: int
    kind: str
    person_id: int
    name: str
    roles: list[str]
    must_change: bool
    only: str | None
    token: str
    only_for: str | None


class TeamMember(TypedDict):
    """A person as the team is listed: with how many open ``tokens``, and when they ``signed_in_at`` last."""

    name: str
    roles: list[str]
    must_change: bool
    only: str | None
    created_at: datetime
    closed_at: datetime | None
    tokens: int
    signed_in_at: datetime | None


class OpenToken(TypedDict):
    """A token that is not closed, and whose it is."""

    id: int
    name: str
    person: str
    created_at: datetime
    expires_at: datetime
    only_for: str | None


class Rights(TypedDict):
    """What a credential ``id`` that is good allows."""

    id: int
    roles: list[str]
    only: str | None


async def count_people(connection: AsyncConnection, role: str | None = None) -> int:
    """How many people there ever were, or how many have a role and are not closed."""
    statement = select(func.count()).select_from(Person)
    if role is not None:
        statement = statement.where(Person.closed_at.is_(None), Person.roles.any_() == role)
    return int(await connection.scalar(statement) or 0)


async def add_person(
    connection: AsyncConnection,
    name: str,
    roles: Sequence[str],
    password_hash: str,
    at: datetime,
    *,
    must_change: bool = False,
    only: str | None = None,
) -> bool:
    """Adds a person; False if the name is taken."""
    values = {"name": name, "roles": list(roles), "password_hash": password_hash, "must_change": must_change}
    statement = insert(Person).values(**values, only=only, created_at=at)
    done = await connection.execute(statement.on_conflict_do_nothing().returning(Person.id))
    return done.scalar() is not None


async def find_person(connection: AsyncConnection, name: str, *, closed: bool = False) -> StoredPerson | None:
    """A person who may sign in, or one who was closed, by name."""
    state = Person.closed_at.is_not(None) if closed else Person.closed_at.is_(None)
    return await fetch_one(connection, select(Person.__table__).where(Person.name == name, state), StoredPerson)


async def list_people(connection: AsyncConnection, name: str | None = None) -> list[TeamMember]:
    """Everybody, or the one of this name; who is closed comes last."""
    tokens = select(func.count()).where(
        Credential.person_id == Person.id, Credential.kind == "token", Credential.closed_at.is_(None)
    )
    signed_in = select(func.max(KnownAddress.at)).where(KnownAddress.person_id == Person.id)
    statement = select(
        Person.name,
        Person.roles,
        Person.must_change,
        Person.only,
        Person.created_at,
        Person.closed_at,
        tokens.scalar_subquery().label("tokens"),
        signed_in.scalar_subquery().label("signed_in_at"),
    ).order_by(Person.closed_at.is_not(None), Person.name)
    return await fetch_all(connection, statement if name is None else statement.where(Person.name == name), TeamMember)


async def change_person(connection: AsyncConnection, person_id: int, **values: object) -> None:
    """Changes what is known of a person."""
    await connection.execute(update(Person).where(Person.id == person_id).values(**values))


async def note_address(connection: AsyncConnection, person_id: int, address: str, at: datetime) -> None:
    """Notes that a person signed in from an address."""
    statement = insert(KnownAddress).values(person_id=person_id, address=address, at=at)
    latest = {"at": statement.excluded.at}
    await connection.execute(statement.on_conflict_do_update(index_elements=["person_id", "address"], set_=latest))


async def known_addresses(connection: AsyncConnection, since: datetime) -> set[tuple[str, str]]:
    """People's names, each with an address that they signed in from since then."""
    statement = select(Person.name, KnownAddress.address).join(Person, Person.id == KnownAddress.person_id)
    found = await connection.execute(statement.where(KnownAddress.at >= since, Person.closed_at.is_(None)))
    return {(name, address) for name, address in found}


async def add_credential(
    connection: AsyncConnection,
    person_id: int,
    kind: str,
    name: str,
    secret_hash: str,
    at: datetime,
    expires_at: datetime,
    only_for: str | None = None,
) -> int:
    """Adds a session or token; returns its id. Times are real time."""
    values = {"person_id": person_id, "kind": kind, "name": name, "secret_hash": secret_hash}
    values["only_for"] = only_for
    statement = insert(Credential).values(**values, created_at=at, expires_at=expires_at).returning(Credential.id)
    return int((await connection.execute(statement)).scalar_one())


async def find_credential(connection: AsyncConnection, secret_hash: str, at: datetime) -> SignedIn | None:
    """Who holds this secret, if it is good at ``at``."""
    statement = (
        select(
            Credential.id,
            Credential.kind,
            Person.id.label("person_id"),
            Person.name,
            Person.roles,
            Person.must_change,
            Person.only,
            Credential.name.label("token"),
            Credential.only_for,
        )
        .join(Person, Person.id == Credential.person_id)
        .where(
            Credential.secret_hash == secret_hash,
            Credential.closed_at.is_(None),
            Credential.expires_at > at,
            Person.closed_at.is_(None),
        )
    )
    return await fetch_one(connection, statement, SignedIn)


async def rights_of(connection: AsyncConnection, ids: Sequence[int], at: datetime) -> dict[int, list[str]]:
    """The roles that these credentials stand for, by id, and what their people are narrowed to; those that are good no
    more are left out."""
    statement = (
        select(Credential.id, Person.roles, Person.only)
        .join(Person, Person.id == Credential.person_id)
        .where(
            Credential.id.in_(ids),
            Credential.closed_at.is_(None),
            Credential.expires_at > at,
            Person.closed_at.is_(None),
        )
    )
    found = await fetch_all(connection, statement, Rights)
    return {row["id"]: [*row["roles"], *filter(None, [row["only"]])] for row in found}


async def spent_credential(connection: AsyncConnection, secret_hash: str) -> StoredCredential | None:
    """The session or token with this secret, whether it is good still or not."""
    statement = select(Credential.__table__).where(Credential.secret_hash == secret_hash)
    return await fetch_one(connection, statement, StoredCredential)


async def list_tokens(connection: AsyncConnection, person_id: int | None) -> list[OpenToken]:
    """A person's tokens that are not closed, or everybody's."""
    statement = (
        select(
            Credential.id,
            Credential.name,
            Person.name.label("person"),
            Credential.created_at,
            Credential.expires_at,
            Credential.only_for,
        )
        .join(Person, Person.id == Credential.person_id)
        .where(Credential.kind == "token", Credential.closed_at.is_(None))
        .order_by(Person.name, Credential.id)
    )
    mine = statement if person_id is None else statement.where(Credential.person_id == person_id)
    return await fetch_all(connection, mine, OpenToken)


async def close_credential(
    connection: AsyncConnection, credential_id: int, person_id: int | None, at: datetime, *, kind: str | None = None
) -> str | None:
    """Closes a session or token of a person's, or of anybody's (None), of a kind, or of either; returns whose it was,
    None if there is no such one."""
    statement = update(Credential).where(
        Credential.id == credential_id, Credential.closed_at.is_(None), Person.id == Credential.person_id
    )
    if person_id is not None:
        statement = statement.where(Credential.person_id == person_id)
    if kind is not None:
        statement = statement.where(Credential.kind == kind)
    closed: str | None = (await connection.execute(statement.values(closed_at=at).returning(Person.name))).scalar()
    return closed


async def close_all(
    connection: AsyncConnection, person_id: int, at: datetime, *, kind: str | None = None, but: int | None = None
) -> int:
    """Closes a person's sessions and tokens, or those of one kind, ``but`` one; returns how many."""
    statement = update(Credential).where(
        Credential.person_id == person_id, Credential.closed_at.is_(None), Credential.expires_at > at
    )
    if kind is not None:
        statement = statement.where(Credential.kind == kind)
    if but is not None:
        statement = statement.where(Credential.id != but)
    return (await connection.execute(statement.values(closed_at=at))).rowcount


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
