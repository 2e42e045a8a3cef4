"""What a device runs decides, over HTTP: what was lost in between, it is never told to leave what it was to run."""

from datetime import timedelta
from typing import Any

import pytest
from sqlalchemy import insert

from mellow_herald.cli.doctor import _settled
from mellow_herald.core.attempt import State
from mellow_herald.core.digest import sha256_hex
from mellow_herald.core.order import CLEARANCE
from mellow_herald.core.verdict import Verdict
from mellow_herald.store.tables import Settlement
from mellow_herald.wire.rollback import RollbackIn
from mellow_herald.wire.rollout import AttemptOut
from tests.harness.device import PuppetDevice
from tests.harness.firmware import make_bytes, make_image
from tests.harness.service import RunningService

LATER = CLEARANCE + timedelta(seconds=1)
OLD, NEW = sha256_hex(make_bytes("2.4.0")), sha256_hex(make_bytes("2.5.0"))


@pytest.fixture
def device(service: RunningService) -> PuppetDevice:
    """On 2.4.0, with 2.4.0 and 2.5.0 published."""
    for version in ("2.4.0", "2.5.0"):
        service.publish(version).raise_for_status()
    device = PuppetDevice(service.url, "TA-1")
    device.enrol(service.code()).raise_for_status()
    device.checkin()
    return device


def begin(service: RunningService, device: PuppetDevice, **numbers: Any) -> int:
    """Up to its clearance."""
    plan = service.plan(**{"answer_within": "10h", **numbers}).model_dump(mode="json", exclude_none=True)
    plan["rings"] = [{"name": "everyone", "soak": "1h"}]
    rollout_id = service.herald.rollouts.start(type(service.plan()).model_validate(plan)).id
    assert device.checkin().json()["order"] == "fetch"
    device.stage()
    answer = device.checkin().json()
    assert answer["order"] == "switch" and answer["to"] == {"app": NEW}
    return rollout_id


def attempt(service: RunningService, rollout_id: int) -> AttemptOut:
    (found,) = service.herald.rollouts.attempts(rollout_id).items
    return found


def test_one_that_switched_while_its_reports_were_lost_is_not_cleared_once_more(
    service: RunningService, device: PuppetDevice
) -> None:
    rollout_id = begin(service, device)
    order = device.order
    unsent = [device.worded("installing", seq=(seq := device.seq + 1))]
    device.switch()
    device.seq, device.trial = 2, False
    unsent += [{**device.worded("proving"), **_of(order), "seq": 1}, {**device.worded("confirmed"), **_of(order)}]
    service.pass_time(LATER)
    assert device.checkin().status_code == 204, "it runs what it was to run"
    assert (attempt(service, rollout_id).state, attempt(service, rollout_id).exposed_at is not None) == (
        "confirmed",
        True,
    )
    assert device.checkin().status_code == 204
    # Its reports come at last: they tell the story, and move nothing.
    unsent[0] |= {**_of(order), "seq": seq}
    device.send(unsent)
    found = attempt(service, rollout_id)
    assert (found.state, found.reason, found.harmed_at) == ("confirmed", None, None)
    said = [(e.what, e.state) for e in reversed(service.herald.rollouts.timeline(found.id)) if e.said_by == "device"]
    assert said[-3:] == [("late word", "installing"), ("late word", "proving"), ("late word", "confirmed")]
    told = service.herald.rollouts.timeline(found.id)
    device.send(unsent)
    assert service.herald.rollouts.timeline(found.id) == told, "sent twice, told once"


def test_who_switches_by_another_clearance_than_its_own_is_believed_and_marked(
    service: RunningService, device: PuppetDevice
) -> None:
    rollout_id = begin(service, device, retries=1)
    first = device.order["clearance"]["number"]
    service.pass_time(LATER)
    second = device.checkin().json()["clearance"]["number"]
    assert second > first, "the first ran out"
    device.report("installing", clearance=second)
    assert service.herald.rollouts.show(rollout_id).unasked == 0
    device.report("installing", clearance=first)
    shown = service.herald.rollouts.show(rollout_id)
    assert (shown.unasked, shown.states) == (1, {"installing": 1})


def test_a_call_that_was_overtaken_on_its_way_is_given_nothing(service: RunningService, device: PuppetDevice) -> None:
    rollout_id = service.herald.rollouts.start(service.plan(answer_within="10h")).id
    order = device.checkin().json()
    device.stage()
    service.herald.rollouts.hold(rollout_id, "a moment")
    late = device.seq + 1
    device.seq += 1
    device.checkin()
    service.herald.rollouts.resume(rollout_id, "go on")
    assert device.checkin(seq=late).status_code == 204, "said before the last one"
    device.seq, device.order = device.seq + 2, order
    assert device.report("downloading", percent=99).is_success
    assert device.checkin(seq=device.seq - 1, standby={}).status_code == 204, "and before the last report"
    found = attempt(service, rollout_id)
    assert (found.state, found.clearance) == ("staged", None)
    device.seq += 1
    assert device.checkin().json()["order"] == "switch"


def _of(order: dict[str, Any]) -> dict[str, Any]:
    return {"attempt": order["attempt"], "try": order["try"]}


def test_in_a_halted_rollout_it_is_exposed_and_not_called_off(service: RunningService, device: PuppetDevice) -> None:
    rollout_id = begin(service, device)
    service.herald.rollouts.halt(rollout_id, "calls from the field")
    device.switch()
    device.checkin()
    assert attempt(service, rollout_id).state == "proving"
    device.trial = False
    device.checkin()
    rollout = service.herald.rollouts.show(rollout_id)
    assert (rollout.states, rollout.exposed, rollout.state) == ({"confirmed": 1}, 1, "halted")


def test_who_got_it_by_cable_counts_for_nothing_and_is_not_waited_for(
    service: RunningService, device: PuppetDevice
) -> None:
    rollout_id = service.herald.rollouts.start(service.plan()).id
    assert device.checkin().json()["order"] == "fetch"
    device.digest, device.version, device.boots = NEW, "2.5.0", device.boots + 1
    assert device.checkin().status_code == 204
    found = attempt(service, rollout_id)
    assert (found.state, found.reason, found.exposed_at) == ("called-off", "arrived-otherwise", None)
    brakes = service.herald.rollouts.brakes(rollout_id)
    assert [(brake.seen, brake.bad) for brake in brakes.brakes] == [(0, 0), (0, 0)]
    service.wait_for(rollout_id, lambda r: r.state == "finished")


@pytest.mark.parametrize("cleared", [False, True])
def test_an_image_of_somebody_elses(service: RunningService, device: PuppetDevice, cleared: bool) -> None:
    if cleared:
        rollout_id = begin(service, device)
    else:
        rollout_id = service.herald.rollouts.start(service.plan()).id
        device.checkin()
    device.digest, device.version, device.boots = "e" * 64, "9.0.0-local", device.boots + 1
    device.checkin()
    found = attempt(service, rollout_id)
    assert (found.state, found.reason) == (("failed", "wrong-image") if cleared else ("called-off", "flashed-by-hand"))
    if cleared:
        service.herald.rollouts.halt(rollout_id, "that was us")
        ways = service.herald.rollouts.preview_rollback(rollout_id, RollbackIn(reason="and back")).ways
        assert [way.way for way in ways] == ["already-back"], "it stays with what it came from by now"


def test_confirming_the_old_image_is_falling_back(service: RunningService, device: PuppetDevice) -> None:
    rollout_id = begin(service, device)
    device.report("installing")
    device.report("confirmed", digests={"app": OLD})
    found = attempt(service, rollout_id)
    assert (found.state, found.reason, found.harmed_at is not None) == ("reverted", "fell-back", True)
    told = service.herald.rollouts.timeline(found.id)
    assert told[0].said_by == "service" and "another image than the target" in told[0].detail


def test_updater_1_is_told_to_switch_only_if_its_standby_slot_shows_the_target(
    service: RunningService, device: PuppetDevice
) -> None:
    device.updater = 1
    device.checkin()
    rollout_id = service.herald.rollouts.start(service.plan(answer_within="10h")).id
    device.checkin()
    device.stage()
    standby, device.standby = device.standby, {}
    assert device.checkin().json()["order"] == "stay"
    device.standby = standby
    order = device.checkin().json()
    assert order["order"] == "switch" and "to" not in order
    device.report("installing")
    device.switch()
    device.order = order
    device.checkin(ready=False)
    device.order = order
    device.report("confirmed")
    assert attempt(service, rollout_id).state == "proving", "it does not say what it vouches for"
    device.checkin()
    assert attempt(service, rollout_id).state == "confirmed"


def test_a_release_of_radio_alone_is_held_against_radio(service: RunningService, device: PuppetDevice) -> None:
    radio = make_image("1.1.0", component="radio", fill=b"\x33\x44")
    body = service.publisher.sealed([radio], version="2.5.1")
    service.post_release(body).raise_for_status()
    now = {
        "app": {"version": "2.4.0", "digest": OLD, "slot": "a", "floor": 4},
        "radio": {"version": "1.0.0", "digest": "f" * 64, "slot": "modem", "floor": 4},
    }
    device.checkin(running=now)
    plan = service.plan("2.5.1").model_dump(mode="json", exclude_none=True)
    plan["rings"] = [{"name": "everyone", "soak": "1h"}]
    rollout_id = service.herald.rollouts.start(type(service.plan()).model_validate(plan)).id
    assert device.checkin(running=now).json()["order"] == "fetch"
    stands_by = {"radio": {"version": "1.1.0", "digest": radio.digest, "slot": "b", "floor": 4}}
    device.report("staged")
    order = device.checkin(running=now, standby=stands_by).json()
    assert order["order"] == "switch" and order["to"] == {"radio": radio.digest}
    device.report("installing")
    device.boots, device.seq = device.boots + 1, 0
    then = {**now, "radio": {**now["radio"], "version": "1.1.0", "digest": radio.digest}}
    for _ in range(3):
        assert device.checkin(running=then).status_code == 204
    found = attempt(service, rollout_id)
    assert (found.state, found.reason) == ("confirmed", None), "app is what it was, and is not meant"
    device.boots += 1
    device.checkin(running=now)
    assert (attempt(service, rollout_id).state, attempt(service, rollout_id).reason) == ("relapsed", "fell-back")


def test_all_components_go_back_to_what_this_device_came_from(service: RunningService, device: PuppetDevice) -> None:
    app, radio = make_image("2.6.0"), make_image("1.1.0", component="radio", fill=b"\x33\x44")
    service.post_release(service.publisher.sealed([app, radio])).raise_for_status()

    def slots(app_digest: str, radio_digest: str, slot: str) -> dict[str, Any]:
        content = {"version": "1.0.0", "slot": slot, "floor": 4}
        return {"app": {**content, "digest": app_digest}, "radio": {**content, "digest": radio_digest}}

    old, new = slots(OLD, "f" * 64, "a"), slots(app.digest, radio.digest, "b")
    device.checkin(running=old)
    plan = service.plan("2.6.0").model_dump(mode="json", exclude_none=True)
    plan["rings"] = [{"name": "everyone", "soak": "1h"}]
    rollout_id = service.herald.rollouts.start(type(service.plan()).model_validate(plan)).id
    device.checkin(running=old)
    device.report("staged")
    order = device.checkin(running=old, standby=new).json()
    assert order["to"] == {"app": app.digest, "radio": radio.digest}
    device.report("installing")
    device.boots, device.seq = device.boots + 1, 0
    halfway = {"app": new["app"], "radio": old["radio"]}
    device.checkin(running=halfway, trial=True)
    assert attempt(service, rollout_id).state == "proving"
    device.checkin(running=new, standby=old)
    found = attempt(service, rollout_id)
    assert (found.state, {part.state for part in found.parts}) == ("confirmed", {State.CONFIRMED})

    service.herald.rollouts.halt(rollout_id, "not this one")
    ways = service.herald.rollouts.preview_rollback(rollout_id, RollbackIn(reason="and back")).ways
    assert [(way.way, way.devices) for way in ways] == [("switch-back", 1)]
    back = service.herald.rollouts.roll_back(rollout_id, RollbackIn(reason="and back"))
    order = device.checkin(running=new, standby=old).json()
    assert (order["order"], order["to"]) == ("switch-back", {"app": OLD, "radio": "f" * 64})
    device.report("installing")
    device.boots, device.seq = device.boots + 1, 0
    device.checkin(running=old, standby=new)
    found = attempt(service, back.id)
    assert found.state == "confirmed"
    assert "2.6.0" not in {part.to_version for part in found.parts}, "it was brought what ran before"
    service.wait_for(rollout_id, lambda r: r.states == {"rolled-back": 1})


def copy_calls(service: RunningService, device: PuppetDevice) -> None:
    """A unit with a copy of the flash, and a boot history of its own."""
    for seq in (7, 8):
        device.checkin(boots=1, seq=1000 + seq)
        service.pass_time(timedelta(minutes=2))
    assert service.herald.devices.show(device.serial).cloned_at is not None


def test_a_token_of_two_units_moves_nothing_until_it_enrols_again(
    service: RunningService, device: PuppetDevice
) -> None:
    other = PuppetDevice(service.url, "TA-2")
    other.enrol(service.code()).raise_for_status()
    other.checkin()
    device.boots = 9
    device.checkin()
    rollout_id = service.herald.rollouts.start(service.plan(answer_within="10h")).id
    assert other.checkin().json()["order"] == "fetch", "the ring waits for this one, however much time passes"
    copy_calls(service, device)
    assert device.checkin().status_code == 204
    assert service.herald.rollouts.show(rollout_id).states == {"queued": 1, "offered": 1}
    service.herald.devices.allow_enrolment("TA-1", "the copy was scrapped")
    device.enrol(service.code(), nonce="another-nonce-000000").raise_for_status()
    device.boots, device.seq = 1, 0
    assert device.checkin().json()["order"] == "fetch"


def test_a_token_of_two_units_holds_no_ring_open(service: RunningService, device: PuppetDevice) -> None:
    """Whether it was told nothing yet, or was at risk: the rollout comes to its end without it."""
    device.boots = 9
    device.checkin()
    rollout_id = service.herald.rollouts.start(service.plan(answer_within="1h")).id
    copy_calls(service, device)
    service.wait_for(rollout_id, lambda r: r.state == "finished")
    service.herald.devices.settle("TA-1", "the copy was scrapped")
    rollout_id = begin(service, device, answer_within="1h")
    copy_calls(service, device)
    for _ in range(2):
        service.pass_time(timedelta(minutes=31))
        device.checkin()
    found = service.wait_for(rollout_id, lambda r: not r.at_risk)
    assert found.states == {"silent": 1}


def test_doctor_lists_what_was_settled(service: RunningService, device: PuppetDevice) -> None:
    rollout_id = begin(service, device)
    assert _settled(service.herald).verdict is Verdict.PASS
    found = attempt(service, rollout_id)

    async def settle() -> None:
        async with service.context.engine.begin() as connection:
            at, why = service.context.clock.now(), "its device vouched for what it came from"
            row = {"attempt_id": found.id, "at": at, "state_before": "confirmed", "state": "reverted", "why": why}
            row["reason"] = "fell-back"
            await connection.execute(insert(Settlement), row)

    service.call(settle())
    (settled,) = service.herald.rollouts.settlements()
    assert (settled.serial, settled.rollout_id, settled.state) == ("TA-1", rollout_id, "reverted")
    check = _settled(service.herald)
    assert check.verdict is Verdict.WARN
    assert "TA-1, rollout 1: confirmed is by now reverted (fell-back), since its device vouched" in check.detail


def test_the_bytes_decide_whatever_version_a_device_says_it_runs(service: RunningService, device: PuppetDevice) -> None:
    rollout_id = begin(service, device)
    device.switch()
    device.version = "9.9.9-wrong"
    device.trial = False
    device.checkin(after_restart=True)
    found = attempt(service, rollout_id)
    assert (found.state, found.says_version) == (State.CONFIRMED, "9.9.9-wrong")
    for _ in range(2):  # and it stays so
        shown = service.herald.devices.show("TA-1")
        assert (shown.version, shown.says_version, shown.version_differs) == ("2.5.0", "9.9.9-wrong", True)
        assert shown.running["app"]["version"] == "9.9.9-wrong" and shown.runs == "release"
        device.checkin(condition={"battery": 50})
    said = [entry.detail for entry in shown.timeline if entry.detail.startswith("version-differs")]
    assert said == ["version-differs: it says it is 9.9.9-wrong; these bytes are 2.5.0"]
    assert service.herald.devices.list(where="version_differs = yes and version = 2.5.0").total == 1
    newest = service.herald.releases.find("comb-s1/hive-scale/2.5.0")
    assert (newest.running, newest.version_differs) == (1, 1)
    service.publish("2.6.0").raise_for_status()
    assert service.herald.rollouts.preview(service.plan("2.6.0")).counts == [1], "no newer one for all its words"


def test_an_unknown_build_is_called_as_it_was_published_once_it_is(service: RunningService) -> None:
    service.publish("2.4.0").raise_for_status()
    device = PuppetDevice(service.url, "TA-1", version="2.7.0")
    device.enrol(service.code()).raise_for_status()
    device.version = "0.0.0"
    device.checkin()
    assert (service.herald.devices.show("TA-1").version, service.herald.devices.show("TA-1").runs) == (
        "0.0.0",
        "unknown-build",
    )
    service.publish("2.7.0").raise_for_status()
    shown = service.herald.devices.show("TA-1")
    assert (shown.version, shown.says_version, shown.runs) == ("2.7.0", "0.0.0", "release")
    device.checkin(condition={"battery": 50})
    assert service.herald.devices.show("TA-1").version == "2.7.0"
    assert service.herald.devices.list(where="version >= 2.7.0").total == 1
