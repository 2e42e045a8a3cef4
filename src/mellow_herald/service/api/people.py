"""Sessions and tokens."""

import secrets
from datetime import timedelta

from fastapi import APIRouter, Request, Response

from mellow_herald.service import people as service
from mellow_herald.service.api.parameters import Ctx, Id
from mellow_herald.service.people import COOKIE, Anyone, secret_hash
from mellow_herald.service.problems import ProblemError, problems
from mellow_herald.store import people as store
from mellow_herald.store.feed import JournalEntry, write_journal
from mellow_herald.wire.person import Me, SignIn, TokenIn, TokenOut

router = APIRouter(tags=["people"])
failures = service.FailureLimit()


@router.post("/session", responses=problems(429))
async def sign_in(body: SignIn, request: Request, response: Response, context: Ctx) -> Me:
    """Signs in with name and password; sets the session cookie."""
    address = request.client.host if request.client else "unknown"
    failures.check(address)
    found = await service.sign_in(context, body.name, body.password)
    if found is None:
        failures.failed(address)
        raise ProblemError(401, "wrong-password", "Name or password is wrong.")
    me, secret = found
    hours = context.settings.session_hours
    secure = context.settings.secure_cookie
    response.set_cookie(COOKIE, secret, max_age=hours * 3600, httponly=True, samesite="strict", secure=secure)
    return me


@router.get("/session", responses=problems())
async def whoami(who: Anyone) -> Me:
    """Who is signed in."""
    return Me(name=who.name, role=who.role)


@router.delete("/session", status_code=204, responses=problems())
async def sign_out(who: Anyone, response: Response, context: Ctx) -> None:
    """Ends the session or token that this call was made with."""
    async with context.engine.begin() as connection:
        await store.close_credential(connection, who.credential_id, who.person_id, context.clock.real())
    response.delete_cookie(COOKIE, samesite="strict")


@router.post("/tokens", status_code=201, responses=problems())
async def make_token(asked: TokenIn, who: Anyone, context: Ctx) -> TokenOut:
    """Makes a token for API and command line; it is shown this once."""
    secret = "mht_" + secrets.token_urlsafe(32)
    now = context.clock.real()
    expires = now + timedelta(days=asked.days)
    async with context.engine.begin() as connection:
        token_id = await store.add_credential(
            connection, who.person_id, "token", asked.name, secret_hash(secret), now, expires
        )
        entry = JournalEntry(context.clock.now(), who.name, "token made", f"token {token_id}", f"for {asked.name}")
        await write_journal(connection, entry)
    return TokenOut(id=token_id, name=asked.name, created_at=now, expires_at=expires, token=secret)


@router.get("/tokens", responses=problems())
async def list_tokens(who: Anyone, context: Ctx) -> list[TokenOut]:
    """One's own tokens."""
    async with context.engine.connect() as connection:
        return [TokenOut.model_validate(dict(row)) for row in await store.list_tokens(connection, who.person_id)]


@router.delete("/tokens/{token_id}", status_code=204, responses=problems(404))
async def close_token(token_id: Id, who: Anyone, context: Ctx) -> None:
    """Closes one of one's own tokens."""
    async with context.engine.begin() as connection:
        if not await store.close_credential(connection, token_id, who.person_id, context.clock.real()):
            raise ProblemError(404, "not-found", f"You have no token {token_id}. See GET /api/v1/tokens.")
        entry = JournalEntry(context.clock.now(), who.name, "token closed", f"token {token_id}", "by its owner")
        await write_journal(connection, entry)
