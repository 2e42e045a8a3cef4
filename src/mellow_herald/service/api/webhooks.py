"""Webhooks."""

from fastapi import APIRouter

from mellow_herald.service.api.parameters import Ctx, Id
from mellow_herald.service.people.callers import Operator
from mellow_herald.service.problems import problems
from mellow_herald.service.webhooks import addresses, dead_letters
from mellow_herald.wire.webhook import DeadLetter, RedeliverOut, WebhookIn, WebhookOut

router = APIRouter(tags=["webhooks"])


@router.post("/webhooks", status_code=201, responses=problems())
async def add_webhook(body: WebhookIn, who: Operator, context: Ctx) -> WebhookOut:
    """Sends events on to an address from now on. The secret its calls are signed with is shown this once."""
    return await addresses.add(context, body, who.name)


@router.get("/webhooks", responses=problems())
async def list_webhooks(who: Operator, context: Ctx) -> list[WebhookOut]:
    """Webhooks, and how they fare."""
    return await addresses.show_all(context)


@router.delete("/webhooks/{webhook_id}", status_code=204, responses=problems(404))
async def close_webhook(webhook_id: Id, who: Operator, context: Ctx) -> None:
    """Sends nothing there any more."""
    await addresses.close(context, webhook_id, who.name)


@router.get("/webhooks/{webhook_id}/dead", responses=problems(404))
async def list_dead_letters(webhook_id: Id, who: Operator, context: Ctx) -> list[DeadLetter]:
    """The events it did not take after all tries, oldest first (at most 1,000)."""
    return await dead_letters.dead_letters(context, webhook_id)


@router.post("/webhooks/{webhook_id}/redeliver", responses=problems(404))
async def redeliver(webhook_id: Id, who: Operator, context: Ctx) -> RedeliverOut:
    """Tries its dead letters again."""
    return RedeliverOut(events=await dead_letters.redeliver(context, webhook_id))
