"""The process that speaks CoAP: an intake and a feed of its own, and no HTTP."""

import asyncio
import signal
from collections.abc import Callable

import structlog

from mellow_herald.service.app import open_context
from mellow_herald.service.calls.intake import Intake
from mellow_herald.service.coap.bridge import Bridge
from mellow_herald.service.coap.registration import make_site
from mellow_herald.service.context import Context
from mellow_herald.service.feed import FeedReader
from mellow_herald.service.problems import say_trouble
from mellow_herald.service.settings import Settings
from mellow_herald.service.tasks import end
from mellow_herald.store.database import Pools
from mellow_herald.store.gate import Lock, hold
from mellow_herald.wire.oscore import pass_over_leftovers

log = structlog.get_logger()
AGAIN_S = 1.0


async def serve_coap(settings: Settings, url: str) -> None:
    """Serves CoAP until SIGTERM or SIGINT."""
    context = await open_context(settings, Pools(url))
    pools = context.pools
    intake = Intake(context.through(pools.devices))
    feed = FeedReader(context.through(pools.feed))
    stop = asyncio.Event()
    pass_over_leftovers(asyncio.get_running_loop())
    for number in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(number, stop.set)
    running = [intake.run(), feed.run(), keep_speaking(context.through(pools.work), intake)]
    tasks = [asyncio.create_task(one) for one in running]
    try:
        await stop.wait()
    finally:
        context.let_go()
        await end(tasks)
        await pools.dispose()


async def keep_speaking(
    context: Context, intake: Intake, begins: Callable[[Bridge], None] = lambda bridge: None
) -> None:
    """One process speaks for a database: another, on another machine, would take over."""
    while True:
        try:
            async with context.engine.connect() as connection:
                if await hold(connection, Lock.COAP):
                    try:
                        bridge = Bridge(context, intake)
                        begins(bridge)
                        await bridge.run(make_site(bridge), connection)
                    finally:
                        await connection.invalidate()  # the lock ends with the session
        except Exception as error:
            say_trouble("CoAP could not be served; trying again", error)
        await asyncio.sleep(AGAIN_S)
