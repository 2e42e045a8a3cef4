"""The live picture of a rollout in a terminal, and plain lines where there is no terminal."""

import os
import sys
import threading
from collections import deque
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import TYPE_CHECKING, Any

from rich.console import Group
from rich.live import Live
from rich.table import Table
from rich.text import Text

from mellow_herald.cli.brakes import brake_lines
from mellow_herald.cli.looks import GREY_BLUE, HONEY, ROSE, SAGE, SLATE, amount, looks_of
from mellow_herald.cli.output import console
from mellow_herald.core.attempt import State
from mellow_herald.core.refusal import Refused
from mellow_herald.wire.brake import BrakesOut
from mellow_herald.wire.event import Event
from mellow_herald.wire.rollout import RolloutOut

if TYPE_CHECKING:
    from mellow_herald.client import Herald

BAR = 48
LATEST = 12
REFRESH_SECONDS = 0.3
BRAKE_TURNS = 5
# In a bar, what is done stands at the left and what has not begun at the right.
ORDER = (
    State.CONFIRMED,
    State.FAILED,
    State.REVERTED,
    State.SILENT,
    State.RELAPSED,
    State.ROLLED_BACK,
    State.CALLED_OFF,
    State.PROVING,
    State.INSTALLING,
    State.CLEARED,
    State.STAGED,
    State.DOWNLOADING,
    State.OFFERED,
    State.QUEUED,
)
OVER = frozenset({"finished", "cancelled", "halted"})
STATE_COLOURS = {"running": SLATE, "halted": ROSE, "held": HONEY}
OUTCOME_COLOURS = {"carried-out": SAGE, "halted": ROSE, "rolled-back": ROSE, "cut-short": HONEY}


@dataclass(frozen=True, slots=True)
class Until:
    """What is waited for: the end, the first confirmed device, or a ring that is done (by its position); with ``moves``
    only for as long as something moves by itself."""

    confirmed: bool = False
    ring: int | None = None
    moves: bool = False

    @classmethod
    def parse(cls, text: str, rollout: RolloutOut) -> "Until":
        """Reads ``end``, ``confirmed`` or ``ring:NAME``."""
        if text in ("end", "confirmed"):
            return cls(confirmed=text == "confirmed", moves=True)
        names = [ring.name for ring in rollout.rings]
        kind, _, name = text.partition(":")
        if kind != "ring" or name not in names:
            known = ", ".join(f"ring:{name}" for name in names)
            raise Refused("bad-until", f"{text!r} cannot be waited for.", f"Write end, confirmed, or one of {known}.")
        return cls(ring=names.index(name), moves=True)

    def met(self, rollout: RolloutOut) -> bool:
        """Whether it has come to pass."""
        if self.confirmed:
            return bool(rollout.states.get(State.CONFIRMED))
        if self.ring is not None:
            return rollout.rings[self.ring].state == "done"
        return rollout.state in OVER

    def over(self, rollout: RolloutOut) -> bool:
        """Whether there is nothing more to wait for."""
        return self.met(rollout) or rollout.state in OVER or (self.moves and rollout.stands_still is not None)


END = Until()


def follow(herald: "Herald", rollout_id: int, until: Until = END) -> RolloutOut:
    """Shows a rollout until what is waited for has come to pass, or it is over; returns it as it is then."""
    # The events first: what comes to pass after them is in the rollout, or still to come; never in neither.
    before = herald.latest_events(rollout_id=rollout_id, limit=LATEST)
    rollout = herald.rollouts.show(rollout_id)
    if until.over(rollout):
        brakes = herald.rollouts.brakes(rollout_id)
        console().print(picture(rollout, brakes=brakes, by_radio=_sessions(herald, rollout)))
        return rollout
    plain = not sys.stdout.isatty() or os.environ.get("TERM") == "dumb"
    return (_tell if plain else _draw)(herald, rollout, before, until)


def _draw(herald: "Herald", rollout: RolloutOut, before: Sequence[Event], until: Until) -> RolloutOut:
    """A live picture. Counts are read again a few times a second, however fast events come."""
    told = [event for event in reversed(before) if event.kind in ("rollout", "attempt")]
    latest: deque[Event] = deque(told, maxlen=LATEST)
    stale, over = threading.Event(), threading.Event()
    with Live(
        picture(rollout, latest, herald.rollouts.brakes(rollout.id)), console=console(), refresh_per_second=8
    ) as live:

        def keep_fresh() -> None:
            turn, brakes, by_radio = 0, None, list[Text]()
            while not over.wait(REFRESH_SECONDS):
                if stale.is_set():
                    stale.clear()
                    # What the brakes show rests on every attempt: it is asked for less often.
                    if turn % BRAKE_TURNS == 0:
                        brakes, by_radio = herald.rollouts.brakes(rollout.id), _sessions(herald, rollout)
                    turn += 1
                    live.update(picture(herald.rollouts.show(rollout.id), tuple(latest), brakes, by_radio))

        threading.Thread(target=keep_fresh, daemon=True).start()
        for event in herald.rollouts.watch(rollout.id, after=_newest(before)):
            if event.kind == "rollout" or (event.kind == "attempt" and _worth_telling(event)):
                latest.append(event)
            stale.set()
            if _may_matter(event, until) and until.over(rollout := herald.rollouts.show(rollout.id)):
                break
        over.set()
        rollout = herald.rollouts.show(rollout.id)
        brakes = herald.rollouts.brakes(rollout.id)
        live.update(picture(rollout, tuple(latest), brakes, _sessions(herald, rollout)))
    return rollout


def _tell(herald: "Herald", rollout: RolloutOut, before: Sequence[Event], until: Until) -> RolloutOut:
    print(_summary(rollout), flush=True)
    if rollout.stands_still:
        print(rollout.stands_still, *(f"choice: {line}" for line in choice_lines(rollout)), sep="\n", flush=True)
    for event in herald.rollouts.watch(rollout.id, after=_newest(before)):
        if event.kind == "rollout" or (event.kind == "attempt" and _worth_telling(event)):
            print(_line(event).plain, flush=True)
        if event.kind == "radio" and _worth_telling(event):
            print(f"{event.at:%H:%M:%S}  {_session_line(event.data)}", flush=True)
        if _may_matter(event, until):
            rollout = herald.rollouts.show(rollout.id)
            if event.kind == "rollout":
                print(_summary(rollout), flush=True)
                if rollout.state == "halted":
                    print(*(line.plain for line in brake_lines(herald.rollouts.brakes(rollout.id))), sep="\n")
                if rollout.state == "halted" or rollout.stands_still:
                    print(*(f"choice: {line}" for line in choice_lines(rollout)), sep="\n", flush=True)
            if until.over(rollout):
                break
    return rollout


def _newest(events: Sequence[Event]) -> int | None:
    """After which event to go on, so that none is missed: 0 for from the start."""
    return events[0].id if events else 0


def _may_matter(event: Event, until: Until) -> bool:
    return event.kind == "rollout" or (until.confirmed and event.data.get("state") == State.CONFIRMED)


def effect_of(word: str, rollout: RolloutOut, left_out: int = 0) -> str:
    """What hold, resume, halt or cancel does to how many devices; ``left_out`` of those called off stay so."""
    waiting = rollout.live - rollout.at_risk
    off = rollout.states.get(State.CALLED_OFF, 0) - left_out
    stays = f", {left_out} stay as they are" if left_out else ""
    effects = {
        "hold": f"{rollout.live} attempts stay live, but nobody is offered or cleared anything until you resume.",
        "resume": f"Offers and clearances are given again; {off} devices that were called off are queued again{stays}.",
        "halt": f"{waiting} attempts are called off; {rollout.at_risk} devices have clearance and are waited for.",
        "cancel": f"It ends for good: {waiting} attempts are called off. Refused while devices are at risk "
        f"({rollout.at_risk} now).",
    }
    return f"{word} {rollout.id} ({rollout.name}): {effects[word]}"


def _worth_telling(event: Event) -> bool:
    """Not every percent."""
    return event.data.get("moved") is not False


def _session_line(data: dict[str, Any]) -> str:
    devices = f", {data['devices']} devices" if "devices" in data else ""
    late = f", {data['late']} not ready" if data.get("late") else ""
    outcome = f": {data['outcome']}" if "outcome" in data else ""
    return f"session {data['session']} {data['state']}{outcome}{devices}{late}"


def _summary(rollout: RolloutOut) -> str:
    counts = ", ".join(f"{state.value} {rollout.states[state]}" for state in ORDER if rollout.states.get(state))
    return f"rollout {rollout.id} {rollout.state}: {counts or 'nothing begun'}"


def _sessions(herald: "Herald", rollout: RolloutOut) -> list[Text]:
    """What the sessions of a rollout do by which devices on narrow radio are reached."""
    found = herald.radio.sessions(rollout.id)
    if not found:
        return []
    from mellow_herald.cli.radio_watch import headline

    return [headline(one, herald.service_time) for one in found]


def brings(rollout: RolloutOut) -> str:
    """What a rollout brings, in words: of two releases that it compares both, and which was chosen."""
    if rollout.second_release is None:
        return rollout.release
    both = f"{rollout.release} or {rollout.second_release.rpartition('/')[2]} by lot"
    return both if rollout.chosen is None else f"{both}, then {rollout.chosen}"


def picture(
    rollout: RolloutOut,
    latest: Iterable[Event] | None = None,
    brakes: BrakesOut | None = None,
    by_radio: Sequence[Text] = (),
) -> Group:
    """Rings with bars by state, numbers, what the brakes show, what sessions by radio do, what can be done next, and
    the latest events."""
    colour = colour_of(rollout)
    head = Text.assemble(
        (f"Rollout {rollout.id}  ", "bold"),
        rollout.name,
        "   ",
        (brings(rollout), "bold"),
        "   ",
        styled_state(rollout),
    )
    parts: list[Any] = [head]
    if rollout.rolls_back is not None:
        parts.append(Text(f"brings devices of rollout {rollout.rolls_back} back to what they came from", "dim"))
    if rollout.rolled_back_by:
        others = ", ".join(str(one) for one in rollout.rolled_back_by)
        parts.append(Text(f"rolled back by rollout {others}", "dim"))
    if rollout.reason:
        parts.append(Text(f"reason: {rollout.reason}", colour))
    if rollout.halted_why and rollout.halted_why != rollout.reason:
        parts.append(Text(f"was halted: {rollout.halted_why}", ROSE))
    passed = sum(rollout.passed_over.values())
    reasons = ", ".join(f"{reason} {n}" for reason, n in sorted(rollout.passed_over.items()))
    passed_text = f", {passed} passed over ({reasons})" if passed else ""
    to_come = f", {rollout.never_given} not given an attempt" if rollout.never_given else ""
    pace = rollout.plan.pace
    downloading, at_risk = (
        _of(rollout.downloading, pace.downloading_at_once),
        _of(rollout.at_risk, pace.at_risk_at_once),
    )
    parts += [
        Text(f"{rollout.targeted} targeted{passed_text}{to_come}; {rollout.exposed} exposed", "dim"),
        Text(
            f"pace: {downloading} downloading, {at_risk} at risk"
            + (f"; {amount(rollout.moved_bytes)} of {amount(rollout.all_bytes)} moved" if rollout.all_bytes else ""),
            "dim",
        ),
        *([Text(rollout.budget.words, ROSE if rollout.budget.used_up else "dim")] if rollout.budget else []),
        Text(""),
    ]
    grid = Table.grid(padding=(0, 2))
    for ring in rollout.rings:
        total = sum(ring.states.values())
        done = ring.states.get(State.CONFIRMED, 0)
        share = f"{100 * done // total:>3} %" if total else ""
        devices = f"{done} of {total}" if total else f"{ring.planned} planned"
        state = f"{ring.state} since {ring.opened_at:%H:%M}" if ring.state == "open" and ring.opened_at else ring.state
        if ring.earliest:
            left = ring.earliest - rollout.now
            soonest = (
                f"{ring.earliest:%d %b %H:%M} at the earliest, in {span_of(left)}"
                if left > timedelta()
                else "as soon as it may"
            )
            state += f", opens {soonest}"
        if ring.set_aside:
            state += ", set aside: " + ", ".join(f"{why} {n}" for why, n in ring.set_aside.items())
        colour = HONEY if ring.state == "awaiting-go" else "dim"
        name = Text(f"{ring.position + 1} {ring.name}", "bold")
        grid.add_row(name, _bar(ring.states), share, devices, Text(state, colour))
    parts += [grid, Text(""), _legend(rollout)]
    if brakes is not None:
        parts += brake_lines(brakes)
    parts += by_radio
    held_up = {word: n for word, n in rollout.waiting.items() if word != "next-check-in"}
    if held_up:
        parts.append(Text("waits for: " + ", ".join(f"{word} {n}" for word, n in held_up.items()), GREY_BLUE))
    next_ring = next((ring for ring in rollout.rings if ring.hangs_on), None)
    if next_ring is not None:
        parts.append(Text(f"ring {next_ring.name} waits for: {'; '.join(next_ring.hangs_on)}", GREY_BLUE))
    if rollout.harm:
        told = ", ".join(_went_bad(reason, n, rollout.reasons.get(reason, 0)) for reason, n in rollout.harm.items())
        parts.append(Text(f"went wrong: {told}", ROSE))
    if rollout.unasked:
        parts.append(Text(f"acted-without-clearance: {rollout.unasked}", ROSE))
    if rollout.stands_still:
        parts.append(Text(rollout.stands_still, HONEY))
    asking = next((ring for ring in rollout.rings if ring.state == "awaiting-go" and ring.asks_why), None)
    if asking is not None:
        what = "go" if asking.asks is None else asking.asks.awaited
        parts.append(Text(f"ring {asking.name} awaits {what}: {asking.asks_why}", HONEY))
    heard = rollout.outside
    if heard is not None:
        named = f"{heard.named} devices that have it are named, {heard.named_others} that do not"
        unseen = f"; {heard.unseen} to be acknowledged" if heard.unseen else ""
        parts.append(Text(f"heard outside: {named}{unseen}", HONEY if heard.unseen or heard.named else "dim"))
    if rollout.choices:
        parts += [Text(""), Text("What can be done", "bold"), *(Text(f"  {line}") for line in choice_lines(rollout))]
    if latest is not None:
        parts += [Text(""), Text("Latest", "bold"), *(_line(event) for event in latest)]
    return Group(*parts)


def colour_of(rollout: RolloutOut) -> str:
    """The colour of a rollout's outcome, or of its state while it goes on."""
    return OUTCOME_COLOURS[rollout.outcome] if rollout.outcome else STATE_COLOURS.get(rollout.state, GREY_BLUE)


def styled_state(rollout: RolloutOut) -> Text:
    """A rollout's state, and what it came to."""
    told = rollout.outcome if rollout.outcome and rollout.outcome.value != rollout.state.value else None
    return Text(f"{rollout.state}, {told}" if told else rollout.state.value, colour_of(rollout))


def choice_lines(rollout: RolloutOut) -> list[str]:
    """What can be done next, each with its command and how many devices it touches."""
    lines = []
    for choice in rollout.choices:
        devices = "" if choice.devices is None else f" ({choice.devices} device{'' if choice.devices == 1 else 's'})"
        lines.append(f"{choice.words}{devices}" + (f": {choice.command}" if choice.command else ""))
    return lines


def _went_bad(reason: str, ever: int, now: int) -> str:
    return f"{reason} {ever}" if now >= ever else f"{reason} {ever} ({now} still)"


def span_of(left: timedelta) -> str:
    """A stretch of time as a countdown shows it: ``45 s``, ``12 min``, ``3 h 5 min``, ``2 d 4 h``."""
    seconds = max(0, round(left.total_seconds()))
    if seconds < 60:
        return f"{seconds} s"
    minutes = seconds // 60
    if minutes < 60:
        return f"{minutes} min"
    hours = minutes // 60
    return f"{hours} h {minutes % 60} min" if hours < 48 else f"{hours // 24} d {hours % 24} h"


def _of(used: int, cap: int | None) -> str:
    return f"{used} of {cap}" if cap else str(used)


def _bar(states: dict[State, int]) -> Text:
    total = sum(states.values())
    bar = Text()
    if not total:
        return Text("·" * BAR, "dim")
    drawn = seen = 0
    for state in ORDER:
        seen += states.get(state, 0)
        # Rounding the running sum, not each part, makes the parts add up to the whole bar.
        width = round(BAR * seen / total) - drawn
        if states.get(state) and width == 0 and drawn < BAR:
            width = 1
        width = min(width, BAR - drawn)
        shape, colour = looks_of(state)
        bar.append(("█" if state is State.CONFIRMED else shape) * width, colour)
        drawn += width
    return bar


def _legend(rollout: RolloutOut) -> Text:
    text = Text()
    for state in ORDER:
        count = rollout.states.get(state)
        if count:
            shape, colour = looks_of(state)
            text.append(f"{shape} {state.value} ", colour)
            text.append(f"{count}   ", "bold")
    return text


def _line(event: Event) -> Text:
    text = Text.assemble((f"{event.at:%H:%M:%S}  ", "dim"))
    if event.kind != "attempt":
        text.append(f"{event.data.get('what', event.kind)}: {event.data.get('why', '')}", "bold")
        return text
    shape, colour = looks_of(str(event.data["state"]))
    text.append(f"{event.data.get('serial', f'device {event.device_id}'):<14}", "default")
    text.append(f"{shape} {event.data['state']}", colour)
    for name in ("reason", "step"):
        if event.data.get(name):
            text.append(f"  {event.data[name]}")
    return text
