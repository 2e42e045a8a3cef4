"""People who are narrowed to the devices that a selector picks: they see and steer those, and no others.

Whatever is not listed here is refused to them, so that a new operation is closed to them until somebody has thought
about it.
"""

from collections.abc import Sequence
from datetime import datetime

from fastapi import Request
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.selector import Node, parse_selector
from mellow_herald.service.context import Context, context_of
from mellow_herald.service.problems import ProblemError
from mellow_herald.store import narrowing

# Of no device: what there is to bring out, and what is one's own.
FREE = frozenset(
    {
        ("GET", "/boards"),
        ("GET", "/boards/{board}"),
        ("GET", "/baselines"),
        ("GET", "/baselines/{board}/{line}"),
        ("GET", "/releases"),
        ("GET", "/releases/{release_id}"),
        ("GET", "/releases/{release_id}/manifest"),
        ("GET", "/releases/{release_id}/envelope"),
        ("GET", "/key_lists/newest"),
        ("GET", "/selections"),
        ("GET", "/selections/{name}"),
        ("GET", "/facts"),
        ("GET", "/chart_pages"),
        ("POST", "/chart_pages"),
        ("GET", "/chart_pages/{number}"),
        ("PUT", "/chart_pages/{number}"),
        ("DELETE", "/chart_pages/{number}"),
        ("GET", "/series_styles"),
        ("PUT", "/series_styles"),
        ("POST", "/release_checks"),
        ("POST", "/release_checks/envelope"),
        ("POST", "/tokens"),
        ("GET", "/tokens"),
        ("DELETE", "/tokens/{token_id}"),
    }
)
# Their handlers keep to the devices themselves.
KEEPING = frozenset(
    {
        ("GET", "/devices"),
        ("GET", "/inventory"),
        ("GET", "/visits"),
        ("GET", "/visits.csv"),
        ("POST", "/admissions"),
        ("POST", "/pins"),
        ("POST", "/labels"),
        ("POST", "/previews"),
        ("POST", "/previews/devices"),
        ("POST", "/rollouts"),
        ("GET", "/rollouts"),
        ("GET", "/overview"),
        ("GET", "/events"),
        ("GET", "/events/latest"),
        ("GET", "/presence"),
        ("GET", "/signals"),
        ("POST", "/previews/listening"),
        ("GET", "/listenings"),
        ("POST", "/listenings"),
        ("GET", "/listenings/{number}"),
        ("POST", "/listenings/{number}/end"),
        ("GET", "/readings"),
        ("GET", "/readings/latest"),
        ("GET", "/recordings"),
        ("GET", "/recordings/{number}"),
        ("GET", "/recordings/{number}/file"),
        ("POST", "/recordings/{number}/cancel"),
        ("POST", "/evidence"),
    }
)


async def keep_within(request: Request, name: str, only: str) -> None:
    """Lets a narrowed person's call pass, if it is about their devices; a problem otherwise: what is beyond is not
    found, and what is of the whole fleet is refused."""
    path = str(getattr(request.scope["route"], "path", ""))
    operation = ("GET" if request.method == "HEAD" else request.method, path)
    if operation in FREE | KEEPING:
        return
    noun, context = path.strip("/").partition("/")[0], context_of(request)
    params, now = request.path_params, context.clock.now()
    async with context.engine.connect() as connection:
        match noun:
            case "devices" if "serial" in params:
                await keep_named(connection, context, only, [str(params["serial"])])
            case "attempts" if str(params.get("attempt_id", "")).isdigit():
                found = await narrowing.attempt_within(connection, int(params["attempt_id"]), parse_selector(only), now)
                if not found:
                    raise _beyond(f"attempt {params['attempt_id']}", only)
            case "rollouts" if str(params.get("rollout_id", "")).isdigit():
                await keep_rollout(connection, context, only, int(params["rollout_id"]))
            case "devices" | "attempts" | "rollouts" if params:
                return  # no number at all: the operation itself says so
            case _:
                detail = f"{name} is narrowed to {only}; this is of the whole fleet. An admin can lift that."
                raise ProblemError(403, "narrowed", detail)


async def keep_named(connection: AsyncConnection, context: Context, only: str | None, serials: Sequence[str]) -> None:
    """A problem, if one of these devices is none of theirs."""
    if only is None or not serials:
        return
    node = parse_selector(only)
    beyond = await narrowing.first_beyond(connection, serials, node, context.clock.now())
    if beyond is not None:
        raise _beyond(f"device {beyond!r}", only)


async def keep_rollout(connection: AsyncConnection, context: Context, only: str | None, rollout_id: int) -> None:
    """A problem, if a rollout is, or may come to be, of other devices, too."""
    if only is None:
        return
    node = parse_selector(only)
    if rollout_id not in await narrowing.rollouts_within(connection, node, context.clock.now(), [rollout_id]):
        raise _beyond(f"rollout {rollout_id}", only)


async def within(connection: AsyncConnection, only: str | None, now: datetime, ids: Sequence[int]) -> set[int]:
    """Those of these rollouts that are theirs; all, for who is not narrowed."""
    if only is None:
        return set(ids)
    return await narrowing.rollouts_within(connection, parse_selector(only), now, ids)


def together(only: str | None, where: str | None) -> str | None:
    """A selector of theirs, within what they are narrowed to. Theirs is read by itself first: a parenthesis too
    many in it could else end what is put around it."""
    if where:
        parse_selector(where)
    if only is None or not where:
        return only or where
    return f"({where}) and ({only})"


def node_of(only: str | None, where: str | None) -> Node | None:
    """The same, read; None for everything."""
    text = together(only, where)
    return parse_selector(text) if text else None


def _beyond(what: str, only: str) -> ProblemError:
    return ProblemError(404, "not-found", f"There is no {what} among the devices that you are narrowed to ({only}).")
