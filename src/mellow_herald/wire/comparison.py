"""Two releases side by side, and the choice of one of them."""

from pydantic import Field

from mellow_herald.core.relapse import Measure
from mellow_herald.wire.model import Model as In
from mellow_herald.wire.model import Reason, Shown, Time, Title


class ChooseIn(In):
    """Which release the rest gets, by the name of its ``arm``, and why."""

    arm: Title
    reason: Reason


class ArmOut(Shown):
    """One of the two releases. By lot it was ``given`` to so many devices; of those that were ``exposed`` to it so many
    went bad, are good (their soak is over), or are ``undecided``. Of these, ``counted`` count for the comparison by
    now, ``counted_bad`` of them bad: a share (0–1) that lies between ``low`` and ``high``."""

    name: str
    release: str
    share: float
    given: int
    exposed: int
    bad: int
    good: int
    undecided: int
    counted: int
    counted_bad: int
    low: float
    high: float


class ComparedReading(Shown):
    """A reading of the plan's brake under both releases: by how much it moved on each device from before its switch to
    after it (``measure``: the value, or how it moves in a day), on average over the devices of each arm. ``difference``
    is the second's less the first's, between ``low`` and ``high``; None where too few have sent enough."""

    signal: str
    unit: str
    measure: Measure
    devices: list[int]
    means: list[float | None]
    difference: float | None
    low: float | None
    high: float | None
    differ: bool
    words: str


class ComparisonOut(Shown):
    """Two releases side by side. ``difference`` is the share of bad devices under the second less that under the first,
    between ``low`` and ``high``; ``evidence`` speaks against one rate for both, and proves it at ``proven_at``: at any
    time, and however often somebody looks. ``chosen`` names the arm that the rest gets, once somebody has chosen."""

    now: Time
    rollout_id: int
    confidence: float
    arms: list[ArmOut]
    difference: float | None
    low: float
    high: float
    evidence: float
    proven_at: float
    differ: bool
    readings: list[ComparedReading] = Field(default_factory=list)
    chosen: str | None
    words: str
