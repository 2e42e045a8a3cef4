"""The tree of gateways: who is behind whom, who is cut off because a gateway restarts, and when it is expected back."""

from datetime import datetime, timedelta
from statistics import median

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import BAD
from mellow_herald.core.parts import failed_parts
from mellow_herald.core.presence import presence
from mellow_herald.core.topology import Topology
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.rollouts.reach import load
from mellow_herald.store import alarms, topology
from mellow_herald.wire.topology import AlarmOut, CutOffOut, TopologyNode, TopologyOut


async def show(context: Context, behind: str | None, limit: int) -> TopologyOut:
    """The tree, or what of it is behind one device; gateways first, each followed by what is behind it. ``now`` says
    of when it is: in a large fleet that may be a few seconds ago."""
    return await context.counted(("topology", behind, limit), lambda: _show(context, behind, limit))


async def _show(context: Context, behind: str | None, limit: int) -> TopologyOut:
    now = context.clock.now()
    async with context.engine.connect() as connection:
        tree = await load(connection)
        circles = tree.circles()
        order = _in_order(tree, behind, circles)
        if behind is not None and not order[1:]:
            raise ProblemError(404, "not-found", f"Nothing is known to be behind {behind}.")
        rows = await topology.nodes(connection, order[:limit])
        away = await topology.restarting(connection)
        leading = [serial for serial in order[:limit] if tree.children(serial)]
        took = await alarms.restart_times(connection, sorted({*leading, *away}))
    nodes = []
    for serial in order[:limit]:
        row = rows.get(serial)
        node = TopologyNode(
            serial=serial,
            gateway=tree.gateways.get(serial),
            known=row is not None,
            behind=len(tree.behind(serial)),
            restart_s=median(took[serial]) if serial in took else None,
            cut_off=cut_off_by(tree.before(serial), away, took),
        )
        if row is not None:
            interval = timedelta(seconds=row["interval_s"] or 1)
            failed = failed_parts(row["parts"] or {})
            # What went well is no news once it is over.
            tells = row["live"] or row["state"] in BAD
            more = {
                "presence": presence(row["heard_at"], interval, now).value,
                "state": row["state"] if tells else None,
                "rollout_id": row["rollout_id"] if tells else None,
                "failed_part": failed[0] if failed else None,
                **{name: row[name] for name in ("board", "line", "version", "seen_at")},
            }
            node = TopologyNode.model_validate({**node.model_dump(), **more})
        nodes.append(node)
    return TopologyOut(now=now, nodes=nodes, total=len(order), circles=circles)


def cut_off_by(before: list[str], away: dict[str, datetime], took: dict[str, list[float]]) -> CutOffOut | None:
    """What cuts a device off that is behind these gateways: the one nearest to the network that restarts."""
    for gateway in reversed(before):
        if gateway in away:
            since = away[gateway]
            back = since + timedelta(seconds=median(took[gateway])) if took.get(gateway) else None
            return CutOffOut(by=gateway, since=since, expected_back=back)
    return None


async def cut_off(connection: AsyncConnection, gateway: str | None) -> CutOffOut | None:
    """What cuts a device off that is behind this gateway."""
    if gateway is None:
        return None
    away = await topology.restarting(connection)
    if not away:
        return None
    tree = await load(connection)
    before = [gateway, *tree.before(gateway)]
    return cut_off_by(before, away, await alarms.restart_times(connection, sorted(away)))


async def list_alarms(
    context: Context, *, serial: str | None, rollout_id: int | None, explained: bool | None, limit: int
) -> list[AlarmOut]:
    """Alarms, newest first."""
    async with context.engine.connect() as connection:
        rows = await alarms.list_alarms(
            connection, serial=serial, rollout_id=rollout_id, explained=explained, limit=limit
        )
    return [AlarmOut.model_validate(dict(row)) for row in rows]


def _in_order(tree: Topology, behind: str | None, circles: list[list[str]]) -> list[str]:
    """Serials, each after its gateway and before its next sibling; a circle begins with its first."""
    roots = [behind] if behind is not None else [*tree.roots(), *(circle[0] for circle in circles)]
    found: list[str] = []
    seen: set[str] = set()
    waiting = list(reversed(roots))
    while waiting:
        one = waiting.pop()
        if one not in seen:
            seen.add(one)
            found.append(one)
            waiting += reversed(tree.children(one))
    return found
