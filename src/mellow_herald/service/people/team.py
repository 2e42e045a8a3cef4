"""Who is in the team: people, their roles, passwords and tokens. All of it is journalled."""

import secrets
from collections.abc import Sequence
from datetime import timedelta

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.service.context import Context
from mellow_herald.service.people.callers import Caller, secret_hash, told_roles
from mellow_herald.service.people.passwords import Passwords
from mellow_herald.service.problems import ProblemError
from mellow_herald.store import people
from mellow_herald.store.feed import JournalEntry, write_journal
from mellow_herald.store.gate import Lock, take
from mellow_herald.store.rows import StoredPerson
from mellow_herald.wire.person import PersonIn, PersonOut, Role, RolesIn, TokenIn, TokenOut, check_narrowing


async def bootstrap(context: Context, passwords: Passwords) -> str | None:
    """Makes the first admin; returns the password if one was made, to be printed once."""
    async with context.engine.connect() as connection:
        if await people.count_people(connection):
            return None
    given = context.settings.admin_password
    password = given or _first_password()
    hashed = await passwords.hash(password)
    async with context.engine.begin() as connection:
        now = context.clock.real()
        if not await people.add_person(connection, "admin", [Role.ADMIN], hashed, now, must_change=given is None):
            return None
        entry = JournalEntry(context.clock.now(), "service", "person added", "admin", "first start: nobody was there")
        await write_journal(connection, entry)
        return password


async def add(context: Context, passwords: Passwords, asked: PersonIn, by: str) -> PersonOut:
    """Adds somebody, with a first password that is told this once."""
    password = _first_password()
    hashed = await passwords.hash(password)
    async with context.engine.begin() as connection:
        roles = _sorted(asked.roles)
        if not await people.add_person(
            connection, asked.name, roles, hashed, context.clock.real(), must_change=True, only=asked.only
        ):
            former = await people.find_person(connection, asked.name, closed=True)
            state = "was closed; the journal's name is not given to another" if former else "is there already"
            raise ProblemError(409, "person-exists", f"{asked.name} {state}. Choose another name.")
        await _note(context, connection, by, "person added", asked.name, f"as {_told(asked.roles, asked.only)}")
        return await _shown(connection, asked.name, password)


async def show_all(context: Context) -> list[PersonOut]:
    """Everybody, those who were closed too."""
    async with context.engine.connect() as connection:
        return [PersonOut.model_validate(dict(row)) for row in await people.list_people(connection)]


def _told(roles: Sequence[Role], only: str | None) -> str:
    return told_roles(frozenset(roles)) + (f" of {only}" if only else "")


async def set_roles(context: Context, name: str, asked: RolesIn, by: str) -> PersonOut:
    """Gives somebody these roles in place of those they have, and narrows them, or no longer."""
    roles = asked.roles
    async with context.engine.begin() as connection:
        await take(connection, Lock.PEOPLE)
        person = await _present(connection, name)
        if Role.ADMIN not in roles:
            await _keep_an_admin(connection, person, "demoted")
        only = asked.only if "only" in asked.model_fields_set else person["only"]
        try:
            check_narrowing(roles, only)
        except ValueError as error:
            raise ProblemError(422, "bad-values", str(error)) from None
        await people.change_person(connection, person["id"], roles=_sorted(roles), only=only)
        before, after = _told([Role(one) for one in person["roles"]], person["only"]), _told(roles, only)
        numbers = {"before": sorted(person["roles"]), "after": _sorted(roles)}
        await _note(context, connection, by, "roles changed", name, f"{before}, now {after}", numbers)
        return await _shown(connection, name)


async def reset_password(context: Context, passwords: Passwords, name: str, by: str) -> PersonOut:
    """Gives somebody a first password anew, and ends their sessions; their tokens stay."""
    password = _first_password()
    hashed = await passwords.hash(password)
    async with context.engine.begin() as connection:
        person = await _present(connection, name)
        await people.change_person(connection, person["id"], password_hash=hashed, must_change=True)
        ended = await people.close_all(connection, person["id"], context.clock.real(), kind="session")
        await _note(context, connection, by, "password reset", name, f"{ended} sessions ended")
        return await _shown(connection, name, password)


async def change_password(context: Context, passwords: Passwords, who: Caller, old: str, new: str) -> None:
    """Changes one's own password, and ends one's other sessions."""
    async with context.engine.connect() as connection:
        person = await _present(connection, who.name)
    if not await passwords.check(old, person["password_hash"], patient=True):
        raise ProblemError(403, "wrong-password", "The old password is wrong. Nothing was changed.")
    if old == new:
        raise ProblemError(422, "bad-values", "new: the password is the old one. Choose another.")
    hashed = await passwords.hash(new)
    async with context.engine.begin() as connection:
        await people.change_person(connection, person["id"], password_hash=hashed, must_change=False)
        now = context.clock.real()
        ended = await people.close_all(connection, person["id"], now, kind="session", but=who.credential_id)
        await _note(context, connection, who.name, "password changed", who.name, f"{ended} other sessions ended")


async def close(context: Context, name: str, by: str) -> None:
    """Lets somebody in no more: their sessions and tokens end, and with them their event streams."""
    async with context.engine.begin() as connection:
        await take(connection, Lock.PEOPLE)
        person = await _present(connection, name)
        await _keep_an_admin(connection, person, "closed")
        now = context.clock.real()
        await people.change_person(connection, person["id"], closed_at=now)
        ended = await people.close_all(connection, person["id"], now)
        await _note(context, connection, by, "person closed", name, f"{ended} sessions and tokens ended")


async def make_token(context: Context, who: Caller, asked: TokenIn) -> TokenOut:
    """Makes a token; it is told this once."""
    alone = f", for {asked.only_for} alone" if asked.only_for else ""
    secret, now = "mht_" + secrets.token_urlsafe(32), context.clock.real()
    expires = now + timedelta(days=asked.days)
    async with context.engine.begin() as connection:
        hashed = secret_hash(secret)
        token_id = await people.add_credential(
            connection, who.person_id, "token", asked.name, hashed, now, expires, asked.only_for
        )
        await _note(context, connection, who.name, "token made", f"token {token_id}", f"for {asked.name}{alone}")
    made = {"id": token_id, "name": asked.name, "person": who.name, "created_at": now, "expires_at": expires}
    made["only_for"] = asked.only_for
    return TokenOut.model_validate({**made, "token": secret})


async def show_tokens(context: Context, who: Caller, everybody: bool) -> list[TokenOut]:
    """One's own tokens; an admin may see everybody's."""
    if everybody and not who.is_admin:
        raise ProblemError(403, "role-too-low", f"{who.name} is no admin: only one's own tokens can be listed.")
    async with context.engine.connect() as connection:
        rows = await people.list_tokens(connection, None if everybody else who.person_id)
    return [TokenOut.model_validate(dict(row)) for row in rows]


async def close_token(context: Context, who: Caller, token_id: int) -> None:
    """Closes one of one's own tokens; an admin may close anybody's."""
    async with context.engine.begin() as connection:
        of = None if who.is_admin else who.person_id
        owner = await people.close_credential(connection, token_id, of, context.clock.real(), kind="token")
        if owner is None:
            raise ProblemError(404, "not-found", f"You have no token {token_id}. See `herald token list`.")
        why = "by its owner" if owner == who.name else f"it was {owner}'s"
        await _note(context, connection, who.name, "token closed", f"token {token_id}", why)


async def _present(connection: AsyncConnection, name: str) -> StoredPerson:
    person = await people.find_person(connection, name)
    if person is None:
        raise ProblemError(404, "not-found", f"There is nobody {name!r} in the team. See `herald person list`.")
    return person


async def _keep_an_admin(connection: AsyncConnection, person: StoredPerson, what: str) -> None:
    """A problem if nobody else could give rights any more."""
    if Role.ADMIN in person["roles"] and await people.count_people(connection, Role.ADMIN) < 2:
        detail = f"{person['name']} is the last admin and cannot be {what}: make somebody else admin first."
        raise ProblemError(409, "last-admin", detail)


async def _shown(connection: AsyncConnection, name: str, password: str | None = None) -> PersonOut:
    (row,) = await people.list_people(connection, name)
    return PersonOut.model_validate({**row, "password": password})


async def _note(
    context: Context,
    connection: AsyncConnection,
    by: str,
    what: str,
    subject: str,
    why: str,
    numbers: dict[str, object] | None = None,
) -> None:
    await write_journal(connection, JournalEntry(context.clock.now(), by, what, subject, why, numbers or {}))


def _sorted(roles: Sequence[Role]) -> list[Role]:
    return sorted(set(roles))


def _first_password() -> str:
    return secrets.token_urlsafe(12)
