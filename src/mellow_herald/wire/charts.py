"""Chart pages: rows of signals that an engineer looks at together, and how series look to whom."""

from typing import Annotated

from pydantic import Field, StringConstraints, model_validator

from mellow_herald.core.limits import LARGEST_INTEGER
from mellow_herald.core.readings.buckets import By
from mellow_herald.wire.board import Where
from mellow_herald.wire.model import Duration, Model, Name, Shown, Time, Title

USUAL_HEIGHT, LEAST_HEIGHT, MOST_HEIGHT = 210, 80, 1200
MOST_ROWS, MOST_SIGNALS = 24, 8
EVERYBODY = 'serial ~ "*"'
Colour = Annotated[str, StringConstraints(pattern=r"^#[0-9a-fA-F]{6}$"), Field(examples=["#2f7f6f"])]
SeriesKey = Annotated[str, StringConstraints(min_length=1, max_length=200, pattern=r"^[^\x00-\x1f]*$")]


class ChartRow(Model):
    """A row: signals over time, or ``against`` another signal; so many pixels high."""

    signals: Annotated[list[Name], Field(min_length=1, max_length=MOST_SIGNALS)]
    against: Name | None = None
    height: Annotated[int, Field(strict=True, ge=LEAST_HEIGHT, le=MOST_HEIGHT)] = USUAL_HEIGHT

    @model_validator(mode="after")
    def _is_drawable(self) -> "ChartRow":
        if len(set(self.signals)) != len(self.signals):
            raise ValueError("a signal is named twice in a row")
        if self.against in self.signals:
            raise ValueError(f"{self.against} is drawn against itself; name another signal")
        return self


class ChartPageDocument(Model):
    """What a chart page shows, as it stands in a file: of the devices that ``where`` picks, a line for each (or for all
    that have a version, a revision or a ring of ``rollout`` in common), over the ``last`` so long."""

    name: Title
    where: Where = EVERYBODY
    by: By = By.DEVICE
    rollout: Annotated[int, Field(strict=True, ge=1, le=LARGEST_INTEGER)] | None = None
    last: Duration = "1h"
    rows: Annotated[list[ChartRow], Field(min_length=1, max_length=MOST_ROWS)]

    @model_validator(mode="after")
    def _has_rings(self) -> "ChartPageDocument":
        if self.by is By.RING and self.rollout is None:
            raise ValueError("by = 'ring': of which rollout? Say rollout = 4")
        return self


class ChartPageIn(ChartPageDocument):
    """A chart page that is kept, for oneself or ``shared`` with everybody."""

    shared: bool = False


class ChartPageChange(ChartPageIn):
    """A chart page as it is to be; ``edition`` is that of the one that was changed."""

    edition: Annotated[int, Field(strict=True, ge=1, le=LARGEST_INTEGER)]


class ChartPageOut(Shown):
    """A chart page that is kept. ``edition`` counts its changes; ``mine``: whoever asks has made it, and may change
    it."""

    id: int
    edition: int
    name: str
    where: str
    by: By
    rollout: int | None
    last: str
    rows: list[ChartRow]
    shared: bool
    mine: bool
    made_by: str
    made_at: Time
    changed_at: Time

    def document(self) -> ChartPageDocument:
        """What it shows, without who keeps it."""
        return ChartPageDocument.model_validate(self.model_dump(include=set(ChartPageDocument.model_fields)))


class SeriesStyle(Model):
    """How a series looks to whoever says so, and to nobody else: under which ``name`` and in which ``colour``; of one
    signal, or of every signal where none is named. With neither it looks as it always did."""

    series: SeriesKey
    signal: Name | None = None
    name: Title | None = None
    colour: Colour | None = None
