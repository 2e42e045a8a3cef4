import threading
import time
from datetime import timedelta

import pytest
from sqlalchemy import update

from mellow_herald.client import ProblemError
from mellow_herald.core.digest import sha256_hex
from mellow_herald.store.tables import Pulse
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.rollback import RollbackIn
from tests.harness.device import PuppetDevice
from tests.harness.firmware import make_bytes
from tests.harness.patience import until
from tests.harness.service import RunningService
from tests.harness.some import some


@pytest.fixture
def fleet(service: RunningService) -> list[PuppetDevice]:
    """Four devices on 2.4.0, with 2.4.0 and 2.5.0 published."""
    service.publish("2.4.0").raise_for_status()
    service.publish("2.5.0").raise_for_status()
    code, made = service.code(), []
    for number in range(4):
        device = PuppetDevice(service.url, f"TA-{number}", hw_rev=1 + number % 3)
        device.enrol(code).raise_for_status()
        device.checkin()
        made.append(device)
    return made


def begin(service: RunningService, devices: int = 4, **numbers: object) -> int:
    """Starts a rollout and waits until its ring has given out the attempts."""
    rollout = service.herald.rollouts.start(service.plan(**numbers))
    service.wait_for(rollout.id, lambda r: r.states.get("queued") == devices and r.rings[0].state == "open")
    return rollout.id


def go_through(device: PuppetDevice) -> None:
    """One device's whole passage."""
    assert device.checkin().json()["order"] == "fetch"
    device.stage()
    order = device.checkin().json()
    assert order["order"] == "switch" and order["clearance"]["seconds"] == 600
    device.report("installing")
    device.switch()
    device.checkin(after_restart=True)
    device.order = order
    device.report("proving", tests=[{"name": "clock", "passed": True}])
    device.report("confirmed")


def test_a_whole_rollout_as_devices_see_it(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = begin(service)
    for device in fleet[:3]:
        go_through(device)
    last = fleet[3]
    assert last.checkin().json()["order"] == "fetch"
    last.stage()
    last.checkin()
    last.report("installing")
    last.boots += 1
    last.report("reverted", reason="self-test-failed", detail="load-cell reads 0 counts")
    rollout = service.wait_for(rollout_id, lambda r: r.states.get("reverted") == 1)
    assert rollout.state == "running", "3 of 4 are not enough (0.9)"
    assert (rollout.exposed, rollout.at_risk, rollout.reasons) == (4, 0, {"self-test-failed": 1})
    timeline = list(reversed(service.herald.devices.show("TA-0").timeline))
    states = [entry.state for entry in timeline if entry.attempt_id]
    own = [(entry.said_by, entry.what) for entry in timeline if not entry.attempt_id]
    assert own == [("device", "enrolled"), ("device", "restarted"), ("device", "version changed")]
    assert states == ["offered", "downloading", "staged", "cleared", "installing", "proving", "proving", "confirmed"]
    told = service.herald.devices.show("TA-3").timeline[0]
    assert (told.said_by, told.detail) == ("device", "load-cell reads 0 counts")


def test_a_ring_that_is_through_soaks_and_the_rollout_finishes(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = begin(service)
    for device in fleet:
        go_through(device)
    rollout = service.wait_for(rollout_id, lambda r: r.state == "finished")
    assert rollout.rings[0].state == "done"
    assert rollout.states == {"confirmed": 4}
    attempts = service.herald.rollouts.attempts(rollout_id).items
    assert all(attempt.closed and not attempt.live for attempt in some(attempts)), "when it has ended, all are closed"
    said = [entry.what for entry in reversed(service.herald.journal.list().items) if "rollout" in entry.subject]
    assert said == ["rollout started", "ring 1 opened", "ring 1 soaking", "ring 1 done", "finished"]
    release = service.herald.releases.list().items[0]
    assert (release.version, release.running, release.on_the_way) == ("2.5.0", 4, 0)


def test_the_accounting_adds_up(service: RunningService, fleet: list[PuppetDevice]) -> None:
    newest = PuppetDevice(service.url, "TA-new", version="2.5.0")
    newest.digest = service.herald.releases.list().items[0].components[0].digest
    unknown = PuppetDevice(service.url, "TA-own")
    unknown.digest = "e" * 64
    for device in (newest, unknown):
        device.enrol(service.code()).raise_for_status()
        device.checkin()
    rollout = service.herald.rollouts.show(begin(service))
    assert rollout.passed_over == {"already-running": 1, "unknown-build": 1}
    assert rollout.targeted == sum(rollout.passed_over.values()) + sum(rollout.states.values()) == 6


def test_a_device_is_in_one_live_attempt_only(service: RunningService, fleet: list[PuppetDevice]) -> None:
    begin(service)
    with pytest.raises(ProblemError, match="4 in-other-rollout"):
        service.herald.rollouts.start(service.plan())


def test_plans_that_cannot_be_are_refused(service: RunningService, fleet: list[PuppetDevice]) -> None:
    start, plan = service.herald.rollouts.start, service.plan()
    for change, said in (
        ({"release": "comb-s1/hive-scale/9.9.9"}, "There is no release"),
        ({"release": "2.5.0"}, "does not name a release"),
        ({"target": "site = nowhere"}, "matches no device"),
        ({"target": "site ="}, "ends too early"),
        ({"rings": plan.rings * 2}, "is there twice"),
    ):
        with pytest.raises(ProblemError, match=said):
            start(plan.model_copy(update=change))
    assert service.herald.rollouts.list().items == []


def test_the_same_request_starts_one_rollout(service: RunningService, fleet: list[PuppetDevice]) -> None:
    body = service.plan().model_dump(mode="json")
    with service.http(service.token) as http:
        answers = [http.post("/api/v1/rollouts", json=body, headers={"idempotency-key": "k"}) for _ in range(2)]
    assert [answer.status_code for answer in answers] == [201, 200]
    assert answers[0].json()["id"] == answers[1].json()["id"]


def test_lost_answers_are_answered_alike(service: RunningService, fleet: list[PuppetDevice]) -> None:
    begin(service)
    device = fleet[0]
    first, again = device.checkin().json(), device.checkin().json()
    assert first["order"] == again["order"] == "fetch" and first["attempt"] == again["attempt"]
    device.stage()
    cleared, once_more = device.checkin().json(), device.checkin().json()
    assert cleared["clearance"]["number"] == once_more["clearance"]["number"]


def test_a_repeated_report_has_no_second_effect(service: RunningService, fleet: list[PuppetDevice]) -> None:
    begin(service)
    device = fleet[0]
    device.checkin()
    device.seq += 1
    report = device.worded("downloading", percent=20)
    for _ in range(3):
        assert device.send([report]).status_code == 200
    timeline = service.herald.rollouts.timeline(device.order["attempt"])
    assert [entry.state for entry in timeline] == ["downloading", "offered"]


def test_hold_gives_nothing_out_and_resume_goes_on(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = begin(service)
    fleet[0].checkin()
    fleet[0].stage()
    assert service.herald.rollouts.hold(rollout_id, "the weather").state == "held"
    assert fleet[0].checkin().json()["order"] == "stay"
    assert fleet[1].checkin().status_code == 204
    assert service.herald.rollouts.resume(rollout_id, "it cleared up").state == "running"
    assert fleet[0].checkin().json()["order"] == "switch"
    assert fleet[1].checkin().json()["order"] == "fetch"


def test_a_halt_calls_off_waits_for_who_is_at_risk_and_may_be_resumed(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = begin(service)
    at_risk, staged, offered, queued = fleet
    for device in (at_risk, staged, offered):
        device.checkin()
    at_risk.stage()
    staged.stage()
    number = at_risk.checkin().json()["clearance"]["number"]
    halted = service.herald.rollouts.halt(rollout_id, "calls from the field")
    assert halted.halt_number is not None and number < halted.halt_number
    halted = service.wait_for(rollout_id, lambda r: r.states.get("called-off") == 3)
    assert (halted.at_risk, halted.states["cleared"]) == (1, 1)
    assert staged.checkin().json()["order"] == "abandon"
    assert offered.report("downloading", percent=50).json()["order"] == "abandon"
    assert queued.checkin().status_code == 204
    with pytest.raises(ProblemError, match="1 devices have clearance"):
        service.herald.rollouts.cancel(rollout_id, "give up")

    at_risk.report("installing")
    at_risk.switch()
    at_risk.report("proving")
    at_risk.report("confirmed")
    assert service.herald.rollouts.show(rollout_id).at_risk == 0

    resumed = service.herald.rollouts.resume(rollout_id, "it was the network")
    assert resumed.states == {"confirmed": 1, "queued": 3}
    assert queued.checkin().json()["order"] == "fetch"
    service.herald.rollouts.halt(rollout_id, "no, it was not")
    service.wait_for(rollout_id, lambda r: r.states.get("called-off") == 3)
    ended = service.herald.rollouts.cancel(rollout_id, "give up")
    assert ended.state == "cancelled" and ended.live == 0
    with pytest.raises(ProblemError, match="cannot become running"):
        service.herald.rollouts.resume(rollout_id, "after all")
    again = service.herald.rollouts.start(service.plan())
    assert again.id != rollout_id, "the devices are free for the next"


def test_a_cleared_device_that_asks_again_after_the_halt_is_called_off(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = begin(service)
    device = fleet[0]
    device.checkin()
    device.stage()
    assert device.checkin().json()["order"] == "switch"
    service.herald.rollouts.halt(rollout_id, "stop it")
    assert device.checkin().json()["order"] == "abandon"
    assert service.herald.rollouts.show(rollout_id).at_risk == 0


def test_no_order_is_granted_after_a_halt_while_many_ask(service: RunningService) -> None:
    """Devices hammer the moment of the halt: every clearance on the wire has a lower number than the halt's."""
    service.publish("2.4.0").raise_for_status()
    service.publish("2.5.0").raise_for_status()
    code, devices = service.code(), []
    for number in range(24):
        device = PuppetDevice(service.url, f"TA-{number:02}")
        device.enrol(code).raise_for_status()
        device.checkin()
        devices.append(device)
    rollout_id = begin(service, devices=24)
    for device in devices:
        device.checkin()
        device.stage()
    granted: list[tuple[float, int]] = []
    halted_at: list[float] = []

    def hammer(mine: list[PuppetDevice]) -> None:
        for device in mine:
            asked = time.monotonic()
            order = device.checkin().json() if device.order is not None else {}
            if order.get("order") == "switch":
                granted.append((asked, order["clearance"]["number"]))

    def halt() -> None:
        time.sleep(0.03)
        service.herald.rollouts.halt(rollout_id, "stop it")
        halted_at.append(time.monotonic())

    threads = [threading.Thread(target=hammer, args=(devices[n::6],)) for n in range(6)]
    threads.append(threading.Thread(target=halt))
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    number = service.herald.rollouts.show(rollout_id).halt_number
    assert number is not None
    assert all(clearance < number for _, clearance in some(granted))
    assert all(asked < halted_at[0] for asked, _ in some(granted))
    for device in devices:
        response = device.checkin()
        assert response.status_code == 204 or response.json()["order"] == "abandon"


def not_heard_of(service: RunningService, device: PuppetDevice, since: timedelta) -> None:
    """As if the device had last called so long ago."""
    device_id = service.herald.devices.show(device.serial).id

    async def write() -> None:
        seen_at = service.context.clock.now() - since
        async with service.context.engine.begin() as connection:
            await connection.execute(update(Pulse).where(Pulse.device_id == device_id).values(seen_at=seen_at))

    service.call(write())


def served_long(service: RunningService) -> None:
    """As if the service had been up for an hour, so that a silence is not its own."""

    async def write() -> None:
        async with service.context.engine.begin() as connection:
            long = service.context.clock.now() - timedelta(hours=1)
            await connection.exec_driver_sql(f"UPDATE clock SET serving_since = '{long.isoformat()}'")

    service.call(write())


def test_a_device_that_stops_calling_is_silent_and_a_late_word_corrects_it(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = begin(service, answer_within="10m")
    device = fleet[0]
    device.checkin()
    device.stage()
    device.checkin()
    not_heard_of(service, device, timedelta(minutes=11))
    # The service itself has served for seconds only: that silence may be ours.
    time.sleep(1.5)
    assert service.herald.rollouts.show(rollout_id).states.get("silent") is None

    def silent() -> bool:
        # A machine that stands still for a while lets the service begin anew with what it can know of silence.
        not_heard_of(service, device, timedelta(minutes=11))
        served_long(service)
        return service.herald.rollouts.show(rollout_id).states.get("silent") == 1

    until(silent, every=0.5)
    assert service.herald.rollouts.show(rollout_id).reasons == {"silent": 1}
    device.report("proving")
    service.wait_for(rollout_id, lambda r: r.states.get("proving") == 1)


def test_a_failure_is_tried_again_after_its_pause(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = begin(service, retries=1, retry_pause="1m")
    device = fleet[0]
    device.checkin()
    device.report("failed", reason="download-broken")
    assert device.checkin().status_code == 204, "not at once"
    service.pass_time(timedelta(seconds=61))
    order = device.checkin().json()
    assert (order["order"], order["try"]) == ("fetch", 2)
    device.report("failed", reason="digest-mismatch")
    service.pass_time(timedelta(seconds=121))
    assert device.checkin().status_code == 204, "no tries are left"
    attempt = service.herald.rollouts.attempts(rollout_id, state="failed").items[0]
    assert (attempt.try_number, attempt.tries, attempt.live) == (2, 2, False)


def test_an_image_that_stands_by_already_is_told_of_before_it_is_switched_to(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    begin(service)
    device = fleet[0]
    digest = service.herald.releases.list().items[0].components[0].digest
    device.standby = {"app": {"version": "2.5.0", "digest": digest, "slot": "b", "floor": 4}}
    assert device.checkin(ready=False).json()["order"] == "fetch", "the manifest, of which it knows nothing yet"
    assert device.checkin(ready=False).json()["order"] == "stay"
    assert device.checkin().json()["order"] == "switch"


def test_memory_never_hides_an_order(service: RunningService, fleet: list[PuppetDevice]) -> None:
    """Devices that were answered from memory a moment ago are offered as soon as a ring opens."""
    for device in fleet:
        assert [device.checkin().status_code for _ in range(3)] == [204, 204, 204]
    begin(service)
    assert [device.checkin().json()["order"] for device in fleet] == ["fetch"] * 4


def test_bad_numbers_in_addresses_are_problems(shared_service: RunningService) -> None:
    with shared_service.http(shared_service.token) as http:
        for path in (
            "rollouts/x",
            "rollouts/99999999999999999999",
            "rollouts/-1",
            "attempts/0/timeline",
            "releases/abc",
            "devices/%00",
        ):
            response = http.get(f"/api/v1/{path}")
            assert response.status_code in (404, 422), path
            assert response.headers["content-type"] == "application/problem+json"
        for path in ("nowhere", "device/v1/nothing"):
            assert http.get(f"/api/v1/{path}").status_code == 404
        assert http.put("/api/v1/rollouts").status_code == 405
        typed = {"content-type": "application/json"}
        broken = http.post("/api/v1/rollouts", content=b"{not json", headers=typed)
        assert (broken.status_code, broken.json()["type"]) == (400, "urn:mellow-herald:problem:bad-json")


def test_a_device_that_calls_the_moment_after_a_start_a_go_a_rollback_or_a_swap_has_its_order(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    """Nobody waits for anything here: what is answered to the engineer is already so for devices."""
    service.publish("2.4.0").raise_for_status()
    rings = [{"name": "first", "where": "serial = TA-0", "soak": "0s"}, {"name": "rest", "opens": "by-hand"}]
    plan = PlanDocument.model_validate({**service.plan().model_dump(mode="json", exclude_none=True), "rings": rings})
    for device in fleet:
        device.checkin()
    rollout_id = service.herald.rollouts.start(plan).id
    assert fleet[0].checkin().json()["order"] == "fetch"
    fleet[0].order = {}
    go_through(fleet[0])
    service.wait_for(rollout_id, lambda r: r.rings[1].state == "awaiting-go")
    assert service.herald.rollouts.go(rollout_id, "looks well").rings[1].state == "open"
    assert fleet[1].checkin().json()["order"] == "fetch"
    service.herald.rollouts.halt(rollout_id, "not yet")
    service.wait_for(rollout_id, lambda r: r.live == 0)
    back = service.herald.rollouts.roll_back(rollout_id, RollbackIn(reason="and back"))
    order = fleet[0].checkin().json()
    assert order["order"] == "switch-back"
    assert order["to"] == {"app": sha256_hex(make_bytes("2.4.0"))}
    fleet[0].report("installing")
    fleet[0].switch()
    fleet[0].report("confirmed")
    fleet[0].checkin()
    service.wait_for(back.id, lambda r: r.state == "finished")
    service.herald.devices.swap("TA-0", "and forth")
    assert fleet[0].checkin().json()["order"] == "switch-back"
