"""What failing devices have in common."""

from mellow_herald.core.plan import BrakeKind
from mellow_herald.wire.model import Shown


class SuspectOut(Shown):
    """A fact, or two, that bad devices have more often than chance would have it: ``bad`` of ``devices`` that have it,
    ``other_bad`` of ``others`` that do not; the ``difference`` of the rates with its 95 % interval; Fisher's ``p``, and
    ``q``, the rate of false discoveries at which it is named. ``selector`` can be pasted into ``resume --except``."""

    words: str
    selector: str
    devices: int
    bad: int
    rate: float
    others: int
    other_bad: int
    other_rate: float
    difference: float
    low: float
    high: float
    p: float
    q: float


class SuspectsOut(Shown):
    """The suspects of a rollout, the strongest first, among its ``decided`` devices; of all that are named, at most the
    share ``false_rate`` is expected to be false. Where none is beyond chance, ``candidate`` is the fact that comes
    nearest. Devices that the rollout left out are no evidence, unless they were asked for (``excepted``)."""

    rollout: int
    kind: BrakeKind
    decided: int
    bad: int
    false_rate: float
    excepted: bool
    suspects: list[SuspectOut]
    candidate: SuspectOut | None
    words: str
