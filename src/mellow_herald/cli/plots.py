"""Readings drawn in characters."""

from collections.abc import Mapping, Sequence
from datetime import timedelta
from typing import TYPE_CHECKING

from mellow_herald.core.readings.buckets import meet

if TYPE_CHECKING:
    from mellow_herald.wire.readings import SeriesOne, SeriesOut

PLOT_HEIGHT = 20
Names = Mapping[str, str]
# What the service calls those that no ring has, or whose version is not known.
NONE = "-"


def plot_series(told: "SeriesOut", names: Names | None = None, height: int = PLOT_HEIGHT) -> None:
    """A signal over time, a line for each series under the name that it goes by; words as lines of text."""
    filled = [one for one in told.series if one.points]
    if not filled:
        print(f"No {told.signal} from {told.begin:%Y-%m-%d %H:%M} to {told.end:%H:%M}. Is it listened to?")
        return
    if told.kind.value != "number":
        for one in filled:
            for point in one.points:
                print(f"{_name(one, names)}  {point.at:%Y-%m-%d %H:%M:%S}  {point.text}")
        return
    import plotext

    plotext.clf()
    plotext.plotsize(None, height)
    plotext.theme("clear")
    plotext.title(
        f"{told.signal} [{told.unit}], {told.level} of {told.step_s} s, {len(filled)} of {told.devices} devices"
    )
    for one in filled:
        times = [(point.at - told.begin).total_seconds() for point in one.points]
        label = _name(one, names) if len(filled) > 1 else None
        plotext.plot(times, [point.mean for point in one.points], label=label)
    span = (told.end - told.begin).total_seconds()
    ticks = [span * part / 4 for part in range(5)]
    plotext.xlim(0, span)
    plotext.xticks(ticks, [f"{told.begin + timedelta(seconds=at):%d %H:%M:%S}" for at in ticks])
    plotext.show()
    low = min(point.least for one in filled for point in one.points if point.least is not None)
    high = max(point.most for one in filled for point in one.points if point.most is not None)
    print(f"least {low:g}, most {high:g} {told.unit}")


def plot_against(of: "SeriesOut", against: "SeriesOut", names: Names | None = None, height: int = PLOT_HEIGHT) -> None:
    """A signal against another: a dot for each bucket in which both have values."""
    others = {one.key: one for one in against.series}
    dots = [(one, meet(_means(one), _means(others[one.key]))) for one in of.series if one.key in others]
    dots = [(one, found) for one, found in dots if found]
    if not dots:
        print(f"{of.signal} and {against.signal} have no values at the same time. Are both listened to?")
        return
    import plotext

    plotext.clf()
    plotext.plotsize(None, height)
    plotext.theme("clear")
    plotext.title(f"{of.signal} [{of.unit}] against {against.signal} [{against.unit}], in steps of {of.step_s} s")
    for one, found in dots:
        label = _name(one, names) if len(dots) > 1 else None
        plotext.scatter([other for _, other in found], [value for value, _ in found], label=label)
    plotext.show()


def _means(one: "SeriesOne") -> Sequence[tuple[float, float]]:
    return [(point.at.timestamp(), point.mean) for point in one.points if point.mean is not None]


def _name(one: "SeriesOne", names: Names | None) -> str:
    return (names or {}).get(one.key, "in none" if one.key == NONE else one.key)
