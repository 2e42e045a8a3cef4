"""What a rollout did to a signal, in a terminal."""

from typing import TYPE_CHECKING

from mellow_herald.cli.output import table

if TYPE_CHECKING:
    from mellow_herald.wire.readings import ChangeOut, EffectOut, SideOut

PLOT_HEIGHT = 18


def print_change(told: "ChangeOut", *, plot: bool) -> None:
    """Before and after, of the updated and of the control, with the difference that the update made; and the course of
    both as a plot."""
    if not told.devices:
        print(f"No device of this rollout has sent {told.signal} around its switch. Is it listened to?")
        return
    if plot:
        _plot(told)
    rows = [
        _row("a day", told.unit, told.per_day),
        _row("mean", told.unit, told.level),
    ]
    columns = ["", "updated before", "after", "control before", "after", "what the update did (95 %)"]
    table(f"{told.signal}: {told.devices} updated, {told.control_devices} not updated beside them", columns, rows)


def _row(what: str, unit: str, effect: "EffectOut") -> list[str]:
    sides = (effect.before, effect.after, effect.control_before, effect.control_after)
    return [f"{unit} {what}".strip(), *map(_side, sides), in_words(effect)]


def _side(side: "SideOut | None") -> str:
    return "–" if side is None else f"{side.median:+.3g} ({side.low:+.3g} … {side.high:+.3g})"


def in_words(effect: "EffectOut") -> str:
    """The difference with its interval."""
    if effect.difference is None:
        return "too little to say"
    interval = "" if effect.low is None else f" ({effect.low:+.3g} … {effect.high:+.3g})"
    return f"{effect.difference:+.3g}{interval}"


def _plot(told: "ChangeOut") -> None:
    import plotext

    plotext.clf()
    plotext.plotsize(None, PLOT_HEIGHT)
    plotext.theme("clear")
    plotext.title(f"{told.signal} [{told.unit}] less what it was at the switch, medians, by hours")
    for name, course in (("updated", told.updated), ("not updated", told.control)):
        if course:
            plotext.plot([one.after_s / 3600 for one in course], [one.median for one in course], label=name)
    plotext.vline(0)
    plotext.show()
