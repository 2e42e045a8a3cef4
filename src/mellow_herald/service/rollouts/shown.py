"""How rollouts and their attempts are shown."""

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass, field
from datetime import datetime, timedelta
from typing import Any, Literal

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.arms import ARM
from mellow_herald.core.attempt import AT_RISK, BAD, FETCHING, RETRIED, State
from mellow_herald.core.choices import Choice, Situation, Standing, choices
from mellow_herald.core.decide import Progress, RingProgress
from mellow_herald.core.needs import explain
from mellow_herald.core.outlook import Outlook, outlook
from mellow_herald.core.plan import Plan
from mellow_herald.core.rollout import ENDED, RingState, RolloutKind, RolloutState
from mellow_herald.core.say import Asks
from mellow_herald.service.context import Context
from mellow_herald.service.rollouts.budget import stands
from mellow_herald.service.rollouts.people_say import load_say
from mellow_herald.service.rollouts.planning import needs_of, plan_of, size_of
from mellow_herald.service.rollouts.record import stored_rollout
from mellow_herald.store import progress, rollouts, say, tallies
from mellow_herald.store.attempts import ShownAttempt
from mellow_herald.store.failures import failed_parts
from mellow_herald.store.rollouts import RolloutOfRelease
from mellow_herald.store.rows import StoredRing
from mellow_herald.store.tallies import AttemptCount
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.rollout import HarmBudgetOut, PartOut, RingOut, RolloutOut


async def show(context: Context, rollout_id: int) -> RolloutOut:
    """One rollout as it stands."""
    async with context.engine.connect() as connection:
        return (await assemble(connection, [await stored_rollout(connection, rollout_id)], context.clock.now()))[0]


async def assemble(connection: AsyncConnection, rows: Sequence[RolloutOfRelease], now: datetime) -> list[RolloutOut]:
    """Rollout rows with their rings and counts."""
    ids = [row["id"] for row in rows]
    rings = await rollouts.list_rings(connection, ids)
    counts = await tallies.count_attempts(connection, ids)
    passed = await rollouts.count_passed_over(connection, ids)
    failed = await failed_parts(connection, ids)
    backs, harm = await rollouts.rollbacks_of(connection, ids), await tallies.count_harm(connection, ids)
    views = {
        row["id"]: await _look(connection, row, rings[row["id"]], now) for row in rows if row["state"] not in ENDED
    }
    outside = await say.count_heard(connection, ids)
    at_risk = {one: Tally([count for count in counts if count["rollout_id"] == one]).among(AT_RISK) for one in ids}
    budgets = {
        row["id"]: await stands(connection, row, at_risk[row["id"]], now)
        for row in rows
        if row["plan"].get("harm") is not None
    }
    return [
        _rollout(
            row,
            {
                "rolled_back_by": backs.get(row["id"], []),
                "harm": harm.get(row["id"], {}),
                "failed_parts": [one for one in failed if one["rollout_id"] == row["id"]],
                "budget": budgets.get(row["id"]),
                "outside": outside.get(row["id"]),
            },
            rings[row["id"]],
            Tally([count for count in counts if count["rollout_id"] == row["id"]]),
            {one["reason"]: one["devices"] for one in passed if one["rollout_id"] == row["id"]},
            views.get(row["id"], View()),
            now,
        )
        for row in rows
    ]


@dataclass(frozen=True, slots=True)
class View:
    """How far a rollout is that has not ended: its rings as ``core.decide`` sees them, who is set aside in each, and
    what the closed ones wait for."""

    rings: Sequence[RingProgress] = ()
    set_aside: Mapping[int, dict[str, int]] = field(default_factory=dict)
    outlook: Mapping[int, Outlook] = field(default_factory=dict)


async def _look(
    connection: AsyncConnection, row: RolloutOfRelease, stored: Sequence[StoredRing], now: datetime
) -> View:
    plan = plan_of(row)
    looked = progress.Watching(row["id"], plan, row["round"], row["round_at"], now)
    aside: dict[int, dict[str, int]] = {}
    for one in await progress.count_set_aside(connection, looked):
        aside.setdefault(one["ring"], {})[one["why"]] = one["devices"]
    rings: Sequence[RingProgress] = ()
    to_come: list[Outlook] = []
    closed = any(ring["state"] in (RingState.CLOSED, RingState.AWAITING_GO) for ring in stored)
    # Of a large last ring that is open this takes a while, and tells nothing that is shown.
    if closed or _standing(row, stored) is not None:
        rings = await progress.ring_progress(connection, looked)
    if closed:
        at_risk = await rollouts.count_at_risk(connection, row["id"])
        go = await rollouts.rings_with_go(connection, row["id"])
        said = await load_say(connection, row, plan, stored)
        seen = Progress(RolloutState(row["state"]), tuple(rings), now, at_risk=at_risk, go=go, say=said)
        to_come = outlook(plan, seen, now)
    return View(rings, aside, {one.position: one for one in to_come})


@dataclass(frozen=True, slots=True)
class Tally:
    """Attempts as ``store.rollouts.count_attempts`` counts them: of a rollout, or of one of its rings."""

    counts: Sequence[AttemptCount]

    def of_ring(self, position: int) -> "Tally":
        """Those of one ring."""
        return Tally([count for count in self.counts if count["ring"] == position])

    @property
    def states(self) -> dict[str, int]:
        """Attempts by state."""
        return _added((count["state"], count["attempts"]) for count in self.counts)

    @property
    def waiting(self) -> dict[str, int]:
        """Live attempts by what they wait for."""
        counts = [count for count in self.counts if count["live"] and count["waiting_for"]]
        return _added((count["waiting_for"] or "", count["attempts"]) for count in counts)

    @property
    def reasons(self) -> dict[str, int]:
        """Attempts that are bad now, by why."""
        counts = [count for count in self.counts if count["state"] in BAD]
        return _added((count["reason"] or count["state"], count["attempts"]) for count in counts)

    def among(self, states: frozenset[State]) -> int:
        """Attempts in one of these states."""
        return sum(count["attempts"] for count in self.counts if count["state"] in states)

    def total(self, column: Literal["attempts", "exposed", "live", "ever_bad", "percents", "unasked"]) -> int:
        """The sum of one of the counts."""
        return sum(count[column] for count in self.counts)


def _rollout(
    row: RolloutOfRelease,
    undone: dict[str, Any],
    rings: Sequence[StoredRing],
    tally: Tally,
    passed: dict[str, int],
    view: View,
    now: datetime,
) -> RolloutOut:
    document = PlanDocument.model_validate(row["plan"])
    given, at_risk = tally.total("attempts"), tally.among(AT_RISK)
    return RolloutOut.model_validate(
        {
            **row,
            **undone,
            **_bytes(row, tally),
            "now": now,
            "release": f"{row['board']}/{row['line']}/{row['version']}",
            "second_release": document.arms[1].release if document.arms else None,
            "passed_over": passed,
            # A ring that opens has given attempts before all its slices are in: those are not missing.
            "chosen": None if row["chosen"] is None else document.arms[row["chosen"]].name,
            "never_given": max(0, row["targeted"] - given - sum(passed.values())),
            "states": tally.states,
            "waiting": tally.waiting,
            "reasons": tally.reasons,
            "ever_bad": tally.total("ever_bad"),
            "unasked": tally.total("unasked"),
            "exposed": tally.total("exposed"),
            "at_risk": at_risk,
            "choices": [asdict(choice) for choice in _choices(row, rings, tally, view, undone["budget"])],
            "stands_still": _stands_still(row, rings),
            "downloading": tally.among(FETCHING),
            "live": tally.total("live"),
            "rings": _rings(rings, document, document.to_plan(), tally, view),
            "plan": document,
        }
    )


def _choices(
    row: RolloutOfRelease, rings: Sequence[StoredRing], tally: Tally, view: View, budget: HarmBudgetOut | None
) -> list[Choice]:
    asking = next((ring for ring in rings if ring["state"] == RingState.AWAITING_GO), None)
    standing = _standing(row, rings)
    spent = budget.at_most if budget is not None and budget.used_up else None
    return choices(
        Situation(
            row["id"],
            RolloutState(row["state"]),
            RolloutKind(row["kind"]),
            live=tally.total("live"),
            at_risk=tally.among(AT_RISK),
            called_off=tally.among(frozenset({State.CALLED_OFF})),
            exposed=tally.total("exposed"),
            ever_bad=tally.total("ever_bad"),
            asking=None if asking is None else (asking["name"], asking["planned"], Asks(asking["asks"] or Asks.GO)),
            standing=None if standing is None else _numbers(standing, rings, tally, view, spent),
            compares=row["second"] is not None and row["chosen"] is None,
        )
    )


def _numbers(ring: StoredRing, rings: Sequence[StoredRing], tally: Tally, view: View, spent: int | None) -> Standing:
    """What there is to choose by where a ring stands still."""
    position = ring["position"]
    own = [count for count in tally.of_ring(position).counts if not count["left_out"]]
    now = view.rings[position]
    through = (State.CONFIRMED, State.CALLED_OFF, State.ROLLED_BACK)
    return Standing(
        ring["name"],
        now.asked,
        now.good,
        bad=sum(count["attempts"] for count in own if count["state"] in RETRIED),
        in_the_way=sum(count["attempts"] for count in own if count["state"] not in through),
        aside=now.set_aside,
        next_devices=sum(other["planned"] for other in rings if other["position"] == position + 1),
        spent=spent,
        closed=ring["state"] in (RingState.CLOSED, RingState.AWAITING_GO),
    )


def _standing(row: RolloutOfRelease, rings: Sequence[StoredRing]) -> StoredRing | None:
    """The ring that stands still, while the rollout runs."""
    if row["state"] != RolloutState.RUNNING:
        return None
    return next((ring for ring in rings if ring["stands_why"] is not None and ring["state"] != RingState.DONE), None)


def _stands_still(row: RolloutOfRelease, rings: Sequence[StoredRing]) -> str | None:
    ring = _standing(row, rings)
    return None if ring is None else f"ring {ring['name']} stands still: {ring['stands_why']}"


def _bytes(row: RolloutOfRelease, tally: Tally) -> dict[str, int]:
    """How much has been moved, and how much there is to move."""
    # Who goes back switches to what stands by, mostly: those bytes are not counted.
    size = _size(row) if row["kind"] == RolloutKind.FORWARD else 0
    return {"moved_bytes": size * tally.total("percents") // 100, "all_bytes": size * tally.total("attempts")}


def _size(row: RolloutOfRelease) -> int:
    """What a device of it fetches, in bytes; of two releases that are compared, on average."""
    own, second = size_of(row["images"]), row["second"]
    if second is None:
        return own
    share = plan_of(row).arms[1].share
    return round(own * (1 - share) + size_of(second["images"]) * share)


def _rings(rings: Sequence[StoredRing], document: PlanDocument, plan: Plan, tally: Tally, view: View) -> list[RingOut]:
    shown = []
    for ring, planned in zip(rings, plan.rings, strict=True):
        own, to_come = tally.of_ring(ring["position"]), view.outlook.get(ring["position"])
        more = {
            "soak": document.rings[ring["position"]].soak,
            "targeted": own.total("attempts"),
            "states": own.states,
            "opens": planned.opens,
            "not_before": planned.not_before,
            "ever_bad": own.total("ever_bad"),
            "set_aside": view.set_aside.get(ring["position"], {}),
            "earliest": None if to_come is None else to_come.earliest,
            "hangs_on": [] if to_come is None else to_come.hangs_on,
        }
        shown.append(RingOut.model_validate({**ring, **more}))
    return shown


def _added(pairs: Iterable[tuple[str, int]]) -> dict[str, int]:
    total: Counter[str] = Counter()
    for name, count in pairs:
        total[name] += count
    return dict(total)


def attempt_as_shown(row: ShownAttempt, now: datetime) -> dict[str, Any]:
    """A row of ``store.attempts.list_attempts`` with what it waits for at ``now``."""
    facts: dict[str, Any] = {**row}
    if facts["live"]:
        expected = facts["seen_at"] + timedelta(seconds=facts["next_s"]) if facts["seen_at"] else None
        facts["waiting"], facts["waiting_until"] = explain(
            State(facts["state"]),
            facts["waiting_for"],
            facts["condition"] or {},
            needs_of(facts["plan"]),
            expected,
            now,
            facts["waiting_until"],
        )
    versions = {image["name"]: image["version"] for image in facts["images"] or []}
    facts["parts"] = [
        PartOut.model_validate({"name": name, "to_version": versions.get(name), **part})
        for name, part in (facts["parts"] or {}).items()
    ]
    facts["way"] = None if facts["back_to"] is None else "back"
    before = facts["before"] or {}
    facts["arm"] = row["facts"].get(ARM) if row["plan"].get("arms") else None
    facts["says_version"] = before.get("says_version")
    if before.get("settings") and before.get("settings_after"):
        facts["settings"] = "kept" if before["settings"] == before["settings_after"] else "changed"
    return facts
