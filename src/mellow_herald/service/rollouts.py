"""What engineers do with rollouts, and how rollouts are shown."""

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import AT_RISK, BAD, Refusal, Resume, State, advance
from mellow_herald.core.firmware import APP
from mellow_herald.core.rollout import RolloutState, may_move
from mellow_herald.core.selector import parse_selector
from mellow_herald.service.conductor import attempt_event, finish, rules_of, word_of_service
from mellow_herald.service.context import Context
from mellow_herald.service.offering import check_offerable
from mellow_herald.service.problems import ProblemError
from mellow_herald.store import attempts, releases, rollouts
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal
from mellow_herald.store.gate import Lock, close_gate, share
from mellow_herald.wire.rollout import PlanDocument, RingOut, RolloutOut


async def start(context: Context, document: PlanDocument, by: str, request_key: str | None) -> tuple[int, bool]:
    """Starts a rollout; returns its id and whether it is new. The same ``request_key`` starts it only once."""
    plan = document.to_plan()
    target = parse_selector(plan.target)
    now = context.clock.now()
    async with context.engine.begin() as connection:
        if request_key is not None:
            known = await rollouts.find_by_request(connection, request_key)
            if known is not None:
                return known, False
        name = plan.release
        # Both are held until the rollout is recorded: neither a withdrawal nor a revocation slips in between.
        await share(connection, Lock.KEYS)
        release = await releases.find_release(connection, name.board, name.line, name.version, share=True)
        if release is None:
            raise ProblemError(422, "unknown-release", f"There is no release {name}. See `herald release list`.")
        await check_offerable(connection, release)
        (full,) = await releases.list_releases(connection, release_id=release["id"])
        others = sorted({c["name"] for c in full["components"]} - {APP})
        if others:
            raise ProblemError(
                422, "components-not-served",
                f"{name} changes {', '.join(others)}; devices here update only {APP} so far. "
                f"Publish {APP} in a release of its own.",
            )  # fmt: skip
        digests = [c["digest"] for c in full["components"]]
        counts = await rollouts.count_target(connection, target, rules_of({**release, "digests": digests}, plan), now)
        targeted = sum(counts.values())
        if not counts.get(None):
            reasons = ", ".join(f"{n} {reason}" for reason, n in counts.items()) or "the target matches no device"
            raise ProblemError(
                422, "nobody-to-serve", f"No device would get {name}: {reasons}. Check the plan's target."
            )
        rollout_id = await rollouts.add_rollout(
            connection,
            {
                "name": plan.name,
                "release_id": release["id"],
                "plan": document.model_dump(mode="json"),
                "state": RolloutState.RUNNING.value,
                "created_by": by,
                "created_at": now,
                "started_at": now,
                "targeted": targeted,
                "request_key": request_key,
            },
            [ring.name for ring in plan.rings],
        )
        await _say(connection, rollout_id, "started", by, f"plan {plan.name!r}", now)
    return rollout_id, True


async def hold(context: Context, rollout_id: int, by: str, why: str) -> None:
    """No further offers or clearances; attempts stay live."""
    await _act(context, rollout_id, RolloutState.HELD, by, why)


async def halt(context: Context, rollout_id: int, by: str, why: str) -> None:
    """Stops a rollout: committed first, with a number drawn under its gate; the conductor calls off in slices."""
    await _act(context, rollout_id, RolloutState.HALTED, by, why)
    context.signals.conductor.set()


async def resume(context: Context, rollout_id: int, by: str, why: str) -> None:
    """Goes on with a held or halted rollout; what a halt called off is queued again."""
    await _act(context, rollout_id, RolloutState.RUNNING, by, why)
    context.signals.conductor.set()


async def cancel(context: Context, rollout_id: int, by: str, why: str) -> None:
    """Ends a rollout for good; refused while devices are at risk."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        row = await _row(connection, rollout_id)
        _check_move(row, RolloutState.CANCELLED)
        await close_gate(connection, rollout_id)
        at_risk = await rollouts.count_at_risk(connection, rollout_id)
        if at_risk:
            raise ProblemError(
                409, "devices-at-risk",
                f"{at_risk} devices have clearance and are not decided yet. Halt, wait until they are, then cancel.",
            )  # fmt: skip
        allowed = {state for state in RolloutState if may_move(state, RolloutState.CANCELLED)}
        if not await finish(connection, rollout_id, RolloutState.CANCELLED, now, allowed):
            raise ProblemError(409, "wrong-state", f"Rollout {rollout_id} has ended already.")
        await _say(connection, rollout_id, "cancelled", by, why, now)


async def halt_within(connection: AsyncConnection, context: Context, rollout_id: int, by: str, why: str) -> bool:
    """Halts a rollout in the caller's transaction, if it can be halted; tells whether it was."""
    number = await close_gate(connection, rollout_id)
    row = await _row(connection, rollout_id)
    if not may_move(RolloutState(row["state"]), RolloutState.HALTED):
        return False
    await _move(connection, row, RolloutState.HALTED, by, why, number, context.clock.now())
    return True


async def _act(context: Context, rollout_id: int, to: RolloutState, by: str, why: str) -> None:
    async with context.engine.begin() as connection:
        if to is RolloutState.RUNNING:
            await share(connection, Lock.KEYS)
        number = await close_gate(connection, rollout_id)
        row = await _row(connection, rollout_id)
        _check_move(row, to)
        if to is RolloutState.RUNNING:
            release = await releases.find_release(connection, row["board"], row["line"], row["version"])
            assert release is not None
            await check_offerable(connection, release)
        await _move(connection, row, to, by, why, number, context.clock.now())
    context.memory.epoch += 1  # this process at once, the others by the feed


async def _move(
    connection: AsyncConnection, row: Any, to: RolloutState, by: str, why: str, number: int, now: datetime
) -> None:
    values: dict[str, Any] = {"reason": None if to is RolloutState.RUNNING else why}
    if to is RolloutState.HALTED:
        values["halt_number"] = number
    await rollouts.move_rollout(connection, row["id"], to, **values)
    if to is RolloutState.RUNNING and row["state"] == RolloutState.HALTED:
        await _requeue(connection, row["id"], now)
    word = {RolloutState.RUNNING: "resumed", RolloutState.HELD: "held", RolloutState.HALTED: "halted"}[to]
    await _say(connection, row["id"], word, by, why, now, {"number": number})


async def _requeue(connection: AsyncConnection, rollout_id: int, now: datetime) -> None:
    rows = await attempts.lock_slice(connection, rollout_id, [State.CALLED_OFF], 1_000_000)
    elsewhere = await attempts.live_elsewhere(connection, [row["device_id"] for row in rows])
    changed, timeline, events = [], [], []
    for row in rows:
        if row["device_id"] in elsewhere:
            continue
        outcome = advance(attempts.to_attempt(row), Resume(), now)
        if not isinstance(outcome, Refusal):
            changed.append(attempts.from_attempt(row["id"], outcome.attempt, now))
            timeline.append(word_of_service(row["id"], outcome.attempt, now, "the rollout was resumed"))
            events.append(attempt_event(row, outcome.attempt, now))
    await attempts.save_attempts(connection, changed)
    await attempts.add_to_timeline(connection, timeline)
    await publish(connection, events)


async def _row(connection: AsyncConnection, rollout_id: int) -> Any:
    rows = await rollouts.list_rollouts(connection, rollout_id=rollout_id)
    if not rows:
        raise ProblemError(404, "not-found", f"There is no rollout {rollout_id}. See `herald rollout list`.")
    return rows[0]


def _check_move(row: Any, to: RolloutState) -> None:
    if not may_move(RolloutState(row["state"]), to):
        raise ProblemError(
            409, "wrong-state", f"Rollout {row['id']} is {row['state']}; it cannot become {to.value} from there."
        )


async def _say(
    connection: AsyncConnection,
    rollout_id: int,
    what: str,
    by: str,
    why: str,
    now: datetime,
    data: dict[str, Any] | None = None,
) -> None:
    entry = JournalEntry(now, by, f"rollout {what}", f"rollout {rollout_id}", why, data or {})
    await write_journal(connection, entry)
    said = {"what": what, "why": why, "by": by}
    # "orders" makes every worker forget who had nothing to do.
    await publish(connection, [FeedEvent(now, kind, rollout_id, data=said) for kind in ("rollout", "orders")])


async def show(context: Context, rollout_id: int) -> RolloutOut:
    """One rollout as it stands."""
    async with context.engine.connect() as connection:
        return (await assemble(connection, [await _row(connection, rollout_id)]))[0]


async def assemble(connection: AsyncConnection, rows: Sequence[Any]) -> list[RolloutOut]:
    """Rollout rows with their rings and counts."""
    ids = [row["id"] for row in rows]
    rings = await rollouts.list_rings(connection, ids)
    counts = await rollouts.count_attempts(connection, ids)
    passed = await rollouts.count_passed_over(connection, ids)
    shown = []
    for row in rows:
        document = PlanDocument.model_validate(row["plan"])
        own = [count for count in counts if count["rollout_id"] == row["id"]]
        ring_views = []
        for ring in rings[row["id"]]:
            states = _sum((c["state"], c["attempts"]) for c in own if c["ring"] == ring["position"])
            soak = document.rings[ring["position"]].soak
            ring_views.append(
                RingOut.model_validate({**ring, "soak": soak, "targeted": sum(states.values()), "states": states})
            )
        states = _sum((c["state"], c["attempts"]) for c in own)
        bad = _sum((c["reason"] or c["state"], c["attempts"]) for c in own if c["state"] in BAD)
        shown.append(
            RolloutOut.model_validate(
                {
                    **row,
                    "release": f"{row['board']}/{row['line']}/{row['version']}",
                    "passed_over": {p["reason"]: p["devices"] for p in passed if p["rollout_id"] == row["id"]},
                    "states": states,
                    "reasons": bad,
                    "exposed": sum(c["exposed"] for c in own),
                    "at_risk": sum(n for state, n in states.items() if state in AT_RISK),
                    "live": sum(c["live"] for c in own),
                    "rings": ring_views,
                    "plan": document,
                }
            )
        )
    return shown


def _sum(pairs: Any) -> dict[str, int]:
    total: dict[str, int] = {}
    for name, count in pairs:
        total[name] = total.get(name, 0) + count
    return total
