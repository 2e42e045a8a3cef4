"""What the demo counts at its end, rollout by rollout."""

from rich.console import Console
from rich.table import Table

from mellow_herald.client import Herald
from mellow_herald.wire.rollout import RolloutOut

OUT = Console(highlight=False)


def states_by_serial(herald: Herald, rollout_id: int) -> dict[str, str]:
    """The state of every attempt of a rollout."""
    found: dict[str, str] = {}
    after = None
    while True:
        page = herald.rollouts.attempts(rollout_id, limit=1000, after=after)
        found |= {attempt.serial: attempt.state.value for attempt in page.items}
        if page.next is None:
            return found
        after = page.next


def print_accounting(rollout: RolloutOut) -> bool:
    """Prints that targeted = passed over + never given an attempt + attempts by state; tells whether it adds up."""
    table = Table(title=f"\nRollout {rollout.id}: {rollout.name}", title_justify="left", box=None, padding=(0, 2))
    table.add_column("")
    table.add_column("devices", justify="right")
    table.add_row("targeted", str(rollout.targeted))
    rows = [(f"= passed over: {reason}", count) for reason, count in rollout.passed_over.items()]
    rows += [("+ never given an attempt", rollout.never_given)]
    rows += [(f"+ {state.value}", count) for state, count in rollout.states.items()]
    for name, count in rows:
        table.add_row(name, str(count))
    for reason, count in sorted(rollout.harm.items()):
        table.add_row(f"    went bad: {reason}", f"({count})")
    table.add_row("    exposed" + (" at the halt" if rollout.halt_number else ""), f"({rollout.exposed})")
    if rollout.rolled_back_by:
        table.add_row("    rolled back", f"({rollout.states.get('rolled-back', 0)})")  # type: ignore[call-overload]
    OUT.print(table)
    ended = rollout.state in ("finished", "cancelled")
    return sum(count for _, count in rows) == rollout.targeted and (rollout.live == 0 or not ended)


def closing_line(rollout: RolloutOut) -> str:
    """How a rollout ended, in one line."""
    counts = {state.value: count for state, count in rollout.states.items()}
    total = sum(counts.values())
    others = "".join(f", {state} {count}" for state, count in sorted(counts.items()) if state != "confirmed")
    return f"rollout {rollout.id}, {rollout.name}: confirmed {counts.get('confirmed', 0)} of {total}{others}"
