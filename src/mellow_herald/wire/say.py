"""What people say about rollouts: approvals, and what was heard outside."""

from typing import Annotated, Any

from pydantic import Field, StrictBool, StringConstraints

from mellow_herald.core.say import Asks
from mellow_herald.wire.model import Model, Reason, Shown, Time
from mellow_herald.wire.plan import Kind

Said = Annotated[str, StringConstraints(min_length=3, max_length=2000, pattern=r"^[^\x00]*$")]
Serial = Annotated[str, StringConstraints(min_length=1, max_length=200, pattern=r"^[^\x00-\x1f]*$")]
RingPosition = Annotated[int, Field(strict=True, ge=0, le=50)]


class EvidenceIn(Model):
    """Something heard outside: what ``kind`` of thing it is (``support-call``, ``alarm``, …), what was said, and of
    which device, where that is known."""

    kind: Kind
    text: Said
    serial: Serial | None = None


class AcknowledgeIn(Model):
    """What somebody found who looked at it; ``unrelated``: that it has nothing to do with the release."""

    reason: Reason
    unrelated: StrictBool = False


class EvidenceOut(Shown):
    """Something heard outside about a rollout. ``exposed``: its device had the release by then, so it ``counts`` as
    bad, until it is withdrawn; without a device it holds the next ring until it is acknowledged. ``source`` names who
    sent it as a CloudEvent."""

    id: int
    rollout_id: int
    kind: str
    text: str
    serial: str | None
    exposed: bool
    counts: bool
    waits: bool
    at: Time
    filed_by: str
    source: str | None
    acknowledged_at: Time | None
    acknowledged_by: str | None
    acknowledged_why: str | None
    unrelated: bool
    withdrawn_at: Time | None
    withdrawn_by: str | None
    withdrawn_why: str | None


class EvidenceListOut(Shown):
    """All that was heard outside about a rollout, the newest first: ``named`` of ``exposed`` devices that have the
    release are named, and ``named_others`` of ``others`` that do not, as a control. ``unseen`` name no device, and
    nobody has acknowledged them. ``words`` say so."""

    named: int
    exposed: int
    named_others: int
    others: int
    unseen: int
    withdrawn: int
    words: str
    items: list[EvidenceOut]


class ApproveIn(Model):
    """Why a ring may open; ``ring`` is its position, the one that asks by default."""

    ring: RingPosition | None = None
    reason: Reason


class ApprovalOut(Shown):
    """A person's yes to a ring (its position) in a round. ``shown`` is what they had before them; ``void_why`` says why
    it counts no more."""

    ring: int
    round: int
    at: Time
    by: str
    reason: str
    shown: dict[str, Any]
    void_why: str | None


class ToApprove(Shown):
    """What there is to see before somebody approves: which ``ring`` (position) asks for what, with how many devices,
    what the brakes, the control, the harm budget, the two releases ``compared``, the rehearsals of its plan and those
    outside say. ``may`` tells
    whether the caller may give it, ``why_not`` if not."""

    ring: int | None
    name: str | None
    devices: int
    asks: Asks | None
    asks_why: str | None
    hurt: int
    exposed: int
    brakes: list[str]
    control: str | None
    budget: str | None
    compared: list[str] = Field(default_factory=list)
    rehearsed: list[str] = Field(default_factory=list)
    evidence: EvidenceListOut
    approvals: list[ApprovalOut] = Field(default_factory=list)
    may: bool
    why_not: str | None
