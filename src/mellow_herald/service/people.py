"""Who is calling: sign-in, sessions, tokens, roles."""

import asyncio
import hashlib
import secrets
import time
from collections import deque
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Annotated

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerifyMismatchError
from fastapi import Depends, Request
from fastapi.security import APIKeyCookie, HTTPBearer

from mellow_herald.service.context import Context, context_of
from mellow_herald.service.problems import ProblemError
from mellow_herald.store import people
from mellow_herald.store.feed import JournalEntry, write_journal
from mellow_herald.store.rows import StoredCredential
from mellow_herald.wire.person import Me, Role

COOKIE = "herald_session"
CONSOLE_HEADER = "herald-console"
SAFE_METHODS = frozenset({"GET", "HEAD", "OPTIONS"})
HASHER = PasswordHasher()
# Verified when the name is unknown, so that the time taken does not tell which names exist.
NOBODY = HASHER.hash(secrets.token_hex(16))
bearer = HTTPBearer(auto_error=False, description="A token made by `herald sign-in`.")
cookie = APIKeyCookie(name=COOKIE, auto_error=False, description="The console's session.")


@dataclass(frozen=True, slots=True)
class Caller:
    """A signed-in person and the credential used."""

    person_id: int
    name: str
    role: Role
    credential_id: int


class FailureLimit:
    """At most so many failures per address and minute; good calls are never counted."""

    def __init__(self, allowed: int = 20, seconds: float = 60.0) -> None:
        self._allowed, self._seconds = allowed, seconds
        self._failures: dict[str, deque[float]] = {}

    def check(self, address: str) -> None:
        """Raises a 429 problem if the address failed too often."""
        failures = self._recent(address)
        if len(failures) >= self._allowed:
            wait = int(self._seconds - (time.monotonic() - failures[0])) + 1
            raise ProblemError(
                429,
                "too-many-attempts",
                f"Too many failed attempts; try again in {wait} s.",
                {"Retry-After": str(wait)},
            )

    def failed(self, address: str) -> None:
        """Counts a failure."""
        self._recent(address).append(time.monotonic())

    def _recent(self, address: str) -> deque[float]:
        if len(self._failures) > 10_000:
            self._failures = {a: f for a, f in self._failures.items() if f and time.monotonic() - f[-1] < self._seconds}
        failures = self._failures.setdefault(address, deque(maxlen=self._allowed))
        while failures and time.monotonic() - failures[0] > self._seconds:
            failures.popleft()
        return failures


def secret_hash(secret: str) -> str:
    """How session and token secrets are stored; they have 256 bits of their own, so a plain hash is enough."""
    return hashlib.sha256(secret.encode()).hexdigest()


async def bootstrap(context: Context) -> str | None:
    """Makes the first admin; returns the password if one was made, to be printed once."""
    async with context.engine.begin() as connection:
        if await people.count_people(connection):
            return None
        password = context.settings.admin_password or secrets.token_urlsafe(12)
        hashed = await asyncio.to_thread(HASHER.hash, password)
        if not await people.add_person(connection, "admin", Role.ADMIN, hashed, context.clock.real()):
            return None
        entry = JournalEntry(context.clock.now(), "service", "user added", "admin", "first start: no user existed")
        await write_journal(connection, entry)
        return password


async def sign_in(context: Context, name: str, password: str) -> tuple[Me, str] | None:
    """Checks name and password; returns who it is and the secret of a new session, or None."""
    async with context.engine.begin() as connection:
        person = await people.find_person(connection, name)
        hashed = person["password_hash"] if person else NOBODY
        try:
            await asyncio.to_thread(HASHER.verify, hashed, password)
        except (VerifyMismatchError, InvalidHashError):
            return None
        if person is None:
            return None
        secret = secrets.token_urlsafe(32)
        now = context.clock.real()
        expires = now + timedelta(hours=context.settings.session_hours)
        await people.add_credential(connection, person["id"], "session", "console", secret_hash(secret), now, expires)
        return Me(name=person["name"], role=Role(person["role"])), secret


async def caller(
    request: Request,
    by_token: Annotated[object, Depends(bearer)] = None,
    by_cookie: Annotated[str | None, Depends(cookie)] = None,
) -> Caller:
    """The person behind a request, by token or by the console's session."""
    context = context_of(request)
    secret = getattr(by_token, "credentials", None) or by_cookie
    if secret is None:
        raise ProblemError(401, "not-signed-in", "Sign in with `herald sign-in`, or at the console.")
    async with context.engine.connect() as connection:
        found = await people.find_credential(connection, secret_hash(secret), context.clock.real())
        if found is None:
            raise _not_good(await people.spent_credential(connection, secret_hash(secret)), context.clock.real())
    if by_token is None and request.method not in SAFE_METHODS and CONSOLE_HEADER not in request.headers:
        # Another site can make a browser send the cookie, but not this header.
        raise ProblemError(403, "not-from-console", "Calls with a session cookie must carry the Herald-Console header.")
    return Caller(found["person_id"], found["name"], Role(found["role"]), found["id"])


def _not_good(spent: StoredCredential | None, now: datetime) -> ProblemError:
    """Why a secret lets nobody in. Who has it may hear what became of it."""
    if spent is None:
        detail = "The token is not one of this service's: it is mistyped, or of another service. Sign in again."
        return ProblemError(401, "not-signed-in", detail)
    what = f"The token {spent['name']!r}" if spent["kind"] == "token" else "The session"
    if spent["closed_at"] is not None:
        why = f"was closed at {spent['closed_at']:%Y-%m-%d %H:%M} UTC"
    elif spent["expires_at"] <= now:
        why = f"expired at {spent['expires_at']:%Y-%m-%d %H:%M} UTC"
    else:
        why = "belongs to a person who was closed"
    return ProblemError(401, "not-signed-in", f"{what} {why}: sign in again.")


def require(*roles: Role) -> Callable[..., Awaitable[Caller]]:
    """A dependency that lets only these roles (and admins) pass."""

    async def check(who: Annotated[Caller, Depends(caller)]) -> Caller:
        if who.role is not Role.ADMIN and who.role not in roles:
            needed = " or ".join(sorted(roles) or [Role.ADMIN])
            raise ProblemError(403, "role-too-low", f"{who.name} is {who.role}; this needs the role {needed}.")
        return who

    return check


Anyone = Annotated[Caller, Depends(caller)]
Publisher = Annotated[Caller, Depends(require(Role.PUBLISHER))]
Operator = Annotated[Caller, Depends(require(Role.OPERATOR))]
Admin = Annotated[Caller, Depends(require())]
