"""Webhooks and what they have not taken yet."""

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import delete, func, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.store.database import fetch_all
from mellow_herald.store.rows import StoredDelivery, StoredWebhook
from mellow_herald.store.tables import Delivery, Webhook


class ShownWebhook(StoredWebhook):
    """A webhook, how many events wait for it, how many it did not take, and why the newest was not taken."""

    waiting: int
    dead: int
    failure: str | None


async def add_webhook(connection: AsyncConnection, values: dict[str, Any]) -> int:
    """Adds a webhook; returns its id."""
    done = await connection.execute(insert(Webhook).values(**values).returning(Webhook.id))
    return int(done.scalar_one())


async def list_webhooks(connection: AsyncConnection, webhook_id: int | None = None) -> list[ShownWebhook]:
    """All webhooks (or one) with how many events are ``waiting`` and ``dead``, and the newest ``failure``."""
    own = Delivery.webhook_id == Webhook.id
    newest = select(Delivery.failure).where(own, Delivery.failure != "").order_by(Delivery.id.desc()).limit(1)
    statement = select(
        Webhook.__table__,
        select(func.count()).where(own, ~Delivery.dead).scalar_subquery().label("waiting"),
        select(func.count()).where(own, Delivery.dead).scalar_subquery().label("dead"),
        func.coalesce(newest.scalar_subquery(), "").label("failure"),
    ).order_by(Webhook.id)
    if webhook_id is not None:
        statement = statement.where(Webhook.id == webhook_id)
    return await fetch_all(connection, statement, ShownWebhook)


async def open_webhooks(connection: AsyncConnection) -> list[StoredWebhook]:
    """Those that events are sent to."""
    statement = select(Webhook.__table__).where(Webhook.closed_at.is_(None)).order_by(Webhook.id)
    return await fetch_all(connection, statement, StoredWebhook)


async def change_webhook(connection: AsyncConnection, webhook_id: int, **values: Any) -> None:
    """Writes columns of a webhook."""
    await connection.execute(update(Webhook).where(Webhook.id == webhook_id).values(**values))


async def queue_events(
    connection: AsyncConnection, webhook_id: int, events: Sequence[tuple[int, dict[str, Any]]], now: datetime, upto: int
) -> None:
    """Puts events (number and CloudEvent) in the queue of a webhook, and notes that all up to ``upto`` were looked
    at."""
    rows = [
        {
            "webhook_id": webhook_id,
            "event": number,
            "body": body,
            "dead": False,
            "tries": 0,
            "made_at": now,
            "next_at": now,
            "failure": "",
        }
        for number, body in events
    ]
    if rows:
        await connection.execute(insert(Delivery).on_conflict_do_nothing(), rows)
    await change_webhook(connection, webhook_id, cursor=upto)


async def due_deliveries(
    connection: AsyncConnection, webhook_id: int, now: datetime, limit: int
) -> list[StoredDelivery]:
    """The oldest events that a webhook is to be sent now. Order is kept: nothing goes before an older one that
    waits."""
    statement = (
        select(Delivery.__table__)
        .where(Delivery.webhook_id == webhook_id, ~Delivery.dead)
        .order_by(Delivery.event)
        .limit(limit)
    )
    rows = await fetch_all(connection, statement, StoredDelivery)
    return rows if rows and rows[0]["next_at"] <= now else []


async def delivered(connection: AsyncConnection, row: StoredDelivery, now: datetime) -> None:
    """The webhook took it."""
    await connection.execute(delete(Delivery).where(Delivery.id == row["id"]))
    statement = update(Webhook).where(Webhook.id == row["webhook_id"])
    await connection.execute(statement.values(delivered=Webhook.delivered + 1, delivered_at=now))


async def not_delivered(
    connection: AsyncConnection, delivery_id: int, tries: int, failure: str, next_at: datetime, *, dead: bool
) -> None:
    """The webhook did not take it."""
    statement = update(Delivery).where(Delivery.id == delivery_id)
    await connection.execute(statement.values(tries=tries, failure=failure, next_at=next_at, dead=dead))


async def dead_letters(connection: AsyncConnection, webhook_id: int, limit: int = 1000) -> list[StoredDelivery]:
    """The events it did not take after all tries, oldest first."""
    statement = select(Delivery.__table__).where(Delivery.webhook_id == webhook_id, Delivery.dead)
    return await fetch_all(connection, statement.order_by(Delivery.event).limit(limit), StoredDelivery)


async def revive(connection: AsyncConnection, webhook_id: int, now: datetime) -> int:
    """Puts its dead letters back in the queue; returns how many."""
    statement = update(Delivery).where(Delivery.webhook_id == webhook_id, Delivery.dead)
    return (await connection.execute(statement.values(dead=False, tries=0, next_at=now))).rowcount


async def drop_queue(connection: AsyncConnection, webhook_id: int) -> None:
    """Forgets what a closed webhook has not taken."""
    await connection.execute(delete(Delivery).where(Delivery.webhook_id == webhook_id))
