# Written by `make client` from ../asynchronous; change it there.
"""Approvals and outside evidence, by the synchronous client."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from mellow_herald.client import say_calls as calls
from mellow_herald.wire.rollout import ReasonIn, RolloutOut
from mellow_herald.wire.say import AcknowledgeIn, ApproveIn, EvidenceIn, EvidenceListOut, EvidenceOut, ToApprove

if TYPE_CHECKING:
    from mellow_herald.client.synchronous.herald import Herald


class Evidence:
    """What was heard outside about rollouts."""

    def __init__(self, herald: "Herald") -> None:
        self._herald = herald

    def list(self, rollout_id: int) -> EvidenceListOut:
        """What was heard about a rollout, the newest first, and how much beside the control."""
        return self._herald.send(calls.list_evidence(rollout_id))

    def file(self, rollout_id: int, kind: str, text: str, *, serial: str | None = None) -> EvidenceOut:
        """Files something heard outside; a device that is named, and has the release, counts as bad."""
        asked = EvidenceIn(kind=kind, text=text, serial=serial)
        return self._herald.send(calls.file_evidence(rollout_id, asked))

    def acknowledge(self, rollout_id: int, evidence_id: int, reason: str, *, unrelated: bool = False) -> EvidenceOut:
        """Says that somebody has looked at what names no device: it holds no ring any more."""
        asked = AcknowledgeIn(reason=reason, unrelated=unrelated)
        return self._herald.send(calls.acknowledge(rollout_id, evidence_id, asked))

    def withdraw(self, rollout_id: int, evidence_id: int, reason: str) -> EvidenceOut:
        """Takes back what was wrong: it stays on record, and counts no more."""
        return self._herald.send(calls.withdraw(rollout_id, evidence_id, ReasonIn(reason=reason)))

    def send_event(self, event: Mapping[str, Any]) -> EvidenceOut:
        """Sends evidence as a CloudEvent, as ticket and monitoring systems do."""
        return self._herald.send(calls.send_event(event))


class Approvals:
    """A second person's yes."""

    def __init__(self, herald: "Herald") -> None:
        self._herald = herald

    def show(self, rollout_id: int) -> ToApprove:
        """Which ring asks, what there is to see, whether the caller may approve, and who did."""
        return self._herald.send(calls.show_approvals(rollout_id))

    def approve(self, rollout_id: int, reason: str, *, ring: int | None = None) -> RolloutOut:
        """Says yes to the ring (position) that asks for it."""
        return self._herald.send(calls.approve(rollout_id, ApproveIn(ring=ring, reason=reason)))
