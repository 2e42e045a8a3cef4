"""Who is calling: sessions, tokens, roles."""

import hashlib
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from datetime import datetime
from typing import Annotated

from fastapi import Depends, Request
from fastapi.security import APIKeyCookie, HTTPBearer

from mellow_herald.service.context import context_of
from mellow_herald.service.people.narrowing import keep_within
from mellow_herald.service.problems import ProblemError
from mellow_herald.store import people
from mellow_herald.store.rows import StoredCredential
from mellow_herald.wire.person import Role, TokenFor

COOKIE = "herald_session"
CONSOLE_HEADER = "herald-console"
SAFE_METHODS = frozenset({"GET", "HEAD", "OPTIONS"})
# What tokens made for one thing alone are let in to.
PURPOSES = {TokenFor.EVIDENCE: frozenset({("POST", "/evidence"), ("GET", "/session"), ("DELETE", "/session")})}
bearer = HTTPBearer(auto_error=False, description="A token made by `herald sign-in`.")
cookie = APIKeyCookie(name=COOKIE, auto_error=False, description="The console's session.")


@dataclass(frozen=True, slots=True)
class Caller:
    """A signed-in person and the credential used. ``must_change``: the password is not of their own choice yet.
    ``only``: the selector of the devices that they are narrowed to; ``by_token`` is the name of the token, if it is
    one."""

    person_id: int
    name: str
    roles: frozenset[Role]
    credential_id: int
    must_change: bool
    only: str | None = None
    by_token: str | None = None

    @property
    def rights(self) -> frozenset[str]:
        """What they may, to be held against what they may later."""
        return self.roles | ({self.only} if self.only else set())

    @property
    def is_admin(self) -> bool:
        """Whether they may do everything."""
        return Role.ADMIN in self.roles


def secret_hash(secret: str) -> str:
    """How session and token secrets are stored; they have 256 bits of their own, so a plain hash is enough."""
    return hashlib.sha256(secret.encode()).hexdigest()


def told_roles(roles: frozenset[Role]) -> str:
    """Roles as they stand in a sentence."""
    return " and ".join(sorted(roles))


async def signed_in(
    request: Request,
    by_token: Annotated[object, Depends(bearer)] = None,
    by_cookie: Annotated[str | None, Depends(cookie)] = None,
) -> Caller:
    """The person behind a request, by token or by the console's session, even with a first password still."""
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
    if found["only_for"] is not None:
        _keep_to_its_purpose(request, found["token"], found["only_for"])
    roles = frozenset(Role(role) for role in found["roles"])
    token = found["token"] if found["kind"] == "token" else None
    return Caller(found["person_id"], found["name"], roles, found["id"], found["must_change"], found["only"], token)


def _keep_to_its_purpose(request: Request, name: str, purpose: str) -> None:
    """A token that was made for one thing alone does nothing else, whatever its person may."""
    path = str(getattr(request.scope["route"], "path", ""))
    if (request.method, path) not in PURPOSES[TokenFor(purpose)]:
        detail = f"The token {name!r} is for {purpose} alone. Use another for this."
        raise ProblemError(403, "token-too-narrow", detail)


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


async def caller(request: Request, who: Annotated[Caller, Depends(signed_in)]) -> Caller:
    """The person behind a request, who has a password of their own choice and keeps to their devices."""
    if who.must_change:
        detail = f"{who.name} signed in with a first password. `herald sign-in` asks for one of your own choice."
        raise ProblemError(403, "first-password", detail)
    if who.only is not None:
        await keep_within(request, who.name, who.only)
    return who


def require(*roles: Role) -> Callable[..., Awaitable[Caller]]:
    """A dependency that lets only these roles (and admins) pass."""

    async def check(who: Annotated[Caller, Depends(caller)]) -> Caller:
        if not who.is_admin and not who.roles & set(roles):
            needed = " or ".join(sorted(roles) or [Role.ADMIN])
            detail = f"{who.name} is {told_roles(who.roles)}; this needs the role {needed}."
            raise ProblemError(403, "role-too-low", detail)
        return who

    return check


SignedIn = Annotated[Caller, Depends(signed_in)]
Anyone = Annotated[Caller, Depends(caller)]
Publisher = Annotated[Caller, Depends(require(Role.PUBLISHER))]
Operator = Annotated[Caller, Depends(require(Role.OPERATOR))]
Admin = Annotated[Caller, Depends(require())]
