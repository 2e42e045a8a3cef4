"""Events sent on to other programs: queued in the database as they are sealed, sent in order, tried again, never lost
without a word."""

import asyncio
import json
import secrets
from collections.abc import Mapping
from datetime import datetime, timedelta
from typing import Any

import httpx
import structlog

from mellow_herald.core.cloudevent import cloud_event, sign_call
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.store import webhooks as store
from mellow_herald.store.feed import JournalEntry, newest_sealed, read_feed, write_journal
from mellow_herald.store.gate import Lock, try_take
from mellow_herald.wire.webhook import DeadLetter, WebhookIn, WebhookOut

log = structlog.get_logger()
TURN_SECONDS = 1.0
AT_ONCE = 100
TRIES = 8
FIRST_PAUSE, LONGEST_PAUSE = timedelta(seconds=2), timedelta(minutes=10)  # real time: it is others who are waited for
ANSWER_SECONDS = 10.0
SAID = 300
SOURCE = "/mellow-herald"


async def add(context: Context, said: WebhookIn, by: str) -> WebhookOut:
    """Makes a webhook, for events from now on."""
    secret = secrets.token_urlsafe(32)
    async with context.engine.begin() as connection:
        values = {
            "url": said.url, "secret": secret, "kinds": list(said.kinds), "note": said.note, "made_by": by,
            "made_at": context.clock.real(), "cursor": await newest_sealed(connection), "delivered": 0,
        }  # fmt: skip
        webhook_id = await store.add_webhook(connection, values)
        entry = JournalEntry(
            context.clock.now(), by, "webhook made", f"webhook {webhook_id}", said.note or "events are to go there",
            {"url": said.url, "kinds": list(said.kinds)},
        )  # fmt: skip
        await write_journal(connection, entry)
        (row,) = await store.list_webhooks(connection, webhook_id)
    return WebhookOut.model_validate({**row, "secret": secret})


async def show_all(context: Context) -> list[WebhookOut]:
    """All webhooks, without their secrets."""
    async with context.engine.connect() as connection:
        return [WebhookOut.model_validate({**row, "secret": None}) for row in await store.list_webhooks(connection)]


async def close(context: Context, webhook_id: int, by: str) -> None:
    """Sends nothing there any more; what it has not taken is forgotten."""
    async with context.engine.begin() as connection:
        await _row(connection, webhook_id)
        await store.change_webhook(connection, webhook_id, closed_at=context.clock.real())
        await store.drop_queue(connection, webhook_id)
        entry = JournalEntry(context.clock.now(), by, "webhook closed", f"webhook {webhook_id}", "no longer wanted")
        await write_journal(connection, entry)


async def dead_letters(context: Context, webhook_id: int) -> list[DeadLetter]:
    """The events it did not take after all tries."""
    async with context.engine.connect() as connection:
        await _row(connection, webhook_id)
        return [DeadLetter.model_validate(dict(row)) for row in await store.dead_letters(connection, webhook_id)]


async def redeliver(context: Context, webhook_id: int) -> int:
    """Tries its dead letters again; returns how many."""
    async with context.engine.begin() as connection:
        await _row(connection, webhook_id)
        return await store.revive(connection, webhook_id, context.clock.real())


async def keep_sending(context: Context) -> None:
    """Sends until cancelled. One process sends at a time; a killed one leaves the queue to the others."""
    limits = httpx.Limits(max_connections=20)
    async with httpx.AsyncClient(timeout=ANSWER_SECONDS, trust_env=False, limits=limits) as http:
        while True:
            try:
                await send_round(context, http)
            except Exception:
                log.exception("webhooks could not be served; trying again")
            await asyncio.sleep(TURN_SECONDS)


async def send_round(context: Context, http: httpx.AsyncClient) -> None:
    """Queues what is new and sends what is due."""
    async with context.engine.begin() as connection:
        # The lock is kept while sending, so that no two processes bring the same event; nothing else waits for it.
        if not await try_take(connection, Lock.WEBHOOKS):
            return
        async with context.engine.connect() as reading:
            hooks = await store.open_webhooks(reading)
        await asyncio.gather(*(_serve(context, http, hook) for hook in hooks))


async def _serve(context: Context, http: httpx.AsyncClient, hook: Mapping[str, Any]) -> None:
    async with context.engine.begin() as connection:
        rows = await read_feed(connection, hook["cursor"])
        if rows:
            wanted = [
                (row["sealed"], cloud_event({**row, "id": row["sealed"], "at": row["at"].isoformat()}, SOURCE))
                for row in rows
                if row["kind"] in hook["kinds"] and (row["kind"] != "attempt" or row["data"].get("moved"))
            ]
            await store.queue_events(connection, hook["id"], wanted, context.clock.real(), rows[-1]["sealed"])
    async with context.engine.connect() as connection:
        due = await store.due_deliveries(connection, hook["id"], context.clock.real(), AT_ONCE)
    for row in due:
        failure = await _send(context, http, hook, row)
        now = context.clock.real()
        async with context.engine.begin() as connection:
            if failure is None:
                await store.delivered(connection, row, now)
                continue
            tries = row["tries"] + 1
            await store.not_delivered(connection, row["id"], tries, failure, _next_try(now, tries), dead=tries >= TRIES)
        return  # what comes after it waits, so that events arrive in order


async def _send(
    context: Context, http: httpx.AsyncClient, hook: Mapping[str, Any], row: Mapping[str, Any]
) -> str | None:
    """Sends one event; returns what went wrong, None if it was taken."""
    body = json.dumps(row["body"], separators=(",", ":")).encode()
    created = int(context.clock.real().timestamp())
    headers = sign_call(hook["secret"], f"webhook-{hook['id']}", hook["url"], body, created)
    try:
        response = await http.post(hook["url"], content=body, headers=headers)
    except httpx.HTTPError as error:
        return (str(error) or type(error).__name__)[:SAID]
    return None if response.is_success else f"it answered {response.status_code}: {response.text[:SAID]}".strip()


def _next_try(now: datetime, tries: int) -> datetime:
    return now + min(LONGEST_PAUSE, FIRST_PAUSE * 2 ** (tries - 1))


async def _row(connection: Any, webhook_id: int) -> Mapping[str, Any]:
    rows = await store.list_webhooks(connection, webhook_id)
    if not rows or rows[0]["closed_at"] is not None:
        raise ProblemError(404, "not-found", f"There is no open webhook {webhook_id}. See `herald webhook list`.")
    return rows[0]
