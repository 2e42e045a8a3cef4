"""What engineers do with rollouts, and how rollouts are shown."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import AT_RISK, BAD, Resume, State
from mellow_herald.core.plan import Plan
from mellow_herald.core.rollout import RingState, RolloutKind, RolloutState, choices, may_move
from mellow_herald.core.selector import parse_selector
from mellow_herald.service.brakes import foresee_watch
from mellow_herald.service.context import Context
from mellow_herald.service.ending import apply_to, finish
from mellow_herald.service.offering import check_offerable
from mellow_herald.service.planning import Drawn, draw, prepare
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.surroundings import DOWNLOADING
from mellow_herald.store import attempts, placing, releases, rollouts
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal
from mellow_herald.store.gate import Lock, close_gate, share
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.rollout import ResumeIn, RingOut, RolloutOut


@dataclass(frozen=True, slots=True)
class Agreed:
    """What whoever starts a rollout has seen and agrees to: the devices of each ring, and by what share (0–1) they may
    have changed since."""

    counts: Sequence[int]
    within: float = 0.05


async def start(
    context: Context,
    document: PlanDocument,
    by: str,
    request_key: str | None,
    *,
    agreed: Agreed | None = None,
    overtake: bool = False,
) -> tuple[int, bool]:
    """Starts a rollout, or schedules it; returns its id and whether it is new. The same ``request_key`` starts it only
    once."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        if (known := await rollouts.find_by_request(connection, request_key)) is not None:
            return known, False
        prepared = await prepare(connection, document, overtake=overtake)
        plan = prepared.plan
        drawn = await draw(connection, plan, prepared.target, now)
        if not any(drawn.counts):
            reasons = ", ".join(f"{n} {reason}" for reason, n in drawn.passed_over.items())
            raise ProblemError(
                422, "nobody-to-serve",
                f"No device would get {plan.release}: {reasons or 'the target matches no device'}. "
                "Check the plan's target and rings.",
            )  # fmt: skip
        if agreed is not None:
            _check_agreed(plan, agreed, drawn)
        later = plan.calendar.start is not None and plan.calendar.start > now
        rollout_id = await rollouts.add_rollout(
            connection,
            {
                "name": plan.name,
                "release_id": prepared.release["id"],
                "plan": document.model_dump(mode="json"),
                "target": prepared.target_text,
                "revision": 1,
                "overtakes": overtake,
                "state": (RolloutState.SCHEDULED if later else RolloutState.RUNNING).value,
                "created_by": by,
                "created_at": now,
                "started_at": None if later else now,
                "round_at": None if later else now,
                "round": 1,
                "watch": (await foresee_watch(connection, plan, prepared.target, now)).as_dict(),
                "kind": RolloutKind.FORWARD.value,
                "scope": {},
                "targeted": drawn.targeted,
                "request_key": request_key,
            },
            [ring.name for ring in plan.rings],
        )
        await placing.keep_drawn(connection, rollout_id, plan.rings, drawn.placed)
        seen = {"targeted": drawn.targeted, "rings": drawn.counts, "passed_over": drawn.passed_over}
        await say(connection, rollout_id, "scheduled" if later else "started", by, f"plan {plan.name!r}", now, seen)
    context.signals.conductor.set()
    return rollout_id, True


def _check_agreed(plan: Plan, agreed: Agreed, drawn: Drawn) -> None:
    if len(agreed.counts) != len(drawn.counts):
        raise ProblemError(
            422,
            "bad-counts",
            f"The plan has {len(drawn.counts)} rings, but {len(agreed.counts)} counts were agreed to.",
        )
    moved = [
        f"{ring.name}: {then} then, {now} now"
        for ring, then, now in zip(plan.rings, agreed.counts, drawn.counts, strict=True)
        if abs(now - then) > agreed.within * max(then, 1)
    ]
    if moved:
        raise ProblemError(
            409, "numbers-changed",
            f"The fleet has changed since the preview by more than {agreed.within:.0%} ({'; '.join(moved)}). "
            "Look at the preview again and start with its numbers.",
        )  # fmt: skip


async def hold(context: Context, rollout_id: int, by: str, why: str) -> None:
    """No further offers or clearances; attempts stay live."""
    await _act(context, rollout_id, RolloutState.HELD, by, why)


async def halt(context: Context, rollout_id: int, by: str, why: str) -> None:
    """Stops a rollout: committed first, with a number drawn under its gate; the conductor calls off in slices."""
    await _act(context, rollout_id, RolloutState.HALTED, by, why)
    context.signals.conductor.set()


async def resume(context: Context, rollout_id: int, by: str, said: ResumeIn) -> None:
    """Goes on with a held or halted rollout; what a halt called off is queued again, but for the devices that are left
    out from now on. After a halt a new round begins."""
    await _act(context, rollout_id, RolloutState.RUNNING, by, said.reason, leave_out=said.leave_out)
    context.signals.conductor.set()


async def cancel(context: Context, rollout_id: int, by: str, why: str) -> None:
    """Ends a rollout for good; refused while devices are at risk."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        row = await row_of(connection, rollout_id)
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
        await say(connection, rollout_id, "cancelled", by, why, now)


async def halt_within(connection: AsyncConnection, context: Context, rollout_id: int, by: str, why: str) -> bool:
    """Halts a rollout in the caller's transaction, if it can be halted; tells whether it was."""
    number = await close_gate(connection, rollout_id)
    row = await row_of(connection, rollout_id)
    if not may_move(RolloutState(row["state"]), RolloutState.HALTED):
        return False
    await _move(connection, row, RolloutState.HALTED, by, why, number, context.clock.now())
    return True


async def _act(
    context: Context, rollout_id: int, to: RolloutState, by: str, why: str, *, leave_out: str | None = None
) -> None:
    async with context.engine.begin() as connection:
        if to is RolloutState.RUNNING:
            await share(connection, Lock.KEYS)
        number = await close_gate(connection, rollout_id)
        row = await row_of(connection, rollout_id)
        _check_move(row, to)
        if to is RolloutState.RUNNING and row["kind"] == RolloutKind.FORWARD:
            release = await releases.find_release(connection, row["board"], row["line"], row["version"])
            assert release is not None
            await check_offerable(connection, release)
        if leave_out is not None:
            row = await _leave_out(connection, row, leave_out)
        await _move(connection, row, to, by, why, number, context.clock.now(), leave_out=leave_out)
    context.memory.epoch += 1  # this process at once, the others by the feed


async def _leave_out(connection: AsyncConnection, row: Any, selector: str) -> Any:
    """Adds to what the plan leaves out: rings that open later heed it."""
    before = PlanDocument.model_validate(row["plan"])
    joined = selector if before.leave_out is None else f"({before.leave_out}) or ({selector})"
    after = PlanDocument.model_validate({**before.model_dump(), "leave_out": joined})
    after.to_plan()
    stored = {"plan": after.model_dump(mode="json"), "revision": row["revision"] + 1}
    await rollouts.change_rollout(connection, row["id"], **stored)
    return {**row, **stored}


async def _move(
    connection: AsyncConnection, row: Any, to: RolloutState, by: str, why: str, number: int, now: datetime, *,
    leave_out: str | None = None,
) -> None:  # fmt: skip
    values: dict[str, Any] = {"reason": None if to is RolloutState.RUNNING else why}
    if to is RolloutState.RUNNING and row["state"] == RolloutState.HALTED:
        values |= {"round_at": now, "round": row["round"] + 1}
    if to is RolloutState.HALTED:
        values["halt_number"] = number
    await rollouts.move_rollout(connection, row["id"], to, **values)
    if to is RolloutState.RUNNING and row["state"] == RolloutState.HALTED:
        await _requeue(connection, row["id"], now, leave_out)
    word = {RolloutState.RUNNING: "resumed", RolloutState.HELD: "held", RolloutState.HALTED: "halted"}[to]
    data: dict[str, Any] = {"number": number}
    if "round" in values:
        data |= {"round": values["round"], "counts": "devices first exposed from now on"}
    if leave_out is not None:
        data["leave_out"] = leave_out
    await say(connection, row["id"], word, by, why, now, data)


async def _requeue(connection: AsyncConnection, rollout_id: int, now: datetime, leave_out: str | None) -> None:
    rows = await attempts.lock_slice(connection, rollout_id, [State.CALLED_OFF], 1_000_000)
    devices = [row["device_id"] for row in rows]
    not_now = await attempts.live_elsewhere(connection, devices)
    if leave_out is not None:
        not_now |= await attempts.picked(connection, rollout_id, parse_selector(leave_out), now)
    again = [row for row in rows if row["device_id"] not in not_now]
    await apply_to(connection, again, Resume(), now, "the rollout was resumed")


async def row_of(connection: AsyncConnection, rollout_id: int) -> Any:
    """A stored rollout; a problem if there is none."""
    rows = await rollouts.list_rollouts(connection, rollout_id=rollout_id)
    if not rows:
        raise ProblemError(404, "not-found", f"There is no rollout {rollout_id}. See `herald rollout list`.")
    return rows[0]


def _check_move(row: Any, to: RolloutState) -> None:
    if not may_move(RolloutState(row["state"]), to):
        raise ProblemError(
            409, "wrong-state", f"Rollout {row['id']} is {row['state']}; it cannot become {to.value} from there."
        )


async def say(
    connection: AsyncConnection,
    rollout_id: int,
    what: str,
    by: str,
    why: str,
    now: datetime,
    data: dict[str, Any] | None = None,
) -> None:
    """Writes a decision to the journal and the feed."""
    entry = JournalEntry(now, by, f"rollout {what}", f"rollout {rollout_id}", why, data or {})
    await write_journal(connection, entry)
    said = {"what": what, "why": why, "by": by}
    # "orders" makes every worker forget who had nothing to do.
    await publish(connection, [FeedEvent(now, kind, rollout_id, data=said) for kind in ("rollout", "orders")])


async def show(context: Context, rollout_id: int) -> RolloutOut:
    """One rollout as it stands."""
    async with context.engine.connect() as connection:
        return (await assemble(connection, [await row_of(connection, rollout_id)]))[0]


async def assemble(connection: AsyncConnection, rows: Sequence[Any]) -> list[RolloutOut]:
    """Rollout rows with their rings and counts."""
    ids = [row["id"] for row in rows]
    rings = await rollouts.list_rings(connection, ids)
    counts = await rollouts.count_attempts(connection, ids)
    passed = await rollouts.count_passed_over(connection, ids)
    backs, harm = await rollouts.rollbacks_of(connection, ids), await rollouts.count_harm(connection, ids)
    return [
        _assembled(
            {**row, "rolled_back_by": backs.get(row["id"], []), "harm": harm.get(row["id"], {})},
            rings[row["id"]],
            [count for count in counts if count["rollout_id"] == row["id"]],
            {p["reason"]: p["devices"] for p in passed if p["rollout_id"] == row["id"]},
        )
        for row in rows
    ]


def _assembled(row: Any, rings: Sequence[Any], counts: Sequence[Any], passed: dict[str, int]) -> RolloutOut:
    document = PlanDocument.model_validate(row["plan"])
    plan = document.to_plan()
    ring_views = []
    for ring, planned in zip(rings, plan.rings, strict=True):
        states = _sum((c["state"], c["attempts"]) for c in counts if c["ring"] == ring["position"])
        more = {
            "soak": document.rings[ring["position"]].soak, "targeted": sum(states.values()), "states": states,
            "opens": planned.opens, "not_before": planned.not_before,
            "ever_bad": sum(c["ever_bad"] for c in counts if c["ring"] == ring["position"]),
        }  # fmt: skip
        ring_views.append(RingOut.model_validate({**ring, **more}))
    states = _sum((c["state"], c["attempts"]) for c in counts)
    # Who goes back switches to what stands by, mostly: those bytes are not counted.
    size = size_of(row["images"]) if row["kind"] == RolloutKind.FORWARD else 0
    given = sum(states.values())
    percents = sum(c["percents"] for c in counts)
    at_risk = sum(n for state, n in states.items() if state in AT_RISK)
    return RolloutOut.model_validate(
        {
            **row,
            "release": f"{row['board']}/{row['line']}/{row['version']}",
            "passed_over": passed,
            # A ring that opens has given attempts before all its slices are in: those are not missing.
            "never_given": max(0, row["targeted"] - given - sum(passed.values())),
            "states": states,
            "waiting": _sum((c["waiting_for"], c["attempts"]) for c in counts if c["live"] and c["waiting_for"]),
            "reasons": _sum((c["reason"] or c["state"], c["attempts"]) for c in counts if c["state"] in BAD),
            "harm": row["harm"],
            "exposed": sum(c["exposed"] for c in counts),
            "at_risk": at_risk,
            "choices": choices(
                RolloutState(row["state"]),
                RolloutKind(row["kind"]),
                row["id"],
                at_risk,
                asking=next((r["name"] for r in rings if r["state"] == RingState.AWAITING_GO), None),
            ),
            "downloading": sum(n for state, n in states.items() if state in DOWNLOADING),
            "live": sum(c["live"] for c in counts),
            "moved_bytes": size * percents // 100,
            "all_bytes": size * given,
            "rings": ring_views,
            "plan": document,
        }
    )


def size_of(images: Sequence[Any]) -> int:
    """What one device has to fetch, in bytes: an image of each component; where slots differ, the largest."""
    largest: dict[str, int] = {}
    for image in images:
        largest[image["name"]] = max(largest.get(image["name"], 0), image["size"])
    return sum(largest.values())


def _sum(pairs: Any) -> dict[str, int]:
    total: dict[str, int] = {}
    for name, count in pairs:
        total[name] = total.get(name, 0) + count
    return total
