"""The application: what one service process serves and runs beside."""

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager, suppress
from functools import cache
from typing import Any

import structlog
from fastapi import Depends, FastAPI
from starlette.routing import Route

from mellow_herald import __version__
from mellow_herald.core.steady import SteadyTime
from mellow_herald.service import health, metrics
from mellow_herald.service.answers import Answers
from mellow_herald.service.api import (
    baselines,
    boards,
    charts,
    coap,
    comparison,
    fleet,
    harm,
    inventory,
    keys,
    lineage,
    lists,
    people,
    radio,
    readings,
    recordings,
    rehearsals,
    releases,
    rollouts,
    say,
    selections,
    topology,
    watching,
    webhooks,
)
from mellow_herald.service.calls.describe import describe_device_api
from mellow_herald.service.calls.intake import Intake
from mellow_herald.service.calls.memory import Memory, new_secret
from mellow_herald.service.calls.routes import DeviceApi, HotPaths
from mellow_herald.service.clock import Clock, wall_time
from mellow_herald.service.console import serve_console
from mellow_herald.service.context import Context
from mellow_herald.service.feed import FeedReader, keep_rights, load_boards
from mellow_herald.service.figures import Measured
from mellow_herald.service.fleet.baselines import keep_bringing
from mellow_herald.service.fleet.lineage import keep_sampling
from mellow_herald.service.methods import Methods
from mellow_herald.service.people.callers import caller
from mellow_herald.service.people.sign_in import SignIns
from mellow_herald.service.problems import add_problem_handlers
from mellow_herald.service.readings.change import keep_watching
from mellow_herald.service.readings.listening import keep_listening, load_wishes
from mellow_herald.service.readings.live import keep_saying
from mellow_herald.service.readings.merging import keep_merging
from mellow_herald.service.readings.taking import ReadingsIntake
from mellow_herald.service.releases.retention import keep_sweeping, sweep
from mellow_herald.service.releases.soundness import keep_checking
from mellow_herald.service.rollouts.conductor import Conductor
from mellow_herald.service.rollouts.counting import keep_counting
from mellow_herald.service.rollouts.halting import keep_halting
from mellow_herald.service.settings import Settings
from mellow_herald.service.signals import Signals
from mellow_herald.service.tasks import end
from mellow_herald.service.webhooks.sending import keep_sending
from mellow_herald.store import fleet as fleet_store
from mellow_herald.store import people as people_store
from mellow_herald.store.bucket import open_images
from mellow_herald.store.clock import Ticks, anchor_clock, count_ticks, rest, steady_start
from mellow_herald.store.database import Pools, migrate
from mellow_herald.store.gate import Lock, take
from mellow_herald.store.trouble import ERRORS as DATABASE_ERRORS
from mellow_herald.wire.plan import PlanDocument

log = structlog.get_logger()
API = "/api/v1"
PLAN_SCHEMA = "/schemas/plan.json"


async def open_context(settings: Settings, pools: Pools, *, serves: bool = True) -> Context:
    """Brings the schema up to date and, if it ``serves``, loads what must be known before the first call is."""
    engine = pools.work
    await migrate(engine)
    start = await steady_start(engine, wall_time(), Ticks.now())
    steady = SteadyTime(wall_time, count_ticks, start)
    anchor = await anchor_clock(engine, settings.time_scale, steady.now(), Ticks.now())
    images = open_images(settings.images, settings.data_dir, group=settings.front_images is not None)
    context = Context(settings, engine, Clock(anchor, steady), images, Memory(), Signals(), pools)
    async with engine.begin() as connection:
        await take(connection, Lock.MIGRATION)
        if not await people_store.mac_keys(connection):
            await people_store.add_mac_key(connection, new_secret(), context.clock.real())
        if serves:
            context.memory.take_keys(await people_store.mac_keys(connection))
            context.memory.generations = await fleet_store.generations(connection)
    if serves:
        await load_boards(context)
        await load_wishes(context)
        try:
            await sweep(context)
        except OSError as error:  # an object store may be away for a while; the sweep comes again
            log.error("the image store does not answer; all else is served", error=error.strerror)
    return context.through(pools.people)


def create_app(context: Context) -> FastAPI:
    """The application around a context."""
    pools = context.pools
    work, calls = context.through(pools.work), context.through(pools.devices)
    intake, conductor, door = Intake(calls), Conductor(work), SignIns(context)
    taking = ReadingsIntake(context.through(pools.readings))
    feed = FeedReader(context.through(pools.feed))

    @asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        moving = [
            intake.run(),
            taking.run(),
            conductor.run(),
            conductor.beat_and_write_pulses(),
            feed.run(),
            keep_halting(work),
        ]
        keeping = [
            keep_sampling(work),
            keep_bringing(work),
            keep_sweeping(work),
            keep_checking(work),
            keep_counting(work),
            keep_listening(work),
            keep_merging(work),
            keep_watching(work),
        ]
        telling = [keep_sending(work), door.keep_telling(), keep_rights(work), keep_saying(work)]
        if context.settings.radio is not None:
            # Whoever follows no radio network loads nothing of it.
            from mellow_herald.service.radio.bridge import keep_bridging

            telling.append(keep_bridging(work, intake, context.settings.radio, context.settings.radio_token))
        tasks = [asyncio.create_task(one) for one in (*moving, *keeping, *telling)]
        try:
            yield
        finally:
            context.let_go()
            await end(tasks)
            door.passwords.close()
            with suppress(*DATABASE_ERRORS, TimeoutError):
                async with asyncio.timeout(1):
                    await rest(pools.work)
            await pools.dispose()

    app = FastAPI(
        title="Mellow Herald",
        version=__version__,
        summary="Publishes firmware releases to a device fleet and brings them out ring by ring.",
        openapi_url=None,
        docs_url=None,
        redoc_url=None,
        lifespan=lifespan,
        generate_unique_id_function=lambda route: route.name,
    )
    app.state.context = context
    app.state.door = door
    methods = cache(lambda: Methods(describe(app)))  # once somebody asks for what is not there
    app.state.methods = lambda path: methods().of(path)
    add_problem_handlers(app, app.state.methods)
    nouns = (
        people,
        boards,
        keys,
        releases,
        lineage,
        fleet,
        inventory,
        lists,
        baselines,
        selections,
        rollouts,
        harm,
        comparison,
        say,
        rehearsals,
        radio,
        coap,
        readings,
        recordings,
        charts,
        topology,
        watching,
        webhooks,
    )
    for noun in nouns:
        app.include_router(noun.router, prefix=API)
    app.include_router(health.router)
    app.include_router(metrics.router)

    @app.get(f"{API}/openapi.json", include_in_schema=False, dependencies=[Depends(caller)])
    async def openapi() -> dict[str, Any]:
        return describe(app)

    @app.get(PLAN_SCHEMA, include_in_schema=False)
    async def plan_schema() -> dict[str, Any]:
        # Open to everybody: an editor that completes plans has no token, and nothing in it is secret.
        schema = PlanDocument.model_json_schema()
        return {"$schema": "https://json-schema.org/draft/2020-12/schema", "$id": PLAN_SCHEMA, **schema}

    devices = DeviceApi(calls, intake, taking)
    app.router.routes[:0] = devices.routes()  # devices call more often than people
    app.router.routes.append(Route("/{path:path}", serve_console, methods=["GET", "HEAD"]))
    answers = Measured(Answers(app.build_middleware_stack(), context.clock), context.figures)
    app.middleware_stack = HotPaths(answers, devices, context.clock, context.figures)
    return app


def describe(app: FastAPI) -> dict[str, Any]:
    """The complete OpenAPI document: the engineer's API and the device protocol."""
    document = app.openapi()
    if "/device/v1/checkins" not in document["paths"]:
        describe_device_api(document)
    return document
