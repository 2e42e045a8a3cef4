"""A rollout in which nothing moves by itself says so, and somebody may let it go on."""

import time

import pytest

from mellow_herald.client import ProblemError
from mellow_herald.wire.rollout import PlanEdit
from tests.harness.device import PuppetDevice
from tests.harness.service import RunningService
from tests.service.rollouts.test_harm import fleet, revert, started
from tests.service.rollouts.test_life import go_through
from tests.service.rollouts.test_rings import journalled

__all__ = ["fleet"]


def test_who_is_left_out_holds_no_ring_and_is_not_tried_again(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    """A bad release on one revision: halted, resumed without it, and the ring comes to its end."""
    rollout_id = started(service, brake={"firmware_limit": 0.9})
    mine = {device.serial: device for device in fleet}
    bad = [device for device in fleet if device.hw_rev == 2]
    for device in bad[:4]:
        revert(device)
    service.herald.rollouts.halt(rollout_id, "support calls come in")
    service.wait_for(rollout_id, lambda r: r.live == 0)
    service.herald.rollouts.resume(rollout_id, "it is hw_rev 2 alone", leave_out="hw_rev = 2")
    attempts = service.herald.rollouts.attempts(rollout_id, limit=100).items
    gone = next(one for one in attempts if one.serial == bad[0].serial)
    with pytest.raises(ProblemError, match="goes on without this device"):
        service.herald.rollouts.retry(gone.id, "perhaps now")
    for one in attempts:
        if mine[one.serial].hw_rev != 2:
            go_through(mine[one.serial])
    done = service.wait_for(rollout_id, lambda r: r.state == "finished")
    assert done.stands_still is None and done.states["reverted"] == 4


def test_a_ring_that_cannot_become_through_says_so_and_what_can_be_done(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = started(service, brake={"firmware_limit": 0.9})
    for device in fleet[:5]:
        revert(device)
    for device in fleet[5:]:
        go_through(device)
    still = service.wait_for(rollout_id, lambda r: r.stands_still is not None)
    assert f"{len(fleet) - 5} of {len(fleet)} devices are good, and the plan wants 90 %" in (still.stands_still or "")
    choices = {choice.do.value: choice for choice in still.choices}
    assert [*choices] == ["failures", "retry", "go", "leave-out", "enough", "halt", "cancel"]
    assert (choices["retry"].devices, choices["leave-out"].devices, choices["go"].devices) == (5, 5, 0)
    assert [ring.stands_why for ring in still.rings] == [(still.stands_still or "").partition(": ")[2]]
    assert journalled(service, "ring 1 stands still").why == still.rings[0].stands_why
    # A ring that is open may ask less of its devices; nothing else of it may change.
    rings = [ring.model_copy(update={"enough": 0.95}) for ring in still.plan.rings]
    edited = service.herald.rollouts.edit(rollout_id, PlanEdit(rings=rings, reason="more still"))
    assert edited.plan.rings[0].enough == 0.95
    with pytest.raises(ProblemError, match="stay as they are, but for enough"):
        other = [ring.model_copy(update={"soak": "9m"}) for ring in rings]
        service.herald.rollouts.edit(rollout_id, PlanEdit(rings=other, reason="shorter"))
    service.herald.rollouts.go(rollout_id, "they are all of one site without mains")
    done = service.wait_for(rollout_id, lambda r: r.state == "finished")
    assert done.stands_still is None and done.states["reverted"] == 5, "what went wrong stays"
    entry = journalled(service, "rollout ring 1 goes on all the same")
    assert entry.data["bad"] == 5 and entry.data["shown"] and entry.who == "admin"
    with pytest.raises(ProblemError, match="nothing-awaits-go|does not await go"):
        service.herald.rollouts.go(rollout_id, "once more")


def test_who_waits_too_long_for_a_condition_is_set_aside_and_served_when_its_time_comes(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rings = [{"name": "first", "count": 10, "soak": "0s"}, {"name": "rest", "opens": "by-hand", "soak": "0s"}]
    rollout_id = started(service, rings)
    inner = {one.serial for one in service.herald.rollouts.attempts(rollout_id, ring=0).items}
    flat, *others = [device for device in fleet if device.serial in inner]
    assert flat.checkin(condition={"battery": 5}).status_code == 204, "it waits for its battery"
    for device in others:
        go_through(device)
    held = service.wait_for(rollout_id, lambda r: r.states.get("confirmed") == 9)
    assert held.rings[0].state == "open" and held.stands_still is None
    assert held.rings[1].hangs_on == ["1 device of ring first not heard of since it opened", "somebody says go"]
    seen = service.herald.rollouts.preview_edit(rollout_id, PlanEdit(wait_at_most="1s", reason="look"))
    assert [(one.key, one.before, one.after) for one in seen.changes] == [("numbers.wait_at_most", "1d", "1s")]
    time.sleep(1.2)
    edit = PlanEdit(wait_at_most="1s", reason="nobody waits for one flat battery")
    seen = service.herald.rollouts.preview_edit(rollout_id, edit)
    assert seen.effects == [
        "ring first: 1 devices are set aside, 0 now",
        "ring first is through with it: 9 of 9 devices are good",
    ]
    service.herald.rollouts.edit(rollout_id, edit, revision=seen.revision)
    on = service.wait_for(rollout_id, lambda r: r.rings[1].state == "awaiting-go")
    assert on.rings[0].set_aside == {"battery": 1}
    go_through(flat)
    assert service.wait_for(rollout_id, lambda r: r.states.get("confirmed") == 10).rings[0].set_aside == {}


def test_a_ring_with_too_many_set_aside_stands_still(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = started(service, numbers={"wait_at_most": "1s"})
    for device in fleet[:4]:
        device.checkin(condition={"battery": 5})
    for device in fleet[4:]:
        go_through(device)
    still = service.wait_for(rollout_id, lambda r: r.stands_still is not None)
    assert f"4 of {len(fleet)} devices that asked are set aside" in (still.stands_still or "")
    choices = {choice.do.value: choice for choice in still.choices}
    assert choices["enough"].command == f"herald rollout edit {rollout_id} --enough 0.83" and "retry" not in choices
    done = service.herald.rollouts.leave_out(rollout_id, "their yard has no mains until spring")
    done = service.wait_for(rollout_id, lambda r: r.state == "finished")
    assert (done.outcome, done.states) == ("carried-out", {"confirmed": 20, "called-off": 4})
    assert journalled(service, "rollout devices left out").data["devices"] == 4


def test_a_device_whose_battery_the_release_drained_is_not_set_aside(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    numbers = {"wait_at_most": "1s", "retries": 1, "retry_pause": "0s"}
    rollout_id = started(service, numbers=numbers, brake={"firmware_limit": 0.9})
    for device in fleet[:3]:
        revert(device, "power-lost")
        device.checkin(condition={"battery": 5})
    for device in fleet[3:]:
        go_through(device)
    still = service.wait_for(rollout_id, lambda r: r.stands_still is not None)
    assert still.states == {"confirmed": 21, "staged": 3} and still.waiting == {"battery": 3}
    assert "21 of 24 devices are good" in (still.stands_still or "") and still.rings[0].set_aside == {}
    for device in fleet[:3]:
        assert device.checkin().json()["order"] == "switch"
        device.report("installing")
        device.switch()
        device.report("confirmed")
    assert service.wait_for(rollout_id, lambda r: r.state == "finished").ever_bad == 3


def test_the_calendar_of_a_rollout_can_be_changed_while_it_runs(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = started(service, calendar={"last_day": "2099-01-01"})
    plan = service.herald.rollouts.show(rollout_id).plan
    window = {"begin": "00:00", "end": "00:00", "use": "fetch"}
    later = plan.calendar.model_validate({"last_day": "2098-12-31", "windows": [window]})
    seen = service.herald.rollouts.preview_edit(rollout_id, PlanEdit(calendar=later, reason="sooner"))
    assert "it ends at 2099-01-01 00:00 UTC" in seen.effects and "devices may fetch now" in seen.effects
    assert {one.key for one in seen.changes} == {"calendar.last_day", "calendar.windows"}
    shown = service.herald.rollouts.edit(rollout_id, PlanEdit(calendar=later, reason="sooner"))
    assert str(shown.plan.calendar.last_day) == "2098-12-31"
    over = plan.calendar.model_validate({"last_day": "2020-01-01"})
    seen = service.herald.rollouts.preview_edit(rollout_id, PlanEdit(calendar=over, reason="enough"))
    assert any("its last day is over" in effect for effect in seen.effects)
    with pytest.raises(ProblemError, match="has started"):
        start = plan.calendar.model_validate({"start": "2030-01-01T00:00"})
        service.herald.rollouts.edit(rollout_id, PlanEdit(calendar=start, reason="again"))
    service.herald.rollouts.edit(rollout_id, PlanEdit(calendar=over, reason="enough"))
    done = service.wait_for(rollout_id, lambda r: r.state == "finished")
    assert done.outcome == "cut-short", "its days were over before its rings were"
