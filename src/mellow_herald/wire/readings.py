"""Signals, listening, and readings over time."""

from importlib import import_module
from typing import Annotated, Any, Literal

from pydantic import ConfigDict, Field, model_validator

from mellow_herald.core.readings.signal import SHORTEST_S, SignalKind
from mellow_herald.wire.board import Where
from mellow_herald.wire.device import DeviceModel
from mellow_herald.wire.model import Duration, Model, Moment, Name, Number, Reason, Shown, Time, Whole


class SignalOut(Shown):
    """A signal of a board. Undeclared is what devices have sent that no board file describes. ``asked``, ``sent`` and
    ``lately`` count devices: that are asked for it, that have sent it at all, and within the last 15 minutes."""

    board: str
    name: str
    kind: SignalKind
    unit: str
    usual: list[float] | None
    description: str
    bytes: int
    precise: bool
    keep_s: int | None
    declared: bool
    first_at: Time
    asked: int
    sent: int
    lately: int
    last_at: Time | None


class ListeningIn(Model):
    """What to ask devices for: ``signals`` every ``every``, ``until`` then (or ``for`` so long), of all that the
    selector ``where`` picks, which is read again each minute."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)

    where: Where
    signals: Annotated[list[Name], Field(min_length=1, max_length=64)]
    every: Duration | None = Field(default=None, examples=["10s"])
    at_full_rate: bool = False
    until: Moment | None = None
    lasts: Duration | None = Field(default=None, examples=["2h"])

    @model_validator(mode="after")
    def _is_whole(self) -> "ListeningIn":
        if self.at_full_rate == (self.every is not None):
            raise ValueError(f"say every = 10s, or at_full_rate (every {SHORTEST_S:g} s)")
        if (self.until is None) == (self.lasts is None):
            raise ValueError("say until when (a time), or for how long it lasts")
        if len(set(self.signals)) != len(self.signals):
            raise ValueError("a signal is named twice")
        return self


class ListeningCost(Shown):
    """What listening costs on one board: how many ``devices`` are asked, what each of them sends a day for it
    (bytes) and together ``with_others`` that it may be asked for, what its board allows, and which of the signals it
    does not declare."""

    board: str
    devices: int
    bytes_a_day: int
    with_others: int
    at_most: int
    undeclared: list[str]


class ListeningPreview(Shown):
    """What a listening would ask of whom; ``not_asked`` are picked too, but are on narrow radio or speak CoAP.
    ``refused`` says why it cannot be."""

    devices: int
    not_asked: int = 0
    costs: list[ListeningCost]
    disk_a_day: int
    refused: list[str]


class ListeningOut(Shown):
    """A listening. ``devices`` are asked now; ``sending`` have sent one of its signals within the last 15 minutes, or
    three periods. ``read_at`` is when its selector was read last, ``trouble`` why it could not be."""

    now: Time
    id: int
    where: str
    signals: list[str]
    period_s: float
    until: Time
    state: Literal["going-on", "over", "ended"]
    made_by: str
    made_at: Time
    ended_by: str | None
    ended_at: Time | None
    read_at: Time | None
    devices: int
    trouble: str


class ListeningEnd(Model):
    """Why a listening is ended."""

    reason: Reason = "heard enough"


class LastValueOut(Shown):
    """What a device sent last of a signal: a number or words, at which time (service time), how long it took to arrive
    (s), and its age (s) now."""

    serial: str
    signal: str
    kind: SignalKind
    unit: str
    declared: bool
    at: Time
    arrived_at: Time
    age_s: float
    value: float | None
    text: str | None


class Point(Shown):
    """One bucket of a series, that begins at ``at``: how many values there were, the least, the most, the mean (of
    several devices: the mean of theirs), and the last one. Of a signal that is words there is each value by itself."""

    at: Time
    count: int
    least: float | None = None
    most: float | None = None
    mean: float | None = None
    last: float | None = None
    text: str | None = None


class SeriesOne(Shown):
    """One series: a device, or all that have a version, a revision or a ring in common."""

    key: str
    points: list[Point]


class SeriesOut(Shown):
    """What was asked for: buckets of ``step_s`` seconds from ``begin`` to ``end``; those without values are not there.
    ``level`` is what it was answered from: each value, or what is kept of minutes or hours. ``devices`` were looked at;
    ``cut`` if there are more than were."""

    now: Time
    signal: str
    unit: str
    kind: SignalKind
    begin: Time
    end: Time
    step_s: int
    level: str
    devices: int
    cut: bool
    series: list[SeriesOne]

    def columns(self) -> dict[str, list[Any]]:
        """All points as columns of one length: ``series`` (whose), ``at``, ``count``, ``least``, ``most``, ``mean``,
        ``last`` and ``text``."""
        names = ("at", "count", "least", "most", "mean", "last", "text")
        points = [(one.key, point) for one in self.series for point in one.points]
        told = {name: [getattr(point, name) for _, point in points] for name in names}
        return {"series": [key for key, _ in points], **told}

    def frame(self) -> Any:
        """The same as a pandas frame, if pandas is installed: a row for each point. ``ImportError`` if it is not."""
        try:
            pandas = import_module("pandas")
        except ImportError:
            raise ImportError("pandas is not installed: `pip install pandas`, or take columns()") from None
        return pandas.DataFrame(self.columns())


class SideOut(Shown):
    """So many devices: their median, and the quartiles below and above it."""

    devices: int
    low: float
    median: float
    high: float


class EffectOut(Shown):
    """The updated before and after their switch, and the control at the same time. ``difference`` is by how much the
    updated changed more than the control did (or at all, where there is none), from ``low`` to ``high`` with 95 %
    confidence; None where there are too few devices to say."""

    before: SideOut | None
    after: SideOut | None
    control_before: SideOut | None
    control_after: SideOut | None
    difference: float | None
    low: float | None
    high: float | None


class CourseOut(Shown):
    """Of a step that begins so many seconds after the switch (before it: below nought), over the devices that have
    values then: median and quartiles of how far each is from what it had at its switch."""

    after_s: float
    devices: int
    low: float
    median: float
    high: float


class ChangeOut(Shown):
    """What an update did to a signal: each device's readings aligned at its switch, within ``span_s`` before and after;
    the control, which has not switched, at ``switched_at``. ``level`` compares means, ``per_day`` how it moves."""

    now: Time
    signal: str
    unit: str
    span_s: float
    devices: int
    control_devices: int
    switched_at: Time | None
    level: EffectOut
    per_day: EffectOut
    step_s: int
    updated: list[CourseOut]
    control: list[CourseOut]


# The device protocol -------------------------------------------------------------------------------------------------


class Block(DeviceModel):
    """Values of several signals at the same times: ``at`` is a time of the device (s since 1970), ``after_ms`` are ms
    after it, and every signal has a value for each of them, or null. Numbers are in the signal's own unit."""

    at: float
    after_ms: Annotated[list[int], Field(min_length=1, max_length=100_000)]
    values: Annotated[dict[str, list[Any]], Field(min_length=1)]


class Collecting(DeviceModel):
    """What collecting costs a device, as it says: its share of the processor and of the bus (0–1), and how many values
    it has kept, sent and dropped since it started."""

    processor: Number | None = None
    bus: Number | None = None
    kept: Whole | None = None
    sent: Whole | None = None
    dropped: Whole | None = None


class ReadingsIn(DeviceModel):
    """Readings, live or in batches after a spell off-line; they may be sent again. ``sent_at`` is what the device's
    clock shows as it sends (s since 1970): a clock that is wrong is mended by that."""

    sent_at: float | None = None
    blocks: Annotated[list[Block], Field(min_length=1, max_length=1000)]
    cost: Collecting | None = None


class RefusedValue(Shown):
    """A value that was not taken: which of its signal's values, counted from nought over all blocks, and why."""

    signal: str
    index: int
    kind: str


class ReadingsOut(Shown):
    """How many values were taken; ``refused`` lists the first hundred that were not, of ``refused_count``."""

    taken: int
    refused_count: int = 0
    refused: list[RefusedValue] = []
