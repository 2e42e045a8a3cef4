"""Rehearsals: what is asked, and what they answer."""

from typing import Annotated

from pydantic import AfterValidator, Field, StringConstraints

from mellow_herald.core.rehearsal.faults import NO_FAULT, parse_fault
from mellow_herald.wire.model import Duration, Model, Shown, Time, checked
from mellow_herald.wire.plan import PlanDocument

FaultText = Annotated[
    str,
    StringConstraints(min_length=1, max_length=500, pattern=r"^[^\x00]*$"),
    AfterValidator(lambda v: checked(v, parse_fault)),
    Field(examples=["none", "hw_rev = 2: 0.3 crashed", "0.05 crash-looping after 6h"]),
]


class RehearsalIn(Model):
    """A plan to be rehearsed with each of these ``faults`` (``none``, or ``[SELECTOR:] RATE REASON [after
    DURATION]``), in so many ``runs`` each; the same ``seed`` gives the same answer. ``people_after`` is after how long
    somebody says go or approves."""

    plan: PlanDocument
    faults: Annotated[list[FaultText], Field(min_length=1, max_length=6)] = Field(default_factory=lambda: ["none"])
    runs: Annotated[int, Field(strict=True, ge=10, le=1000)] = 200
    seed: Annotated[int, Field(strict=True, ge=0, le=2**31)] = 1
    people_after: Duration = "0s"


class TimeSpread(Shown):
    """The 10 %, 50 % and 90 % quantiles of a time; None where it never comes (within what was looked at)."""

    low: Time | None
    middle: Time | None
    high: Time | None


class NumberSpread(Shown):
    """The 10 %, 50 % and 90 % quantiles of a number."""

    low: float
    middle: float
    high: float


class RehearsedRing(Shown):
    """A ring: when it opens and is done, how many devices are exposed and hurt."""

    name: str
    devices: int
    opens: TimeSpread
    ends: TimeSpread
    exposed: NumberSpread
    hurt: NumberSpread


class Share(Shown):
    """Something that comes about in a share (0–1) of all runs; ``ring`` by its name, where it is of one."""

    words: str
    share: float
    ring: str | None = None


class NeverServed(Shown):
    """How many devices, on average, the release does not reach, which ``share`` (0–1) of all these are, and why: by
    the plan's key that they never meet, where it is that. Rehearsals of the first days do not tell the share."""

    words: str
    devices: float
    share: float | None = None


class RehearsedFan(Shown):
    """Quantiles over time of how many devices are good, and hurt."""

    at: list[Time]
    good_low: list[float]
    good: list[float]
    good_high: list[float]
    hurt_low: list[float]
    hurt: list[float]
    hurt_high: list[float]


class RehearsedFault(Shown):
    """What one fault does, or none. ``finishes``, ``halts`` are shares (0–1) of all runs; ``hurt_unseen`` are hurt
    after their soak, when no brake counts them; ``served`` is the share of devices that it reaches; ``peak`` the most
    bytes of an hour."""

    fault: str
    finishes: float
    done: TimeSpread
    halts: float
    halted_by: list[Share]
    stands: list[Share]
    rings: list[RehearsedRing]
    exposed: NumberSpread
    hurt: NumberSpread
    hurt_unseen: NumberSpread
    served: NumberSpread
    never: list[NeverServed]
    bytes: NumberSpread
    peak: NumberSpread
    fan: RehearsedFan

    @property
    def named(self) -> str:
        """The fault in words."""
        return "without a fault" if self.fault == NO_FAULT else f"with {self.fault}"


class LeverOut(Shown):
    """What a change of one of the plan's keys would do: seconds sooner without a fault, devices spared of the first
    fault (None if none was rehearsed)."""

    key: str
    words: str
    sooner_s: float
    spared: float | None


class RehearsedOut(Shown):
    """The answers, and what the model rests on: ``assumed`` is the share (0–1) of devices that have no week of their
    own and are taken to be as is usual for such devices; ``assumptions`` what was taken for granted besides."""

    devices: int
    assumed: float
    assumptions: list[str]
    faults: list[RehearsedFault]
    levers: list[LeverOut]
    took_s: float


class RehearsalOut(Shown):
    """A rehearsal: ``waiting`` for its turn, ``running`` (with its ``progress``, 0–1), ``done``, ``failed`` or
    ``cancelled``."""

    id: int
    name: str
    release: str
    faults: list[str]
    runs: int
    seed: int
    asked_by: str
    asked_at: Time
    state: str
    progress: float
    why: str | None
    plan: PlanDocument
    result: RehearsedOut | None
