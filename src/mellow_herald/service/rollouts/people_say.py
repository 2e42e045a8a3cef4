"""What people have said about a rollout so far, and who may still say it."""

from collections.abc import Sequence

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.plan import Plan
from mellow_herald.core.say import Say
from mellow_herald.store import say
from mellow_herald.store.rollouts import RolloutOfRelease
from mellow_herald.store.rows import StoredRing
from mellow_herald.wire.person import Role


async def load_say(connection: AsyncConnection, row: RolloutOfRelease, plan: Plan, rings: Sequence[StoredRing]) -> Say:
    """What people have said about a rollout so far, as ``core.decide`` goes by it."""
    unseen = (await say.count_heard(connection, [row["id"]])).get(row["id"], say.NOTHING)["unseen"]
    rule = plan.approval
    choice = len(plan.rings) - 1 if plan.arms and row["chosen"] is None else None
    if rule is None:
        return Say(unseen=unseen, choice=choice)
    wanted = rule.wanted([ring.name for ring in plan.rings], [ring["planned"] for ring in rings])
    given = await say.approved(connection, row["id"], row["round"])
    able = await say.count_able(connection, roles_of(plan), await barred(connection, row, plan))
    return Say(wanted, given, able, unseen, choice)


def roles_of(plan: Plan) -> list[Role]:
    """The roles of which one is needed to approve."""
    return [Role(plan.approval.by), Role.ADMIN] if plan.approval is not None else []


async def barred(connection: AsyncConnection, row: RolloutOfRelease, plan: Plan) -> set[str]:
    """Who may not approve, as they would approve of their own work."""
    if plan.approval is None or not plan.approval.not_the_starter:
        return set()
    published = {row["published_by"]} if row["published_by"] else set()
    return {row["created_by"], *published, *await say.who_wrote(connection, row["id"])}
