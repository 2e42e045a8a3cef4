"""What people say about rollouts: approvals, and what was heard outside."""

from typing import Any

from fastapi import APIRouter, Request, Response

from mellow_herald.core.cloudevent import MEDIA_TYPE, read_cloud_event
from mellow_herald.service.api.parameters import Ctx, Id
from mellow_herald.service.people.callers import Anyone, Operator
from mellow_herald.service.people.narrowing import keep_rollout
from mellow_herald.service.problems import ProblemError, Responses, problems
from mellow_herald.service.rollouts import approvals, evidence, sent, shown
from mellow_herald.wire.rollout import ReasonIn, RolloutOut
from mellow_herald.wire.say import AcknowledgeIn, ApproveIn, EvidenceIn, EvidenceListOut, EvidenceOut, ToApprove

LARGEST_EVENT = 64 * 1024
ATTRIBUTES = {name: {"type": "string"} for name in ("specversion", "id", "source", "type", "subject")}
DATA: dict[str, Any] = {
    "type": "object",
    "required": ["kind", "text"],
    "properties": {
        "kind": {"type": "string", "examples": ["support-call"]},
        "text": {"type": "string"},
        "serial": {"type": "string"},
        "rollout": {"type": "integer"},
    },
}
EVENT: dict[str, Any] = {
    "requestBody": {
        "required": True,
        "description": "A CloudEvent 1.0, structured, or binary with ce- headers and its data as the body.",
        "content": {
            MEDIA_TYPE: {"schema": {"type": "object", "properties": {**ATTRIBUTES, "data": DATA}}},
            "application/json": {"schema": DATA},
        },
    }
}
BEFORE: Responses = {200: {"model": EvidenceOut, "description": "It was filed before."}}
router = APIRouter(tags=["say"])


@router.get("/rollouts/{rollout_id}/evidence", responses=problems(404))
async def list_evidence(rollout_id: Id, who: Anyone, context: Ctx) -> EvidenceListOut:
    """What was heard outside about a rollout, the newest first (at most 1,000), and how much of it beside the
    control."""
    async with context.engine.connect() as connection:
        return await evidence.show(connection, rollout_id)


@router.post("/rollouts/{rollout_id}/evidence", status_code=201, responses=problems(404, 409))
async def file_evidence(rollout_id: Id, body: EvidenceIn, who: Operator, context: Ctx) -> EvidenceOut:
    """Files something heard outside. A device that is named, and has the release, counts as bad; what names none holds
    the next ring until somebody has acknowledged it."""
    filed, _ = await evidence.file(context, rollout_id, body, who.name)
    return filed


@router.post("/rollouts/{rollout_id}/evidence/{evidence_id}/acknowledge", responses=problems(404, 409))
async def acknowledge_evidence(
    rollout_id: Id, evidence_id: Id, body: AcknowledgeIn, who: Operator, context: Ctx
) -> EvidenceOut:
    """Says that somebody has looked at what names no device: it holds no ring any more."""
    return await evidence.acknowledge(context, rollout_id, evidence_id, body, who.name)


@router.post("/rollouts/{rollout_id}/evidence/{evidence_id}/withdraw", responses=problems(404, 409))
async def withdraw_evidence(
    rollout_id: Id, evidence_id: Id, body: ReasonIn, who: Operator, context: Ctx
) -> EvidenceOut:
    """Takes back what was wrong: it stays on record, and counts no more."""
    return await evidence.withdraw(context, rollout_id, evidence_id, body.reason, who.name)


@router.post("/evidence", status_code=201, responses={**problems(404, 409, 413), **BEFORE}, openapi_extra=EVENT)
async def take_event(request: Request, response: Response, who: Operator, context: Ctx) -> EvidenceOut:
    """Files what a ticket or monitoring system sends, as a CloudEvent; its token may be one for this alone. The same
    event twice is filed once (then 200)."""
    body = bytearray()
    async for piece in request.stream():
        body += piece
        if len(body) > LARGEST_EVENT:
            raise ProblemError(413, "too-large", f"An event may have at most {LARGEST_EVENT} bytes.")
    event = read_cloud_event(request.headers, bytes(body))
    asked = sent.read(event)
    rollout_id = await sent.rollout_of(context, asked)
    async with context.engine.connect() as connection:
        await keep_rollout(connection, context, who.only, rollout_id)
    by = who.name if who.by_token is None else f"{who.by_token} ({who.name})"
    filed, new = await evidence.file(context, rollout_id, asked.evidence, by, (event.source, event.id))
    response.status_code = 201 if new else 200
    return filed


@router.get("/rollouts/{rollout_id}/approvals", responses=problems(404))
async def show_approvals(rollout_id: Id, who: Anyone, context: Ctx) -> ToApprove:
    """Which ring asks for an approval, what there is to see before it is given, whether the caller may give it, and
    those that were given."""
    return await approvals.look(context, rollout_id, who)


@router.post("/rollouts/{rollout_id}/approvals", responses=problems(404, 409))
async def approve(rollout_id: Id, body: ApproveIn, who: Anyone, context: Ctx) -> RolloutOut:
    """Says yes to the ring that asks for an approval; what there was to see is kept with it."""
    await approvals.approve(context, rollout_id, body, who)
    return await shown.show(context, rollout_id)
