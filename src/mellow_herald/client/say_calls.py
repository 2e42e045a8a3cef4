"""Every call about what people say of rollouts: approvals, and what was heard outside."""

import json
from collections.abc import Mapping
from typing import Any

from mellow_herald.client.calls import API, Call, get, post, reader
from mellow_herald.core.cloudevent import MEDIA_TYPE
from mellow_herald.wire.rollout import ReasonIn, RolloutOut
from mellow_herald.wire.say import AcknowledgeIn, ApproveIn, EvidenceIn, EvidenceListOut, EvidenceOut, ToApprove


def list_evidence(rollout_id: int) -> Call[EvidenceListOut]:
    """What was heard outside about a rollout."""
    path = f"{API}/rollouts/{rollout_id}/evidence"
    return get(f"listing what was heard about rollout {rollout_id}", path, EvidenceListOut)


def file_evidence(rollout_id: int, request: EvidenceIn) -> Call[EvidenceOut]:
    """Files something heard outside."""
    return post("filing outside evidence", f"{API}/rollouts/{rollout_id}/evidence", EvidenceOut, request)


def acknowledge(rollout_id: int, evidence_id: int, request: AcknowledgeIn) -> Call[EvidenceOut]:
    """Says that somebody has looked at it."""
    path = f"{API}/rollouts/{rollout_id}/evidence/{evidence_id}/acknowledge"
    return post(f"acknowledging evidence {evidence_id}", path, EvidenceOut, request)


def withdraw(rollout_id: int, evidence_id: int, request: ReasonIn) -> Call[EvidenceOut]:
    """Takes back what was wrong."""
    path = f"{API}/rollouts/{rollout_id}/evidence/{evidence_id}/withdraw"
    return post(f"withdrawing evidence {evidence_id}", path, EvidenceOut, request)


def send_event(event: Mapping[str, Any]) -> Call[EvidenceOut]:
    """Sends evidence as a CloudEvent; the same one twice is filed once."""
    body, headers = json.dumps(event).encode(), {"content-type": MEDIA_TYPE}
    return Call(
        "sending outside evidence", "POST", f"{API}/evidence", reader(EvidenceOut), {}, body, headers, repeatable=True
    )


def show_approvals(rollout_id: int) -> Call[ToApprove]:
    """What there is to see before somebody approves, and who did."""
    path = f"{API}/rollouts/{rollout_id}/approvals"
    return get(f"looking at the approvals of rollout {rollout_id}", path, ToApprove)


def approve(rollout_id: int, request: ApproveIn) -> Call[RolloutOut]:
    """Says yes to the ring that asks for it."""
    return post(f"approving rollout {rollout_id}", f"{API}/rollouts/{rollout_id}/approvals", RolloutOut, request)
