"""The live picture of a rollout in a terminal, and plain lines where there is no terminal."""

import sys
import threading
from collections import deque
from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from rich.console import Group
from rich.live import Live
from rich.table import Table
from rich.text import Text

from mellow_herald.cli.looks import GREY_BLUE, HONEY, ROSE, SAGE, SLATE, looks_of
from mellow_herald.cli.output import console
from mellow_herald.core.attempt import State
from mellow_herald.wire.event import Event
from mellow_herald.wire.rollout import RolloutOut

if TYPE_CHECKING:
    from mellow_herald.client import Herald

BAR = 60
LATEST = 12
REFRESH_SECONDS = 0.3
# In a bar, what is done stands at the left and what has not begun at the right.
ORDER = (
    State.CONFIRMED, State.FAILED, State.REVERTED, State.SILENT, State.RELAPSED, State.ROLLED_BACK, State.CALLED_OFF,
    State.PROVING, State.INSTALLING, State.CLEARED, State.STAGED, State.DOWNLOADING, State.OFFERED, State.QUEUED,
)  # fmt: skip
OVER = frozenset({"finished", "cancelled", "halted"})
STATE_COLOURS = {"running": SLATE, "finished": SAGE, "halted": ROSE, "held": HONEY}


def follow(herald: "Herald", rollout_id: int) -> str:
    """Shows a rollout until it is over; returns its last state."""
    rollout = herald.rollouts.show(rollout_id)
    if rollout.state in OVER:
        console().print(picture(rollout))
        return rollout.state
    return _draw(herald, rollout) if sys.stdout.isatty() else _tell(herald, rollout)


def _draw(herald: "Herald", rollout: RolloutOut) -> str:
    """A live picture. Counts are read again a few times a second, however fast events come."""
    latest: deque[Event] = deque(maxlen=LATEST)
    stale, over = threading.Event(), threading.Event()
    with Live(picture(rollout, latest), console=console(), refresh_per_second=8) as live:

        def keep_fresh() -> None:
            while not over.wait(REFRESH_SECONDS):
                if stale.is_set():
                    stale.clear()
                    live.update(picture(herald.rollouts.show(rollout.id), tuple(latest)))

        threading.Thread(target=keep_fresh, daemon=True).start()
        for event in herald.rollouts.watch(rollout.id):
            if event.kind == "rollout" or (event.kind == "attempt" and _worth_telling(event)):
                latest.append(event)
            stale.set()
            if event.kind == "rollout" and (rollout := herald.rollouts.show(rollout.id)).state in OVER:
                break
        over.set()
        live.update(picture(herald.rollouts.show(rollout.id), tuple(latest)))
    return rollout.state


def _tell(herald: "Herald", rollout: RolloutOut) -> str:
    print(_summary(rollout), flush=True)
    for event in herald.rollouts.watch(rollout.id):
        if event.kind == "rollout" or (event.kind == "attempt" and _worth_telling(event)):
            print(_line(event).plain, flush=True)
        if event.kind == "rollout":
            rollout = herald.rollouts.show(rollout.id)
            print(_summary(rollout), flush=True)
            if rollout.state in OVER:
                break
    return rollout.state


def _worth_telling(event: Event) -> bool:
    """Not every percent."""
    return event.data.get("moved") is not False


def _summary(rollout: RolloutOut) -> str:
    counts = ", ".join(f"{state.value} {rollout.states[state]}" for state in ORDER if rollout.states.get(state))
    return f"rollout {rollout.id} {rollout.state}: {counts or 'nothing begun'}"


def picture(rollout: RolloutOut, latest: Iterable[Event] | None = None) -> Group:
    """Rings with bars by state, numbers, and the latest events."""
    colour = STATE_COLOURS.get(rollout.state, GREY_BLUE)
    head = Text.assemble(
        (f"Rollout {rollout.id}  ", "bold"),
        rollout.name,
        "   ",
        (rollout.release, "bold"),
        "   ",
        (rollout.state, colour),
    )
    parts: list[Any] = [head]
    if rollout.reason:
        parts.append(Text(f"reason: {rollout.reason}", colour))
    passed = sum(rollout.passed_over.values())
    reasons = ", ".join(f"{reason} {n}" for reason, n in sorted(rollout.passed_over.items()))
    passed_text = f", {passed} passed over ({reasons})" if passed else ""
    numbers = f"{rollout.targeted} targeted{passed_text}; {rollout.exposed} exposed, {rollout.at_risk} at risk now"
    parts += [Text(numbers, "dim"), Text("")]
    grid = Table.grid(padding=(0, 2))
    for ring in rollout.rings:
        total = sum(ring.states.values())
        done = ring.states.get(State.CONFIRMED, 0)
        share = f"{100 * done // total:>3} %" if total else ""
        grid.add_row(
            Text(f"{ring.position + 1} {ring.name}", "bold"), _bar(ring.states), share, Text(ring.state, "dim")
        )
    parts += [grid, Text(""), _legend(rollout)]
    if rollout.reasons:
        told = ", ".join(f"{reason} {n}" for reason, n in rollout.reasons.items())
        parts.append(Text(f"went wrong: {told}", ROSE))
    if latest is not None:
        parts += [Text(""), Text("Latest", "bold"), *(_line(event) for event in latest)]
    return Group(*parts)


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
