"""A fleet that enrols in one moment does not wait for one row, and a code is good for exactly as many as it says."""

import asyncio
from concurrent.futures import ThreadPoolExecutor

from sqlalchemy import select

from mellow_herald.store.fleet import CODE_SLICES
from mellow_herald.store.tables import CodeSlice
from tests.harness.device import PuppetDevice
from tests.harness.patience import PATIENCE_S
from tests.harness.service import RunningService

USES, DEVICES = 21, 40


def test_exactly_as_many_are_let_in_as_the_code_is_good_for(service: RunningService) -> None:
    code = service.code(uses=USES)
    with ThreadPoolExecutor(16) as threads:
        asked = [threads.submit(PuppetDevice(service.url, f"TA-{n}").enrol, code) for n in range(DEVICES)]
        statuses = [one.result().status_code for one in asked]
    assert statuses.count(201) == USES and statuses.count(403) == DEVICES - USES
    (shown,) = service.herald.codes.list()
    assert (shown.used, shown.uses) == (USES, USES)
    assert PuppetDevice(service.url, "TA-late").enrol(code).json()["type"].endswith(":code-used-up")


def test_who_enrols_does_not_wait_for_another_that_is_at_it(service: RunningService) -> None:
    code = service.code(uses=CODE_SLICES)

    async def hold_most(holding: asyncio.Event, done: asyncio.Event) -> None:
        async with service.context.engine.begin() as connection:
            await connection.execute(select(CodeSlice).limit(CODE_SLICES - 1).with_for_update())
            holding.set()
            await done.wait()

    holding, done = asyncio.Event(), asyncio.Event()
    held = asyncio.run_coroutine_threadsafe(hold_most(holding, done), service.loop)
    service.call(holding.wait())
    try:
        assert PuppetDevice(service.url, "TA-1").enrol(code).status_code == 201
    finally:
        service.loop.call_soon_threadsafe(done.set)
        held.result(PATIENCE_S)
