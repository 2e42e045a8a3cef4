"""The moment of a halt, and what a resume brings back."""

import asyncio
import threading
import time

from mellow_herald.core.attempt import State
from mellow_herald.store import attempts
from tests.harness.device import PuppetDevice
from tests.harness.patience import PATIENCE_S
from tests.harness.service import RunningService
from tests.harness.some import some
from tests.service.rollouts.test_harm import fleet, revert, started
from tests.service.rollouts.test_rings import journalled, plan

__all__ = ["fleet"]


def test_a_halt_ends_tries_and_a_resume_begins_a_new_round_without_some(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = started(service, numbers={"retries": 3, "retry_pause": "1h"})
    revert(fleet[0])
    fleet[1].checkin()
    service.herald.rollouts.halt(rollout_id, "support calls come in")
    service.wait_for(rollout_id, lambda r: r.live == 0)
    urgent = plan([{"name": "all"}], target=f'serial = "{fleet[0].serial}"')
    assert service.herald.rollouts.preview(urgent).counts == [1], "a reverted device does not block a hotfix"
    resumed = service.herald.rollouts.resume(rollout_id, "it is hw_rev 2 alone", leave_out="hw_rev = 2")
    assert resumed.round == 2 and resumed.plan.leave_out == "hw_rev = 2"
    assert resumed.states == {"reverted": 1, "called-off": 8, "queued": 15}
    assert fleet[1].checkin().status_code == 204 and fleet[2].checkin().json()["order"] == "fetch"
    assert service.herald.rollouts.brakes(rollout_id).round == 2
    assert service.herald.rollouts.brakes(rollout_id).brakes[0].seen == 0, "the first round's devices count no more"
    assert journalled(service, "rollout resumed").data["counts"] == "devices first exposed from now on"


def test_after_a_halt_no_order_of_the_rollout_is_ever_granted(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    """Hammers the moment of the halt: whoever got a clearance has a number below the halt's."""
    rollout_id = started(service)
    for device in fleet:
        device.checkin()
        device.stage()
    cleared: list[int] = []
    after: list[int] = []
    stop = threading.Event()

    def ask(device: PuppetDevice) -> None:
        while not stop.is_set():
            answer = device.checkin()
            if answer.status_code == 200 and answer.json().get("order") == "switch":
                (after if stop.is_set() else cleared).append(answer.json()["clearance"]["number"])

    threads = [threading.Thread(target=ask, args=(device,)) for device in fleet]
    for thread in threads:
        thread.start()
    time.sleep(0.05)
    number = service.herald.rollouts.halt(rollout_id, "stop it now").halt_number
    time.sleep(0.5)
    stop.set()
    for thread in threads:
        thread.join()
    assert cleared, "some came before"
    assert number is not None and all(one < number for one in some(cleared + after))


def test_a_resume_while_the_halt_is_still_calling_off_loses_no_device(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = started(service)

    async def stand_in_the_way(done: asyncio.Event, began: threading.Event) -> None:
        async with service.context.engine.begin() as connection:
            await attempts.lock_slice(connection, rollout_id, [State.QUEUED], 1)
            began.set()
            await done.wait()

    done, began = asyncio.Event(), threading.Event()
    busy = asyncio.run_coroutine_threadsafe(stand_in_the_way(done, began), service.loop)
    resuming = threading.Thread(target=lambda: service.herald.rollouts.resume(rollout_id, "it was nothing"))
    try:
        assert began.wait(PATIENCE_S)
        service.herald.rollouts.halt(rollout_id, "support calls come in")
        time.sleep(0.5)  # the conductor has seen the halt and waits for the first device
        resuming.start()
        resuming.join(0.5)
    finally:
        service.loop.call_soon_threadsafe(done.set)
        busy.result(PATIENCE_S)
    resuming.join()
    time.sleep(0.5)
    assert service.herald.rollouts.show(rollout_id).states == {"queued": 24}
