"""Before and after through the service: a release that costs battery is seen, and halted, though nothing failed."""

import json
from datetime import timedelta

import pytest

from mellow_herald.service.readings import change, merging
from mellow_herald.store import feed
from mellow_herald.wire.board import BoardIn
from mellow_herald.wire.readings import ListeningIn
from mellow_herald.wire.rollback import RollbackIn
from tests.harness.device import PuppetDevice
from tests.harness.firmware import BOARD, DOMAIN, LINE
from tests.harness.service import RunningService
from tests.service.readings.test_readings import block, merged, now_of
from tests.service.rollouts.test_harm import back_again

DRAIN = {"name": "battery", "worse": "lower", "by": 0.5, "at_least": 1.0, "measure": "per-day"}


@pytest.fixture
def fleet(service: RunningService) -> list[PuppetDevice]:
    """Six devices whose battery is listened to."""
    slots = [{"name": "a", "size": 65536}, {"name": "b", "size": 65536}]
    signals = [{"name": "battery", "unit": "%"}]
    known = {"name": BOARD, "vendor_domain": DOMAIN, "lines": [LINE], "hw_revs": [1, 2, 3], "slots": slots}
    service.herald.boards.add(BoardIn.model_validate({**known, "check_in": "1m", "signals": signals}))
    for version in ("2.4.0", "2.5.0"):
        service.publish(version).raise_for_status()
    code, made = service.code(), []
    for number in range(6):
        device = PuppetDevice(service.url, f"TA-{number}")
        device.enrol(code, labels={"site": "pilot" if number < 3 else "rest"}).raise_for_status()
        device.checkin()
        made.append(device)
    return made


def send_hours(device: PuppetDevice, begin: float, hours: float, start: float, per_day: float) -> None:
    """A battery that falls so much a day, told every minute."""
    after = [minute * 60_000 for minute in range(int(hours * 60))]
    values = [start + per_day * ms / 86_400_000 + 0.001 * (ms // 60_000 % 3) for ms in after]
    body = json.dumps({"blocks": [block(begin, after, battery=values)]}).encode()
    assert device.post("/readings", body).json()["taken"] == len(after)


def switch_three(service: RunningService, fleet: list[PuppetDevice], **brake: object) -> int:
    document = service.plan(answer_within="1d").model_dump(mode="json")
    document["rings"] = [{"name": "pilot", "where": "site = pilot", "soak": "12h"}, {"name": "rest"}]
    document["brake"] = {"firmware_limit": 0.02, **brake}
    rollout_id = service.herald.rollouts.start(type(service.plan()).model_validate(document)).id
    service.wait_for(rollout_id, lambda one: one.rings[0].targeted == 3)
    for device in fleet[:3]:
        device.checkin()
        device.stage()
        device.checkin()
        assert device.order["order"] == "switch"
        device.report("installing")
        device.switch()
        device.checkin(after_restart=True)
        device.report("confirmed")
    return rollout_id


def watch(service: RunningService) -> int:
    work = service.context.through(service.context.pools.work)
    service.call(merging.merge_once(work))
    return int(service.call(change.watch_once(work)))  # type: ignore[call-overload]


def test_a_release_that_costs_battery_is_seen_and_halted_though_nothing_failed(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    begin = now_of(service)
    for device in fleet:
        send_hours(device, begin - 6 * 3600, 6, 80, -1.0)
    rollout_id = switch_three(service, fleet, readings=[DRAIN])
    assert watch(service) == 0, "nothing is known yet of what it does"
    asked = ListeningIn.model_validate(
        {"where": f"rollout = {rollout_id} and ring = pilot", "signals": ["battery"], "every": "1m", "lasts": "1d"}
    )
    assert service.herald.signals.listen(asked).devices == 3
    service.pass_time(timedelta(hours=6))
    for number, device in enumerate(fleet):
        send_hours(device, begin + 60, 5.9, 79.7, -3.1 if number < 3 else -1.0)
        device.checkin()
    service.pass_time(timedelta(minutes=2))
    assert watch(service) == 3
    halted = service.wait_for(rollout_id, lambda one: one.state == "halted")
    assert "firmware" in (halted.halted_why or "") and halted.reasons == {"readings-worse": 3}
    timeline = service.herald.devices.show("TA-0").timeline
    (said,) = [entry.detail for entry in timeline if entry.state == "relapsed"]
    assert said.startswith("battery -3.1 a day, before the update -1")
    assert watch(service) == 0, "it is said once"

    # Whoever watches is told of devices by their serial, also of what no device has said.
    async def told_of() -> set[str]:
        async with service.context.engine.connect() as connection:
            rows = await feed.read_feed(connection, 0, rollout_id=rollout_id, limit=5000)
        return {row["data"]["serial"] for row in rows if row["data"].get("state") == "relapsed"}

    assert service.call(told_of()) == {"TA-0", "TA-1", "TA-2"}

    told = service.herald.readings.before_and_after(rollout_id, "battery", span="6h")
    assert (told.devices, told.control_devices, told.unit) == (3, 3, "%")
    effect = told.per_day
    assert effect.before is not None and effect.after is not None and effect.control_after is not None
    assert [round(side.median, 1) for side in (effect.before, effect.after, effect.control_after)] == [-1.0, -3.1, -1.0]
    assert effect.difference == pytest.approx(-2.1, abs=0.05)
    assert effect.low is not None and effect.high is not None and effect.low <= -2.1 + 0.05 and effect.high < -1.9
    assert min(one.after_s for one in told.updated) < 0 < max(one.after_s for one in told.updated)
    assert {one.devices for one in told.control} == {3}

    # The report keeps the picture.
    report = service.herald.rollouts.report(rollout_id)
    (kept,) = report.changes
    assert kept.signal == "battery" and kept.per_day.difference == pytest.approx(-2.1, abs=0.05)
    with service.http(service.token) as http:
        page = http.get(f"/api/v1/rollouts/{rollout_id}/report.html").text
        text = http.get(f"/api/v1/rollouts/{rollout_id}/report.md").text
    words = "battery: -3.1 % a day after the update, -1 before, -1 in the control; the update did -2.1 % a day (-2.1"
    assert words in page and words in text
    assert page.count("<polyline") == 2 and 'aria-label="battery before and after"' in page

    # What they send once they are back tells nothing of what they were brought.
    back = service.herald.rollouts.roll_back(rollout_id, RollbackIn(reason="costs battery")).id
    service.wait_for(back, lambda one: one.targeted == 3)
    for device in fleet[:3]:
        back_again(device)
    back_at = now_of(service)
    service.pass_time(timedelta(hours=6))
    for number, device in enumerate(fleet):
        send_hours(device, back_at + 60, 5.9, 78.9 if number < 3 else 79.4, -1.0)
    merged(service)
    after = service.herald.readings.before_and_after(rollout_id, "battery", span="1d").per_day
    assert after.difference == pytest.approx(-2.1, abs=0.05)
    assert after.after is not None and round(after.after.median, 1) == -3.1


def test_a_release_that_costs_nothing_halts_nobody(service: RunningService, fleet: list[PuppetDevice]) -> None:
    begin = now_of(service)
    for device in fleet[:3]:
        send_hours(device, begin - 6 * 3600, 6, 80, -1.0)
    rollout_id = switch_three(service, fleet, readings=[DRAIN])
    service.pass_time(timedelta(hours=6))
    for device in fleet[:3]:
        send_hours(device, begin + 60, 5.9, 79.7, -1.05)
        device.checkin()
    service.pass_time(timedelta(minutes=2))
    assert watch(service) == 0
    assert service.herald.rollouts.show(rollout_id).state == "running"


def test_what_is_not_there_is_said(service: RunningService, fleet: list[PuppetDevice]) -> None:
    with service.http(service.token) as http:
        assert http.get("/api/v1/rollouts/99/readings", params={"signal": "battery"}).status_code == 404
        assert http.get("/api/v1/rollouts/1/readings", params={"signal": "battery", "span": "0s"}).status_code == 422
