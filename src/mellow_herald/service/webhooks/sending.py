"""Events sent on to other programs: queued in the database as they are sealed, sent in order, tried again, never lost
without a word."""

import asyncio
import json
from datetime import datetime, timedelta

import httpx

from mellow_herald.core.cloudevent import cloud_event, sign_call
from mellow_herald.service.context import Context
from mellow_herald.service.problems import say_trouble
from mellow_herald.store import webhooks as store
from mellow_herald.store.feed import read_feed
from mellow_herald.store.gate import Lock, try_take
from mellow_herald.store.rows import StoredDelivery, StoredWebhook

TURN_SECONDS = 1.0
AT_ONCE = 100
TRIES = 8
FIRST_PAUSE, LONGEST_PAUSE = timedelta(seconds=2), timedelta(minutes=10)  # real time: it is others who are waited for
ANSWER_SECONDS = 10.0
SHOWN = 300
SOURCE = "/mellow-herald"


async def keep_sending(context: Context) -> None:
    """Sends until cancelled. One process sends at a time; a killed one leaves the queue to the others."""
    limits = httpx.Limits(max_connections=20)
    async with httpx.AsyncClient(timeout=ANSWER_SECONDS, trust_env=False, limits=limits) as http:
        while True:
            try:
                await send_round(context, http)
            except Exception as error:
                say_trouble("webhooks could not be served; trying again", error)
            await asyncio.sleep(TURN_SECONDS)


async def send_round(context: Context, http: httpx.AsyncClient) -> None:
    """Queues what is new and sends what is due."""
    async with context.engine.begin() as connection:
        # The lock is kept while sending, so that no two processes bring the same event; nothing else waits for it.
        if not await try_take(connection, Lock.WEBHOOKS):
            return
        async with context.engine.connect() as reading:
            hooks = await store.open_webhooks(reading)
        done = await asyncio.gather(*(_serve(context, http, hook) for hook in hooks), return_exceptions=True)
    # What is wrong with one must not stand in the way of the others.
    for hook, failure in zip(hooks, done, strict=True):
        if isinstance(failure, Exception):
            say_trouble("a webhook could not be served; trying again", failure, webhook=hook["id"])


async def _serve(context: Context, http: httpx.AsyncClient, hook: StoredWebhook) -> None:
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


async def _send(context: Context, http: httpx.AsyncClient, hook: StoredWebhook, row: StoredDelivery) -> str | None:
    """Sends one event; returns what went wrong, None if it was taken."""
    body = json.dumps(row["body"], separators=(",", ":")).encode()
    created = int(context.clock.real().timestamp())
    headers = sign_call(hook["secret"], f"webhook-{hook['id']}", hook["url"], body, created)
    try:
        response = await http.post(hook["url"], content=body, headers=headers)
    except Exception as error:  # also what an address that nobody can call makes of itself, deep in a library
        while isinstance(error, ExceptionGroup):
            error = error.exceptions[0]
        return (str(error) or type(error).__name__)[:SHOWN]
    return None if response.is_success else f"it answered {response.status_code}: {response.text[:SHOWN]}".strip()


def _next_try(now: datetime, tries: int) -> datetime:
    return now + min(LONGEST_PAUSE, FIRST_PAUSE * float(2 ** (tries - 1)))
