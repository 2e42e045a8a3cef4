"""What a rollout came to, and that nothing that went wrong is ever forgotten."""

import pytest

from mellow_herald.client import ProblemError
from mellow_herald.wire.rollback import RollbackIn
from mellow_herald.wire.rollout import PlanEdit
from tests.harness.device import PuppetDevice
from tests.harness.service import RunningService
from tests.service.calls.test_what_runs import copy_calls
from tests.service.rollouts.test_harm import expose, fleet, restart, revert, started
from tests.service.rollouts.test_life import go_through

__all__ = ["fleet"]


def test_a_cancel_after_a_halt_keeps_the_halt_the_bytes_and_says_its_own_reason(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = started(service)
    for device in fleet[:2]:
        device.checkin()
        device.report("downloading", step="fetch", percent=40)
    before = service.herald.rollouts.show(rollout_id)
    assert before.outcome is None and before.moved_bytes > 0
    service.herald.rollouts.halt(rollout_id, "support calls come in")
    halted = service.wait_for(rollout_id, lambda r: r.live == 0)
    assert (halted.outcome, halted.halted_why) == ("halted", "support calls come in")
    service.herald.rollouts.cancel(rollout_id, "2.5.1 goes out instead")
    over = service.herald.rollouts.show(rollout_id)
    assert (over.state, over.outcome, over.reason) == ("cancelled", "halted", "2.5.1 goes out instead")
    assert over.halted_why == "support calls come in" and over.moved_bytes == before.moved_bytes
    moved = service.herald.latest_events(rollout_id=rollout_id, kinds=["attempt"])
    assert moved[0].data["state"] == "called-off" and moved[0].data["serial"] in {device.serial for device in fleet}
    last = service.herald.latest_events(rollout_id=rollout_id, kinds=["rollout"], limit=1)[0]
    assert (last.data["what"], last.data["outcome"], last.data["ever_bad"]) == ("cancelled", "halted", {})


def test_a_cancel_of_what_was_never_halted_is_cut_short(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = started(service)
    service.herald.rollouts.cancel(rollout_id, "wrong plan")
    assert service.herald.rollouts.show(rollout_id).outcome == "cut-short"


def test_after_a_rollback_the_first_rollout_still_shows_what_went_wrong(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = started(service, brake={"firmware_limit": 0.9, "hard_stop": 2})
    good = fleet[5]
    go_through(good)
    for device in fleet[:2]:
        revert(device, "self-test-failed")
    halted = service.wait_for(rollout_id, lambda r: r.state == "halted")
    assert halted.harm == {"self-test-failed": 2}
    back = service.herald.rollouts.roll_back(rollout_id, RollbackIn(reason="its self-test fails"))
    order = good.checkin().json()
    assert order["order"] == "switch-back"
    good.report("installing")
    good.switch()
    good.checkin(after_restart=True)
    good.order = order
    good.report("confirmed")
    service.wait_for(back.id, lambda r: r.state == "finished")
    shown = service.wait_for(rollout_id, lambda r: r.outcome == "rolled-back")
    assert (shown.state, shown.ever_bad, shown.harm) == ("finished", 2, {"self-test-failed": 2})
    assert shown.halted_why == halted.reason and shown.states["rolled-back"] == 3 and not shown.reasons
    bad = service.herald.rollouts.attempts(rollout_id, ever_bad=True).items
    assert {(one.state, one.first_bad_why, one.first_bad_try) for one in bad} == {
        ("rolled-back", "self-test-failed", 1)
    }
    assert len(service.herald.rollouts.attempts(rollout_id, reason="self-test-failed").items) == 2
    report = service.herald.rollouts.written_report(rollout_id)
    assert "Outcome: rolled-back." in report and "Ever bad: 2 (2 self-test-failed)" in report


def test_one_that_was_resumed_while_it_was_rolled_back_has_come_to_nothing_yet(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = started(service)
    go_through(fleet[5])
    service.herald.rollouts.halt(rollout_id, "look first")
    service.wait_for(rollout_id, lambda r: r.live == 0)
    back = service.herald.rollouts.roll_back(rollout_id, RollbackIn(reason="to be sure"))
    service.herald.rollouts.resume(rollout_id, "it was not the firmware")
    order = fleet[5].checkin().json()
    assert order["order"] == "switch-back"
    fleet[5].report("installing")
    fleet[5].switch()
    fleet[5].checkin(after_restart=True)
    fleet[5].order = order
    fleet[5].report("confirmed")
    service.wait_for(back.id, lambda r: r.state == "finished")
    shown = service.herald.rollouts.show(rollout_id)
    assert (shown.state, shown.outcome, shown.halted_why) == ("running", None, "look first")


def test_a_failed_try_is_kept_with_its_log_and_the_devices_word_goes_before_what_was_inferred(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = started(service, brake={"firmware_limit": 0.9}, numbers={"retries": 1, "retry_pause": "0s"})
    device, other = fleet[0], fleet[1]
    expose(device)
    device.boots += 1  # back on what it ran before, and it checks in before it says why
    device.seq = 0
    device.trial = False
    first = device.order
    device.checkin()
    device.order = first  # what it says next is of its first try
    inferred = service.herald.rollouts.attempts(rollout_id, ever_bad=True).items
    assert [(one.first_bad_why) for one in inferred] == ["power-lost"]
    lines = "\n".join(f"line {n}" for n in range(1, 9))
    failed = [{"name": "clock", "passed": False, "detail": "3 s late"}]
    device.report("reverted", reason="self-test-failed", detail="the clock is late", log=lines, tests=failed)
    other.checkin()
    other.report("failed", reason="no-room", detail="12 KiB are missing", log="no room")
    found = {one.serial: one for one in service.herald.rollouts.failures(rollout_id).items}
    told = found[device.serial]
    assert (told.reason, told.said_by, told.detail) == ("self-test-failed", "device", "the clock is late")
    assert told.log.splitlines() == [f"line {n}" for n in range(4, 9)] and told.log_lines == 8
    assert told.tests[0]["name"] == "clock" and found[other.serial].reason == "no-room"
    whole = service.herald.rollouts.failures(rollout_id, logs=True, where=f'serial = "{device.serial}"').items
    assert [one.log for one in whole] == [lines]
    timeline = service.herald.rollouts.timeline(told.attempt_id)
    assert {("service", "power-lost"), ("device", "self-test-failed")} <= {(e.said_by, e.reason) for e in timeline}
    shown = service.herald.devices.show(device.serial)
    assert any(entry.log == lines for entry in shown.timeline)
    assert service.herald.rollouts.show(rollout_id).harm == {"self-test-failed": 1, "no-room": 1}


def test_a_slot_that_holds_what_went_bad_is_no_way_back(service: RunningService, fleet: list[PuppetDevice]) -> None:
    started(service, brake={"firmware_limit": 0.9})
    device = fleet[0]
    revert(device, "hung")
    device.checkin()
    shown = service.herald.devices.show(device.serial)
    assert (shown.way_back, shown.standby_failed) == (False, "hung")


def test_who_switches_without_clearance_is_believed_marked_and_counted(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = started(service)
    device = fleet[0]
    device.checkin()
    device.stage()
    device.report("installing")
    restart(device)
    device.report("confirmed")
    shown = service.wait_for(rollout_id, lambda r: r.unasked == 1)
    (one,) = (a for a in service.herald.rollouts.attempts(rollout_id).items if a.unasked_at)
    assert (one.serial, one.state) == (device.serial, "confirmed"), "it is believed"
    assert [(r.id, r.unasked) for r in service.herald.overview().moving] == [(shown.id, 1)]
    assert "acted-without-clearance" in service.herald.rollouts.written_report(rollout_id)


def test_devices_that_share_a_token_are_passed_over(service: RunningService, fleet: list[PuppetDevice]) -> None:
    fleet[0].boots = 3
    fleet[0].checkin()
    copy_calls(service, fleet[0])
    rollout_id = started(service)
    assert service.herald.rollouts.show(rollout_id).passed_over == {"token-shared": 1}


def test_delivery_failures_that_came_through_later_are_said_to_have(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = started(service, numbers={"retries": 1, "retry_pause": "0s"}, brake={"delivery_limit": 0.9})
    for device in fleet[:3]:
        device.checkin()
        device.report("failed", reason="download-broken")
        go_through(device)
    words = service.herald.rollouts.brakes(rollout_id).brakes[1].words
    assert "3 failed at first of 3 offered, all through later" in words


def test_what_somebody_asks_for_wrongly_is_told_what_to_do(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = started(service)
    for act, words in (
        (lambda: service.herald.rollouts.retry_bad(rollout_id, "once more"), "can be tried again"),
        (lambda: service.herald.rollouts.leave_out(rollout_id, "no reason"), "stands still"),
        (lambda: service.herald.rollouts.leave_out(rollout_id, "no reason", where="hw_rv = 2"), "hw_rev"),
        (
            lambda: service.herald.rollouts.edit(rollout_id, PlanEdit(wait_at_most="2h", reason="x y"), revision=7),
            "changed",
        ),
        (lambda: service.herald.rollouts.failures(99), "no rollout 99"),
    ):
        with pytest.raises(ProblemError, match=words):
            act()
    service.herald.rollouts.leave_out(rollout_id, "not this revision", where="hw_rev = 2")
    shown = service.herald.rollouts.show(rollout_id)
    assert shown.plan.leave_out == "hw_rev = 2" and shown.states["called-off"] == sum(d.hw_rev == 2 for d in fleet)
    service.herald.rollouts.halt(rollout_id, "stop it")
    with pytest.raises(ProblemError, match="resume it with --except"):
        service.herald.rollouts.leave_out(rollout_id, "too late", where="hw_rev = 3")


def test_a_rollout_that_was_held_goes_on_without_whom_it_is_to_leave_out(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = started(service)
    service.herald.rollouts.hold(rollout_id, "look first")
    service.herald.rollouts.resume(rollout_id, "without them", leave_out="hw_rev = 2")
    off = service.herald.rollouts.attempts(rollout_id, state="called-off").items
    assert {one.reason for one in off} == {"left-out"} and all(one.left_out for one in off)
    assert len(off) == sum(device.hw_rev == 2 for device in fleet)


def test_what_a_device_says_stands_in_a_report_as_text(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = started(service, brake={"firmware_limit": 0.9})
    expose(fleet[0])
    nasty = "\x1b]52;c;cm0=\x07 | <b>\u202etxt.exe"
    fleet[0].report("reverted", reason="crashed", detail=nasty).raise_for_status()
    with service.http(service.token) as http:
        for kind in ("md", "html"):
            text = http.get(f"/api/v1/rollouts/{rollout_id}/report.{kind}").text
            assert "crashed" in text and "\u241b" in text, "it is there, and can be seen"
            assert not {"\x1b", "\x07", "\u202e"} & {*text} and " | <b>" not in text
