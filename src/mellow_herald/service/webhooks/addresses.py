"""Where events are sent on to."""

import secrets
from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.webhooks.guard import Network, NotCallableError, read_address, read_networks, resolve
from mellow_herald.store import webhooks as store
from mellow_herald.store.feed import JournalEntry, newest_sealed, write_journal
from mellow_herald.wire.webhook import WebhookIn, WebhookOut


async def check_address(address: str, allowed: Sequence[Network]) -> None:
    """Raises a problem for an address that no call can, or may, be made to: better now than at every event."""
    try:
        await resolve(read_address(address), allowed)
    except NotCallableError as error:
        raise ProblemError(422, "bad-values", f"url: {error}") from None


async def add(context: Context, asked: WebhookIn, by: str) -> WebhookOut:
    """Makes a webhook, for events from now on."""
    await check_address(asked.url, read_networks(context.settings.webhook_allow))
    secret = secrets.token_urlsafe(32)
    async with context.engine.begin() as connection:
        values = {
            "url": asked.url,
            "secret": secret,
            "kinds": list(asked.kinds),
            "headers": asked.headers,
            "note": asked.note,
            "made_by": by,
            "made_at": context.clock.real(),
            "cursor": await newest_sealed(connection),
            "delivered": 0,
        }
        webhook_id = await store.add_webhook(connection, values)
        entry = JournalEntry(
            context.clock.now(),
            by,
            "webhook made",
            f"webhook {webhook_id}",
            asked.note or "events are to go there",
            # Everybody may read the journal: what is asked of the receiver may be a secret.
            {"url": asked.url.partition("?")[0], "kinds": list(asked.kinds)},
        )
        await write_journal(connection, entry)
        (row,) = await store.list_webhooks(connection, webhook_id)
    return _shown(row, secret)


async def show_all(context: Context) -> list[WebhookOut]:
    """All webhooks, without their secrets."""
    async with context.engine.connect() as connection:
        return [_shown(row, None) for row in await store.list_webhooks(connection)]


async def close(context: Context, webhook_id: int, by: str) -> None:
    """Sends nothing there any more; what it has not taken is forgotten."""
    async with context.engine.begin() as connection:
        await open_address(connection, webhook_id)
        await store.change_webhook(connection, webhook_id, closed_at=context.clock.real())
        await store.drop_queue(connection, webhook_id)
        entry = JournalEntry(context.clock.now(), by, "webhook closed", f"webhook {webhook_id}", "no longer wanted")
        await write_journal(connection, entry)


async def open_address(connection: AsyncConnection, webhook_id: int) -> Mapping[str, Any]:
    """A webhook that is not closed; a problem if there is none of that number."""
    rows = await store.list_webhooks(connection, webhook_id)
    if not rows or rows[0]["closed_at"] is not None:
        raise ProblemError(404, "not-found", f"There is no open webhook {webhook_id}. See `herald webhook list`.")
    return rows[0]


def _shown(row: Mapping[str, Any], secret: str | None) -> WebhookOut:
    return WebhookOut.model_validate({**row, "headers": sorted(row["headers"]), "secret": secret})
