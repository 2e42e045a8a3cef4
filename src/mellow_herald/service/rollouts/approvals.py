"""A second person's yes before a ring opens: who may give it, and what they are shown."""

from collections.abc import Sequence

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.plan import Plan
from mellow_herald.core.rollout import RingState, RolloutState
from mellow_herald.core.say import Asks
from mellow_herald.service.context import Context
from mellow_herald.service.people.callers import Caller
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.rehearsals import asking
from mellow_herald.service.rollouts import brakes, comparing, evidence
from mellow_herald.service.rollouts.budget import stands
from mellow_herald.service.rollouts.opening import open_at_once
from mellow_herald.service.rollouts.people_say import barred, load_say, roles_of
from mellow_herald.service.rollouts.planning import plan_of
from mellow_herald.service.rollouts.record import record_decision, stored_rollout
from mellow_herald.store import rollouts, say, tallies
from mellow_herald.store.gate import Lock, take
from mellow_herald.store.hurt import count_hurt
from mellow_herald.store.rollouts import RolloutOfRelease
from mellow_herald.store.rows import StoredRing
from mellow_herald.wire.say import ApprovalOut, ApproveIn, ToApprove


async def approve(context: Context, rollout_id: int, asked: ApproveIn, who: Caller) -> None:
    """Says yes to the ring that asks for it; what there was to see is kept with it."""
    now = context.clock.now()
    seen = await look(context, rollout_id, who)
    async with context.engine.begin() as connection:
        await take(connection, Lock.CONDUCTOR, rollout_id)
        row = await stored_rollout(connection, rollout_id)
        plan, rings = plan_of(row), (await rollouts.list_rings(connection, [rollout_id]))[rollout_id]
        ring = await _asking(connection, row, plan, rings)
        if ring is None or asked.ring not in (None, ring["position"]):
            asks = "none does" if ring is None else f"ring {ring['position'] + 1} does"
            raise ProblemError(
                409, "nothing-to-approve", f"That ring of rollout {rollout_id} does not ask for an approval; {asks}."
            )
        why_not = await _why_not(connection, row, plan, who)
        if why_not is not None:
            raise ProblemError(403, "may-not-approve", why_not)
        shown = seen.model_dump(mode="json", exclude={"approvals", "may", "why_not"})
        await say.add_approval(
            connection,
            {
                "rollout_id": rollout_id,
                "position": ring["position"],
                "round": row["round"],
                "at": now,
                "by": who.name,
                "reason": asked.reason,
                "shown": shown,
            },
        )
        what = f"ring {ring['position'] + 1} approved"
        await record_decision(connection, rollout_id, what, who.name, asked.reason, now, {"shown": shown})
    await open_at_once(context, rollout_id)


async def look(context: Context, rollout_id: int, who: Caller) -> ToApprove:
    """What there is to see before somebody approves, on one page."""
    now = context.clock.now()
    shown = await brakes.show(context, rollout_id)
    async with context.engine.connect() as connection:
        row = await stored_rollout(connection, rollout_id)
        plan, rings = plan_of(row), (await rollouts.list_rings(connection, [rollout_id]))[rollout_id]
        ring = await _asking(connection, row, plan, rings)
        counts = await tallies.count_attempts(connection, [rollout_id])
        budget = await stands(connection, row, await rollouts.count_at_risk(connection, rollout_id), now)
        why_not = await _why_not(connection, row, plan, who)
        if ring is None:
            why_not = "No ring asks for an approval now."
        return ToApprove(
            ring=None if ring is None else ring["position"],
            name=None if ring is None else ring["name"],
            devices=0 if ring is None else ring["planned"],
            asks=None if ring is None else ring["asks"],
            asks_why=None if ring is None else ring["asks_why"],
            hurt=await count_hurt(connection, rollout_id),
            exposed=sum(one["exposed"] for one in counts),
            brakes=[one.words for one in shown.brakes],
            control=None if shown.control is None else shown.control.words,
            budget=None if budget is None else budget.words,
            compared=await comparing.in_words(connection, row, plan, now),
            rehearsed=[asking.brief(one) for one in await asking.of_rollout(connection, rollout_id)],
            evidence=await evidence.show(connection, rollout_id),
            approvals=await list_given(connection, rollout_id),
            may=why_not is None,
            why_not=why_not,
        )


async def list_given(connection: AsyncConnection, rollout_id: int) -> list[ApprovalOut]:
    """The approvals of a rollout so far, those that count no more among them."""
    rows = await say.list_approvals(connection, rollout_id)
    return [ApprovalOut.model_validate({**row, "ring": row["position"]}) for row in rows]


async def _asking(
    connection: AsyncConnection, row: RolloutOfRelease, plan: Plan, rings: Sequence[StoredRing]
) -> StoredRing | None:
    """The ring whose turn it is, if it asks for an approval that it does not have."""
    if plan.approval is None or row["state"] not in (RolloutState.RUNNING, RolloutState.HELD):
        return None
    said = await load_say(connection, row, plan, rings)
    turn = next((ring for ring in rings if ring["state"] != RingState.DONE), None)
    waits = turn is not None and turn["state"] == RingState.AWAITING_GO
    asks = turn is not None and said.still_asks(turn["position"], plan.approval)
    return turn if waits and asks and asks[0] is Asks.APPROVAL else None


async def _why_not(connection: AsyncConnection, row: RolloutOfRelease, plan: Plan, who: Caller) -> str | None:
    """Why somebody may not approve, in words; None if they may."""
    rule = plan.approval
    if rule is None:
        return "The plan asks for no approval."
    if not who.is_admin and not who.roles & set(roles_of(plan)):
        return f"An approval of this plan needs the role {rule.by}."
    if who.name in await barred(connection, row, plan):
        return (
            f"{who.name} started this rollout, wrote its plan or published its release: the plan wants another "
            "person's approval."
        )
    return None
