"""Events that an address did not take after all tries: nothing is lost without a word."""

from mellow_herald.service.context import Context
from mellow_herald.service.webhooks.addresses import open_address
from mellow_herald.store import webhooks as store
from mellow_herald.wire.webhook import DeadLetter


async def dead_letters(context: Context, webhook_id: int) -> list[DeadLetter]:
    """The events it did not take after all tries."""
    async with context.engine.connect() as connection:
        await open_address(connection, webhook_id)
        return [DeadLetter.model_validate(dict(row)) for row in await store.dead_letters(connection, webhook_id)]


async def redeliver(context: Context, webhook_id: int) -> int:
    """Tries its dead letters again; returns how many."""
    async with context.engine.begin() as connection:
        await open_address(connection, webhook_id)
        return await store.revive(connection, webhook_id, context.clock.real())
