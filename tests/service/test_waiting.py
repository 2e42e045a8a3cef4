import threading
import time
from collections.abc import Callable
from pathlib import Path

import httpx
import pytest

from mellow_herald.service import waiting
from mellow_herald.service.waiting import preferred_wait
from tests.harness.database import Databases
from tests.harness.device import PuppetDevice
from tests.harness.patience import PATIENCE_S
from tests.harness.service import RunningService

LONG_S = int(10 * PATIENCE_S)
"""Nobody here waits until such a wait is over."""


@pytest.fixture
def device(service: RunningService) -> PuppetDevice:
    for version in ("2.4.0", "2.5.0"):
        service.publish(version)
    made = PuppetDevice(service.url, "TA-1")
    made.enrol(service.code()).raise_for_status()
    made.checkin()
    return made


def held(call: Callable[[], httpx.Response], context: RunningService) -> tuple[threading.Thread, list[httpx.Response]]:
    """A call under way in a thread of its own, once the service holds it open."""
    answers: list[httpx.Response] = []
    thread = threading.Thread(target=lambda: answers.append(call()))
    thread.start()
    deadline = time.monotonic() + PATIENCE_S
    while not context.context.waiting.count:
        assert time.monotonic() < deadline
        time.sleep(0.01)
    return thread, answers


def test_an_order_reaches_a_waiting_device_without_a_further_call(
    service: RunningService, device: PuppetDevice
) -> None:
    thread, answers = held(lambda: device.checkin(wait=30), service)
    service.herald.rollouts.start(service.plan())
    thread.join(PATIENCE_S)
    assert answers[0].json()["order"] == "fetch"
    assert answers[0].headers["preference-applied"] == "wait=30"
    assert service.context.waiting.count == 0


def test_an_order_made_by_another_process_reaches_it_too(
    service: RunningService, device: PuppetDevice, tmp_path: Path
) -> None:
    other = RunningService(service.database_url, tmp_path / "other").start()
    try:
        thread, answers = held(lambda: device.checkin(wait=30), service)
        other.herald.rollouts.start(service.plan())
        thread.join(PATIENCE_S)
        assert answers[0].json()["order"] == "fetch"
    finally:
        other.stop()


def test_nothing_comes_and_it_is_said_when_the_time_is_over(service: RunningService, device: PuppetDevice) -> None:
    began = time.monotonic()
    answer = device.checkin(wait=1)
    assert (answer.status_code, answer.headers["preference-applied"]) == (204, "wait=1")
    assert 0.9 < time.monotonic() - began < 5
    assert int(answer.headers["herald-next-checkin"]) > 10


def test_a_held_rollout_keeps_it_waiting_until_it_goes_on(service: RunningService, device: PuppetDevice) -> None:
    rollout = service.herald.rollouts.start(service.plan())
    service.wait_for(rollout.id, lambda r: r.states.get("queued"))
    service.herald.rollouts.hold(rollout.id, "lunch")
    thread, answers = held(lambda: device.checkin(wait=30), service)
    time.sleep(0.3)
    assert answers == [], "what is live but gets no order does not end the wait"
    service.herald.rollouts.resume(rollout.id, "back again")
    thread.join(PATIENCE_S)
    assert answers[0].json()["order"] == "fetch"


def test_a_newer_call_lets_the_older_one_go(service: RunningService, device: PuppetDevice) -> None:
    thread, answers = held(lambda: device.checkin(wait=30), service)
    again = PuppetDevice(service.url, "TA-1")
    again.token, again.seq = device.token, 7
    assert again.checkin(wait=1).status_code == 204
    thread.join(PATIENCE_S)
    assert answers[0].status_code == 204


@pytest.mark.parametrize("newer", ["check-in", "reports", "keys"])
def test_a_newer_call_of_another_sort_does_so_too(
    service: RunningService, device: PuppetDevice, newer: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(waiting, "LONGEST_S", LONG_S)
    thread, answers = held(lambda: device.checkin(wait=LONG_S), service)
    again = PuppetDevice(service.url, "TA-1")
    again.token, again.seq = device.token, 7
    calls = {"check-in": again.checkin, "reports": lambda: again.send([]), "keys": lambda: again.get("/keys")}
    calls[newer]()
    thread.join(PATIENCE_S)
    assert answers[0].status_code == 204


def test_a_service_that_stops_lets_everybody_go(databases: Databases, tmp_path: Path) -> None:
    service = RunningService(databases.fresh(), tmp_path).start().prepare()
    device = PuppetDevice(service.url, "TA-1")
    device.enrol(service.code()).raise_for_status()

    def call() -> httpx.Response:
        try:
            return device.checkin(wait=30)
        except httpx.TransportError:
            return httpx.Response(599)

    thread, answers = held(call, service)
    began = time.monotonic()
    service.stop()
    thread.join(PATIENCE_S)
    assert answers and time.monotonic() - began < 8


@pytest.mark.parametrize(
    ("header", "seconds"),
    [
        ("wait=10", 10),
        ("respond-async, Wait = 5", 5),
        ("wait=900", 60),
        ("wait=soon", 0),
        ("", 0),
        ("wait=-1", 0),
        ("handling=lenient", 0),
    ],
)
def test_how_long_a_device_prefers_to_wait(header: str, seconds: int) -> None:
    assert preferred_wait(header) == seconds
