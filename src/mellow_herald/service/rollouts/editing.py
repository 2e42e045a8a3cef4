"""Changing the plan of a rollout that runs: foreseen, then done."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import AT_RISK, FETCHING, State, WaitingFor
from mellow_herald.core.calendar import Use, is_open, next_opening
from mellow_herald.core.decide import RingProgress, is_over, is_through, least_good, stands_still
from mellow_herald.core.plan import Plan
from mellow_herald.core.rollout import ENDED, RingState, RolloutKind, RolloutState
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.rollouts.planning import Drawn, draw, lots, target_of
from mellow_herald.service.rollouts.record import record_decision, renew_orders, stored_rollout
from mellow_herald.store import harm, progress, rollouts, say, tallies
from mellow_herald.store.gate import Lock, close_gate, take
from mellow_herald.store.rings import keep_drawn
from mellow_herald.store.rollouts import RolloutOfRelease
from mellow_herald.store.rows import StoredRing
from mellow_herald.store.tallies import AttemptCount
from mellow_herald.wire.plan import PlanDocument, PlanRing
from mellow_herald.wire.rollout import PlanChange, PlanEdit, PlanEditPreview

# What may be changed while a rollout runs.
PARTS = ("pace", "rings", "calendar", "numbers", "harm")


@dataclass(frozen=True, slots=True)
class _Edit:
    """A change that was found possible: the plan before and after, and the position of the first ring to come."""

    row: RolloutOfRelease
    rings: Sequence[StoredRing]
    first: int
    before: PlanDocument
    after: PlanDocument
    old: Plan
    new: Plan

    @property
    def redraws(self) -> bool:
        """Whether rings to come take other devices."""
        return self.after.rings[self.first :] != self.before.rings[self.first :]


async def preview(context: Context, rollout_id: int, asked: PlanEdit) -> PlanEditPreview:
    """What a change of the plan would do now; nothing is changed by asking."""
    now = context.clock.now()
    async with context.engine.connect() as connection:
        made = await _prepare(connection, rollout_id, asked, None)
        counts = await tallies.count_attempts(connection, [rollout_id])
        effects = [
            *await _effects_on_open_rings(connection, made, now),
            *await _effects_on_rings_to_come(connection, made, counts, now),
            *_effects_of_pace(made, counts),
            *await _effects_of_harm(connection, made, now),
            *_effects_of_calendar(made, counts, now),
        ]
    return PlanEditPreview(revision=made.row["revision"], changes=_changes(made), effects=effects)


async def edit(context: Context, rollout_id: int, asked: PlanEdit, revision: int | None, by: str) -> None:
    """Changes pace, calendar, ``wait_at_most``, the harm budget, ``enough`` of open rings and the rings that are not
    open yet; with ``revision`` only if nobody changed the plan since."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        # No ring may open while its successor's devices are drawn anew.
        await take(connection, Lock.CONDUCTOR, rollout_id)
        await close_gate(connection, rollout_id)
        made = await _prepare(connection, rollout_id, asked, revision)
        stored = {"plan": made.after.model_dump(mode="json"), "revision": made.row["revision"] + 1}
        await rollouts.change_rollout(connection, rollout_id, **stored)
        if made.redraws:
            counts = await tallies.count_attempts(connection, [rollout_id])
            names = [ring.name for ring in made.new.rings[made.first :]]
            await rollouts.add_rings(connection, rollout_id, names, made.first)
            drawn = await _draw_anew(connection, made, counts, now)
            await keep_drawn(
                connection, rollout_id, made.new.rings, drawn.placed, made.first, lots(made.new, drawn, made.first)
            )
            await say.void_approvals(connection, rollout_id, made.first, f"{by} changed the rings to come")
        data = {"before": _changed(made.before, made.after), "after": _changed(made.after, made.before)}
        await record_decision(connection, rollout_id, "plan changed", by, asked.reason, now, data)
        await renew_orders(connection, rollout_id, "plan changed", now)
    context.memory.epoch += 1
    context.signals.conductor.set()


async def _prepare(connection: AsyncConnection, rollout_id: int, asked: PlanEdit, revision: int | None) -> _Edit:
    row = await stored_rollout(connection, rollout_id)
    if row["state"] in ENDED:
        raise ProblemError(409, "wrong-state", f"Rollout {rollout_id} is {row['state']}; nothing is to come.")
    if revision is not None and revision != row["revision"]:
        raise ProblemError(
            412,
            "plan-changed",
            f"The plan has been changed meanwhile (revision {row['revision']}, not {revision}). Look at it again.",
        )
    before = PlanDocument.model_validate(row["plan"])
    rings = (await rollouts.list_rings(connection, [rollout_id]))[rollout_id]
    first = _first_to_come(rings)
    changes: dict[str, Any] = {}
    if asked.pace is not None:
        changes["pace"] = asked.pace
    if asked.wait_at_most is not None:
        changes["numbers"] = before.numbers.model_copy(update={"wait_at_most": asked.wait_at_most})
    if asked.harm_at_most is not None:
        if before.harm is None:
            raise ProblemError(409, "no-harm-budget", "Its plan has no harm budget. One must be there from the start.")
        changes["harm"] = before.harm.model_copy(update={"at_most": asked.harm_at_most})
    if asked.calendar is not None:
        if row["state"] != RolloutState.SCHEDULED and asked.calendar.start != before.calendar.start:
            raise ProblemError(409, "has-started", "The rollout has started: its start stays as it is.")
        changes["calendar"] = asked.calendar
    if asked.rings is not None:
        if row["kind"] != RolloutKind.FORWARD:
            raise ProblemError(409, "no-rings", f"A {row['kind']} has no rings to change; its pace may be.")
        if len(asked.rings) < first or not _alike(asked.rings[:first], before.rings[:first]):
            opened = ", ".join(repr(ring.name) for ring in before.rings[:first])
            raise ProblemError(
                409,
                "ring-opened",
                f"Rings that are open stay as they are, but for enough: {opened}. Send the rest unchanged.",
            )
        changes["rings"] = asked.rings
    after = PlanDocument.model_validate(before.model_copy(update=changes).model_dump())
    return _Edit(row, rings, first, before, after, before.to_plan(), after.to_plan())


async def _effects_on_open_rings(connection: AsyncConnection, made: _Edit, now: datetime) -> list[str]:
    """What becomes of rings that are open, by the counts of this moment."""
    row = made.row
    then, later = [
        await progress.ring_progress(connection, progress.Watching(row["id"], plan, row["round"], row["round_at"], now))
        for plan in (made.old, made.new)
    ]
    found: list[str] = []
    for position in range(made.first):
        if later[position].state in (RingState.OPEN, RingState.SOAKING):
            found += _of_open_ring(made, position, then[position], later[position])
    return found


def _of_open_ring(made: _Edit, position: int, then: RingProgress, later: RingProgress) -> Iterator[str]:
    ring = f"ring {made.new.rings[position].name}"
    if then.set_aside != later.set_aside:
        yield f"{ring}: {later.set_aside} devices are set aside, {then.set_aside} now"
    old, new = made.old.rings[position].enough, made.new.rings[position].enough
    least = least_good(made.new, position)
    still = stands_still(later, new, least)
    if is_through(later, new, least) and not is_through(then, old, least):
        yield f"{ring} is through with it: {later.good} of {later.asked} devices are good"
    elif still is not None and stands_still(then, old, least) != still:
        yield f"{ring} stands still: {still}"


async def _effects_on_rings_to_come(
    connection: AsyncConnection, made: _Edit, counts: Sequence[AttemptCount], now: datetime
) -> list[str]:
    if not made.redraws:
        return []
    drawn = await _draw_anew(connection, made, counts, now)
    planned = {ring["name"]: ring["planned"] for ring in made.rings[made.first :]}
    found = []
    for ring, devices in zip(made.new.rings[made.first :], drawn.counts, strict=True):
        before = planned.pop(ring.name, None)
        was = "is new" if before is None else f"had {before}"
        found.append(f"ring {ring.name} has {devices} devices, it {was}")
    return found + [f"ring {name} with its {devices} devices is gone" for name, devices in planned.items()]


async def _draw_anew(connection: AsyncConnection, made: _Edit, counts: Sequence[AttemptCount], now: datetime) -> Drawn:
    """Whom the rings to come would have; who has an attempt already is left out."""
    given = sum(count["attempts"] for count in counts)
    target = target_of(made.row, made.new)
    return await draw(connection, made.new, target, now, rollout_id=made.row["id"], first=made.first, given=given)


def _effects_of_pace(made: _Edit, counts: Sequence[AttemptCount]) -> Iterator[str]:
    under_way = {
        "download": (sum(c["attempts"] for c in counts if c["state"] in FETCHING), made.new.pace.downloading_at_once),
        "are at risk": (sum(c["attempts"] for c in counts if c["state"] in AT_RISK), made.new.pace.at_risk_at_once),
    }
    if made.new.pace == made.old.pace:
        return
    for what, (now, most) in under_way.items():
        if most is not None and now > most:
            yield f"{now} devices {what} now: they go on, and nobody new begins until fewer than {most} do"
        else:
            yield f"{now} devices {what} now, of {'any number' if most is None else most}"


async def _effects_of_harm(connection: AsyncConnection, made: _Edit, now: datetime) -> list[str]:
    if made.new.harm is None or made.old.harm is None or made.new.harm == made.old.harm:
        return []
    hurt = (await harm.standing(connection, made.row["id"], made.old, now)).hurt
    left = made.new.harm.at_most - hurt
    if left <= 0:
        return [f"{hurt} devices were hurt: with at most {made.new.harm.at_most} nobody else is given leave"]
    more = f"{hurt} devices were hurt of at most {made.old.harm.at_most}: {left} more may be"
    return [more if made.new.harm.sure else f"{more}; a wave that goes on keeps its size"]


def _effects_of_calendar(made: _Edit, counts: Sequence[AttemptCount], now: datetime) -> Iterator[str]:
    old, new = made.old.calendar, made.new.calendar
    if new == old:
        return
    live = sum(count["live"] for count in counts)
    if is_over(made.new, now):
        yield f"its last day is over: it ends as soon as nobody is at risk, and {live} attempts are called off"
    elif new.ends != old.ends:
        yield "it goes on until all is done" if new.ends is None else f"it ends at {new.ends:%Y-%m-%d %H:%M} UTC"
    if new.start != old.start:
        yield (
            "it begins at once"
            if new.start is None or new.start <= now
            else f"it begins {new.start:%Y-%m-%d %H:%M} UTC"
        )
    if (new.windows, new.zone, new.device_zone) == (old.windows, old.zone, old.device_zone):
        return
    waiting = sum(c["attempts"] for c in counts if c["live"] and c["waiting_for"] == WaitingFor.WINDOW)
    staged = sum(c["attempts"] for c in counts if c["state"] == State.STAGED)
    yield f"{waiting} devices wait for a window now, {staged} have it staged"
    for use, what in ((Use.FETCH, "fetch"), (Use.SWITCH, "switch")):
        opens = next_opening(new.windows, use, new.zone, now)
        if is_open(new.windows, use, new.zone, now):
            yield f"devices may {what} now" + (" (in the plan's zone)" if new.device_zone else "")
        elif opens is not None:
            yield f"devices may {what} from {opens:%Y-%m-%d %H:%M} UTC on" + (
                " (plan's zone)" if new.device_zone else ""
            )


def _changes(made: _Edit) -> list[PlanChange]:
    found = []
    for part in PARTS:
        one, other = (document.model_dump(mode="json")[part] or {} for document in (made.before, made.after))
        if part == "rings":
            one, other = ({ring["name"]: ring for ring in rings} for rings in (one, other))
        for key in dict.fromkeys([*one, *other]):
            if one.get(key) != other.get(key):
                found.append(PlanChange(key=f"{part}.{key}", before=one.get(key), after=other.get(key)))
    return found


def _alike(rings: Sequence[PlanRing], others: Sequence[PlanRing]) -> bool:
    """Whether rings are the same but for how many of their devices must be good."""
    return [ring.model_copy(update={"enough": 1.0}) for ring in rings] == [
        ring.model_copy(update={"enough": 1.0}) for ring in others
    ]


def _first_to_come(rings: Sequence[StoredRing]) -> int:
    """The position of the first ring that is not open yet."""
    to_come = (RingState.CLOSED, RingState.AWAITING_GO)
    return next((ring["position"] for ring in rings if ring["state"] in to_come), len(rings))


def _changed(one: PlanDocument, other: PlanDocument) -> dict[str, Any]:
    mine, theirs = one.model_dump(mode="json"), other.model_dump(mode="json")
    return {name: mine[name] for name in PARTS if mine[name] != theirs[name]}
