"""Events sent on to other programs: queued in the database as they are sealed, sent in order, tried again, never lost
without a word.

One process sends at a time, each webhook in a task of its own, so that a slow receiver, or one that is gone, keeps
nobody else waiting.
"""

import asyncio
import json
from datetime import datetime, timedelta

import httpx
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.cloudevent import cloud_event, sign_call
from mellow_herald.service.context import Context
from mellow_herald.service.problems import say_trouble
from mellow_herald.service.webhooks.guard import NotCallableError, read_address, read_networks, resolve
from mellow_herald.store import webhooks as store
from mellow_herald.store.feed import read_feed
from mellow_herald.store.gate import Lock, hold
from mellow_herald.store.rows import StoredDelivery, StoredWebhook

TURN_SECONDS = 1.0
AT_ONCE = 100
TRIES = 8
FIRST_PAUSE, LONGEST_PAUSE = timedelta(seconds=2), timedelta(minutes=10)  # real time: it is others who are waited for
# For name, connection and the whole answer together; and how much of the answer is taken before it is let go.
ANSWER_SECONDS = 10.0
ANSWER_BYTES = 4096
SHOWN = 300
SOURCE = "/mellow-herald"


async def keep_sending(context: Context) -> None:
    """Sends until cancelled. One process sends at a time; a killed one leaves the queue to the others."""
    async with httpx.AsyncClient(timeout=ANSWER_SECONDS, trust_env=False, follow_redirects=False) as http:
        while True:
            try:
                async with context.engine.connect() as connection:
                    if await hold(connection, Lock.WEBHOOKS):
                        await _send_for_all(context, connection, http)
            except Exception as error:
                say_trouble("webhooks could not be served; trying again", error)
            await asyncio.sleep(TURN_SECONDS)


async def _send_for_all(context: Context, holding: AsyncConnection, http: httpx.AsyncClient) -> None:
    """Sends for as long as ``holding``, by which no other process does, is there."""
    tasks: dict[int, asyncio.Task[None]] = {}
    try:
        while True:
            open_now = {hook["id"] for hook in await store.open_webhooks(holding)}
            await holding.rollback()
            for webhook_id in tasks.keys() - open_now:
                tasks.pop(webhook_id).cancel()
            for webhook_id in open_now - tasks.keys():
                tasks[webhook_id] = asyncio.create_task(_keep_serving(context, http, webhook_id))
            await asyncio.sleep(TURN_SECONDS)
    finally:
        for task in tasks.values():
            task.cancel()
        await asyncio.gather(*tasks.values(), return_exceptions=True)
        await holding.invalidate()  # the lock ends with the session


async def _keep_serving(context: Context, http: httpx.AsyncClient, webhook_id: int) -> None:
    while True:
        try:
            await _serve(context, http, webhook_id)
        except Exception as error:
            say_trouble("a webhook could not be served; trying again", error, webhook=webhook_id)
        await asyncio.sleep(TURN_SECONDS)


async def _serve(context: Context, http: httpx.AsyncClient, webhook_id: int) -> None:
    """Queues what is new for a webhook and sends what is due."""
    async with context.engine.begin() as connection:
        hooks = [hook for hook in await store.open_webhooks(connection) if hook["id"] == webhook_id]
        if not hooks:
            return
        (hook,) = hooks
        rows = await read_feed(connection, hook["cursor"])
        if rows:
            wanted = [
                (row["sealed"], cloud_event({**row, "id": row["sealed"], "at": row["at"].isoformat()}, SOURCE))
                for row in rows
                if row["kind"] in hook["kinds"] and (row["kind"] != "attempt" or row["data"].get("moved"))
            ]
            await store.queue_events(connection, webhook_id, wanted, context.clock.real(), rows[-1]["sealed"])
        due = await store.due_deliveries(connection, webhook_id, context.clock.real(), AT_ONCE)
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
    """Sends one event; returns what went wrong, None if it was taken. What a receiver answers is not shown: it may be
    one that the caller could not have asked."""
    try:
        async with asyncio.timeout(ANSWER_SECONDS):
            status = await _post(context, http, hook, row)
    except TimeoutError:
        return f"it did not answer within {ANSWER_SECONDS:g} s"
    except NotCallableError as error:
        return str(error)[:SHOWN]
    except Exception as error:  # whatever a receiver, or a library, makes of it: it is a try that failed
        while isinstance(error, ExceptionGroup):
            error = error.exceptions[0]
        return (str(error) or type(error).__name__)[:SHOWN]
    return None if 200 <= status < 300 else f"it answered {status}"


async def _post(context: Context, http: httpx.AsyncClient, hook: StoredWebhook, row: StoredDelivery) -> int:
    url = read_address(hook["url"])
    address = await resolve(url, read_networks(context.settings.webhook_allow))
    body = json.dumps(row["body"], separators=(",", ":")).encode()
    created = int(context.clock.real().timestamp())
    headers = {
        **hook["headers"],
        **sign_call(hook["secret"], f"webhook-{hook['id']}", hook["url"], body, created),
        "host": url.netloc.decode("ascii"),
        "accept-encoding": "identity",
    }
    # By its number, so that it is the address that was looked at; by its name for TLS.
    request = http.build_request(
        "POST", url.copy_with(host=address), content=body, headers=headers, extensions={"sni_hostname": url.host}
    )
    response = await http.send(request, stream=True)
    try:
        taken = 0
        async for piece in response.aiter_raw():  # as it came: nothing is unpacked
            taken += len(piece)
            if taken > ANSWER_BYTES:
                break
    finally:
        await response.aclose()
    return response.status_code


def _next_try(now: datetime, tries: int) -> datetime:
    return now + min(LONGEST_PAUSE, FIRST_PAUSE * float(2 ** (tries - 1)))
