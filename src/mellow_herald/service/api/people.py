"""Sign-in, people, tokens."""

from typing import Annotated

from fastapi import APIRouter, Query, Request, Response
from fastapi import Path as InPath

from mellow_herald.service.api.parameters import Ctx, Door, Id
from mellow_herald.service.people import team
from mellow_herald.service.people.callers import COOKIE, Admin, Anyone, SignedIn
from mellow_herald.service.problems import problems
from mellow_herald.store import people as store
from mellow_herald.wire.model import Name
from mellow_herald.wire.person import Me, PasswordChange, PersonIn, PersonOut, RolesIn, SignIn, TokenIn, TokenOut

router = APIRouter(tags=["people"])
PersonName = Annotated[Name, InPath(description="A person's name.")]


@router.post("/session", responses=problems(429))
async def sign_in(body: SignIn, request: Request, response: Response, context: Ctx, door: Door) -> Me:
    """Signs in with name and password; sets the session cookie. After five failures each is followed by a pause."""
    address = request.client.host if request.client else "unknown"
    me, secret = await door.sign_in(body.name, body.password, address)
    hours = context.settings.session_hours
    secure = context.settings.cookies_are_secure
    response.set_cookie(COOKIE, secret, max_age=hours * 3600, httponly=True, samesite="strict", secure=secure)
    return me


@router.get("/session", responses=problems())
async def whoami(who: SignedIn) -> Me:
    """Who is signed in."""
    return Me(name=who.name, roles=sorted(who.roles), only=who.only, must_change=who.must_change)


@router.delete("/session", status_code=204, responses=problems())
async def sign_out(who: SignedIn, response: Response, context: Ctx) -> None:
    """Ends the session or token that this call was made with."""
    async with context.engine.begin() as connection:
        await store.close_credential(connection, who.credential_id, who.person_id, context.clock.real())
    response.delete_cookie(COOKIE, samesite="strict")


@router.put("/session/password", status_code=204, responses=problems())
async def change_password(asked: PasswordChange, who: SignedIn, context: Ctx, door: Door) -> None:
    """Changes one's own password; other sessions of the same person end."""
    await team.change_password(context, door.passwords, who, asked.old, asked.new)


@router.get("/people", responses=problems())
async def list_people(who: Admin, context: Ctx) -> list[PersonOut]:
    """Everybody in the team, those who were closed too."""
    return await team.show_all(context)


@router.post("/people", status_code=201, responses=problems(409))
async def add_person(asked: PersonIn, who: Admin, context: Ctx, door: Door) -> PersonOut:
    """Adds somebody. The answer has the first password, this once; it is to be changed at the first sign-in."""
    return await team.add(context, door.passwords, asked, who.name)


@router.put("/people/{name}/roles", responses=problems(404, 409))
async def set_roles(name: PersonName, asked: RolesIn, who: Admin, context: Ctx) -> PersonOut:
    """Gives somebody these roles in place of those they have."""
    return await team.set_roles(context, name, asked, who.name)


@router.post("/people/{name}/password", responses=problems(404))
async def reset_password(name: PersonName, who: Admin, context: Ctx, door: Door) -> PersonOut:
    """Gives somebody a first password anew, told this once, and ends their sessions."""
    return await team.reset_password(context, door.passwords, name, who.name)


@router.delete("/people/{name}", status_code=204, responses=problems(404, 409))
async def close_person(name: PersonName, who: Admin, context: Ctx) -> None:
    """Lets somebody in no more. Their sessions, tokens and event streams end; what they did stays in the journal."""
    await team.close(context, name, who.name)


@router.post("/tokens", status_code=201, responses=problems())
async def make_token(asked: TokenIn, who: Anyone, context: Ctx) -> TokenOut:
    """Makes a token for API and command line; it is shown this once."""
    return await team.make_token(context, who, asked)


@router.get("/tokens", responses=problems())
async def list_tokens(
    who: Anyone,
    context: Ctx,
    everybody: Annotated[bool, Query(description="Everybody's; for admins.")] = False,
) -> list[TokenOut]:
    """One's own open tokens, or everybody's."""
    return await team.show_tokens(context, who, everybody)


@router.delete("/tokens/{token_id}", status_code=204, responses=problems(404))
async def close_token(token_id: Id, who: Anyone, context: Ctx) -> None:
    """Closes one of one's own tokens; an admin may close anybody's."""
    await team.close_token(context, who, token_id)
