"""Rollouts in several rings, as engineers steer them and devices see them."""

import time
from datetime import timedelta
from typing import Any

import pytest

from mellow_herald.client import ProblemError
from mellow_herald.core import limits
from mellow_herald.core.attempt import AT_RISK
from mellow_herald.service.rollouts import conductor
from mellow_herald.store import progress, rings
from mellow_herald.wire.event import JournalEntry
from mellow_herald.wire.plan import PlanDocument, PlanPace
from mellow_herald.wire.rollout import PlanEdit
from tests.harness.device import PuppetDevice
from tests.harness.firmware import BOARD, LINE
from tests.harness.patience import PATIENCE_S
from tests.harness.service import RunningService
from tests.service.rollouts.test_life import go_through, not_heard_of, served_long

RELEASE = f"{BOARD}/{LINE}/2.5.0"


def plan(rings: list[dict[str, Any]], **more: Any) -> PlanDocument:
    whole = [{"soak": "0s", **ring} for ring in rings]
    numbers = {"retries": 0, **more.pop("numbers", {})}
    given = {"name": "in rings", "release": RELEASE, "target": f"board = {BOARD}", **more}
    return PlanDocument.model_validate({**given, "numbers": numbers, "rings": whole})


THREE = [
    {"name": "bench", "where": "has bench"},
    {"name": "pilot", "count": 3, "spread_over": ["hw_rev"]},
    {"name": "rest"},
]


def journalled(service: RunningService, what: str) -> JournalEntry:
    """The newest entry of the journal that says ``what``, once it is sealed."""
    deadline = time.monotonic() + PATIENCE_S
    while True:
        for entry in service.herald.journal.list().items:
            if entry.what == what:
                return entry
        assert time.monotonic() < deadline, what
        time.sleep(0.05)


def in_ring(service: RunningService, rollout_id: int, ring: int, fleet: list[PuppetDevice]) -> list[PuppetDevice]:
    serials = {attempt.serial for attempt in service.herald.rollouts.attempts(rollout_id, ring=ring).items}
    return [device for device in fleet if device.serial in serials]


def test_rings_open_one_after_the_other_until_all_are_served(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    document = plan(THREE)
    preview = service.herald.rollouts.preview(document)
    assert preview.counts == [2, 3, 5] and preview.eligible == preview.targeted == 10
    rollout_id = service.herald.rollouts.start(document, counts=preview.counts).id
    for ring, size in enumerate((2, 3, 5)):
        shown = service.wait_for(rollout_id, lambda r, n=ring: r.rings[n].state == "open")
        assert [one.state for one in shown.rings[ring + 1 :]] == ["closed"] * (2 - ring)
        devices = in_ring(service, rollout_id, ring, fleet)
        assert len(devices) == size
        if ring == 0:
            assert {device.serial for device in devices} == {"TA-0", "TA-1"}
        if ring == 1:
            assert {device.serial for device in devices} == {one.serial for one in preview.rings[1].first}
            assert {device.hw_rev for device in devices} == {1, 2, 3}, "spread over hw_rev"
        for device in devices:
            go_through(device)
    done = service.wait_for(rollout_id, lambda r: r.state == "finished")
    assert (done.targeted, done.never_given, done.states) == (10, 0, {"confirmed": 10})
    assert [ring.planned for ring in done.rings] == [2, 3, 5]


def test_large_rings_open_in_portions_and_leave_nobody_out(
    service: RunningService, fleet: list[PuppetDevice], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(rings, "SLICE", 2)
    rollout_id = service.herald.rollouts.start(plan([{"name": "some", "count": 5}, {"name": "rest"}])).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    first = in_ring(service, rollout_id, 0, fleet)
    assert len(first) == 5
    newcomer = PuppetDevice(service.url, "TA-new")
    newcomer.enrol(service.code(), labels={}).raise_for_status()
    newcomer.checkin()
    for device in first:
        go_through(device)
    service.wait_for(rollout_id, lambda r: r.rings[1].state == "open")
    rest = in_ring(service, rollout_id, 1, [*fleet, newcomer])
    assert {device.serial for device in rest} == {d.serial for d in [*fleet, newcomer]} - {d.serial for d in first}
    shown = service.herald.rollouts.show(rollout_id)
    assert sum(shown.states.values()) == shown.targeted == 11 and not shown.passed_over


def test_a_large_rollout_is_counted_where_something_happens(
    service: RunningService, fleet: list[PuppetDevice], monkeypatch: pytest.MonkeyPatch
) -> None:
    counted = 0
    count = progress.ring_progress

    async def counting(*asked: Any) -> Any:
        nonlocal counted
        counted += 1
        return await count(*asked)

    monkeypatch.setattr(limits, "LARGE", 0)
    monkeypatch.setattr(conductor, "IDLE_REST", 100_000.0)
    monkeypatch.setattr(progress, "ring_progress", counting)
    rollout_id = service.herald.rollouts.start(plan([{"name": "first", "count": 2}, {"name": "rest"}])).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    time.sleep(1.5)
    before = counted
    time.sleep(4)
    assert counted <= before + 1, "nobody does anything, but for what may still come of the start"
    for device in in_ring(service, rollout_id, 0, fleet):
        go_through(device)
    service.wait_for(rollout_id, lambda r: r.rings[1].state == "open")
    for device in in_ring(service, rollout_id, 1, fleet):
        go_through(device)
    service.wait_for(rollout_id, lambda r: r.state == "finished")


def test_a_large_rollout_is_looked_at_now_and_then_all_the_same(
    service: RunningService, fleet: list[PuppetDevice], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(limits, "LARGE", 0)
    monkeypatch.setattr(conductor, "IDLE_REST", 0.0)
    document = plan([{"name": "first", "count": 2, "soak": "2s"}, {"name": "rest"}])
    rollout_id = service.herald.rollouts.start(document).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    first = in_ring(service, rollout_id, 0, fleet)
    for device in first:
        go_through(device)
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "soaking")
    time.sleep(2.1)
    for device in first:
        device.checkin()  # which moves nothing, and is what the ring waits for
    service.wait_for(rollout_id, lambda r: r.rings[1].state == "open")


def test_who_is_not_in_an_open_ring_is_told_nothing(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = service.herald.rollouts.start(plan(THREE)).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    assert [device.checkin().status_code for device in fleet[2:]] == [204] * 8
    shown = service.herald.rollouts.show(rollout_id)
    assert (shown.targeted, shown.never_given) == (10, 8)


def test_a_ring_by_hand_waits_for_go(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rings = [{"name": "bench", "where": "has bench"}, {"name": "rest", "opens": "by-hand"}]
    rollout_id = service.herald.rollouts.start(plan(rings)).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    with pytest.raises(ProblemError, match="none does"):
        service.herald.rollouts.go(rollout_id, "too early")
    for device in fleet[:2]:
        go_through(device)
    service.wait_for(rollout_id, lambda r: r.rings[1].state == "awaiting-go")
    time.sleep(1.2)
    assert service.herald.rollouts.show(rollout_id).rings[1].state == "awaiting-go", "it does not go on by itself"
    service.herald.rollouts.go(rollout_id, "looked at the logs, all quiet")
    service.wait_for(rollout_id, lambda r: r.rings[1].state == "open")
    assert journalled(service, "rollout go for ring 2").why == "looked at the logs, all quiet"


def test_rings_and_rollouts_wait_for_their_time(service: RunningService, fleet: list[PuppetDevice]) -> None:
    now = service.context.clock.now()
    later, soon = now + timedelta(hours=2), now + timedelta(minutes=10)
    rings = [{"name": "bench", "where": "has bench"}, {"name": "rest", "not_before": later.isoformat()}]
    rollout_id = service.herald.rollouts.start(plan(rings, calendar={"start": soon.isoformat()})).id
    assert service.herald.rollouts.show(rollout_id).state == "scheduled"
    assert fleet[0].checkin().status_code == 204
    service.pass_time(timedelta(minutes=11))
    service.wait_for(rollout_id, lambda r: r.state == "running" and r.rings[0].state == "open")
    for device in fleet[:2]:
        go_through(device)
    shown = service.wait_for(rollout_id, lambda r: r.rings[0].state == "done")
    time.sleep(0.5)
    assert service.herald.rollouts.show(rollout_id).rings[1].state == "closed"
    assert shown.rings[1].not_before is not None


def test_the_pace_holds_whatever_devices_do(service: RunningService, fleet: list[PuppetDevice]) -> None:
    document = plan([{"name": "all"}], pace={"downloading_at_once": 3, "at_risk_at_once": 2})
    rollout_id = service.herald.rollouts.start(document).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    orders = [device.checkin() for device in fleet]
    told = [device for device, order in zip(fleet, orders, strict=True) if order.status_code == 200]
    assert len(told) == 3
    waiting = service.herald.rollouts.attempts(rollout_id, waiting_for="pace").items
    assert len(waiting) == 7 and "pace" in str(waiting[0].waiting)
    for device in told:
        device.stage()
    assert [device.checkin().json()["order"] for device in told] == ["switch", "switch", "stay"]
    assert sum(device.checkin().status_code == 200 for device in fleet if device not in told) == 3
    go_on = told[0]
    go_on.report("installing")
    go_on.report("proving")
    go_on.report("confirmed")
    assert told[2].checkin().json()["order"] == "switch", "a place at risk has become free"
    shown = service.herald.rollouts.edit(rollout_id, PlanEdit(pace=PlanPace(downloading_at_once=7), reason="faster"))
    assert shown.revision == 2 and shown.plan.pace.at_risk_at_once is None
    rest = [device for device in fleet if device.checkin().status_code == 200]
    assert len(rest) >= 7


def test_who_comes_back_from_silence_counts_at_once_and_nothing_is_given_out_beyond_the_pace(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    served_long(service)
    document = plan([{"name": "all"}], pace={"downloading_at_once": 1}, numbers={"answer_within": "10m"})
    rollout_id = service.herald.rollouts.start(document).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    lost, next_one, third = fleet[:3]
    assert lost.checkin().json()["order"] == "fetch" and next_one.checkin().status_code == 204
    not_heard_of(service, lost, timedelta(minutes=11))
    service.wait_for(rollout_id, lambda r: r.states.get("silent") == 1)
    assert next_one.checkin().json()["order"] == "fetch", "a device that is gone keeps nobody waiting"
    lost.report("downloading", step="fetch", percent=50)
    assert service.herald.rollouts.show(rollout_id).downloading == 2, "it was there all the time"
    assert third.checkin().status_code == 204
    next_one.stage()
    assert third.checkin().status_code == 204, "the place is the other's"
    lost.stage()
    assert third.checkin().json()["order"] == "fetch"


def test_a_running_plan_may_be_edited_where_nothing_has_begun(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = service.herald.rollouts.start(plan(THREE)).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    edit, rings = service.herald.rollouts.edit, plan(THREE).rings
    changed = [rings[0], rings[1].model_copy(update={"count": 5}), rings[2]]
    shown = edit(rollout_id, PlanEdit(rings=changed, reason="a larger pilot"), revision=1)
    assert [ring.planned for ring in shown.rings] == [2, 5, 3] and shown.revision == 2
    with pytest.raises(ProblemError, match="changed meanwhile"):
        edit(rollout_id, PlanEdit(rings=changed, reason="once more"), revision=1)
    opened = [rings[0].model_copy(update={"soak": "5m"}), *rings[1:]]
    with pytest.raises(ProblemError, match="stay as they are, but for enough: 'bench'"):
        edit(rollout_id, PlanEdit(rings=opened, reason="too late"))
    entry = journalled(service, "rollout plan changed")
    assert entry.data["before"]["rings"][1]["count"] == 3 and entry.data["after"]["rings"][1]["count"] == 5
    for device in fleet[:2]:
        go_through(device)
    service.wait_for(rollout_id, lambda r: r.rings[1].state == "open" and r.rings[1].targeted == 5)


def test_hard_stop_halts_at_so_many_bad_devices(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = service.herald.rollouts.start(plan([{"name": "all"}], brake={"hard_stop": 2})).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    for device in fleet[:2]:
        device.checkin()
        assert service.herald.rollouts.show(rollout_id).state == "running"
        device.report("failed", reason="flash-error")
    halted = service.wait_for(rollout_id, lambda r: r.state == "halted")
    assert halted.reason == "2 devices went bad, and the plan's hard_stop is 2"
    service.wait_for(rollout_id, lambda r: r.states.get("called-off") == 8)
    service.herald.rollouts.resume(rollout_id, "those two had worn flash")
    time.sleep(1.2)
    assert service.herald.rollouts.show(rollout_id).state == "running", "a new round begins to count anew"


def test_single_devices_are_called_off_and_tried_again(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = service.herald.rollouts.start(plan([{"name": "all"}])).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    off, failing = fleet[0], fleet[1]
    off.checkin()
    called_off = service.herald.rollouts.call_off(off.order["attempt"], "the owner asked for it")
    assert called_off.state == "called-off"
    assert off.report("downloading", percent=3).json()["order"] == "abandon"
    failing.checkin()
    attempt = failing.order["attempt"]
    failing.report("failed", reason="no-room")
    assert failing.checkin().status_code == 204, "no tries are left"
    assert service.herald.rollouts.retry(attempt, "room was made").try_number == 2
    assert failing.checkin().json()["try"] == 2
    assert (
        service.herald.rollouts.retry(off.order.get("attempt") or called_off.id, "he changed his mind").state
        == "queued"
    )
    with pytest.raises(ProblemError, match="nothing to try again"):
        service.herald.rollouts.retry(attempt, "and again")
    failing.stage()
    failing.checkin()
    with pytest.raises(ProblemError, match="only what has no clearance"):
        service.herald.rollouts.call_off(attempt, "too late")
    assert journalled(service, "attempt called off").subject == "TA-0"
    assert journalled(service, "attempt tried again").why == "he changed his mind"


def test_an_urgent_plan_overtakes_what_waits_and_nothing_else(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    service.publish("2.5.1").raise_for_status()
    first = service.herald.rollouts.start(plan([{"name": "all"}])).id
    service.wait_for(first, lambda r: r.rings[0].state == "open")
    fleet[0].checkin()
    hotfix = plan([{"name": "all"}], name="hotfix", release=f"{BOARD}/{LINE}/2.5.1", urgent=True)
    with pytest.raises(ProblemError, match="10 in-other-rollout"):
        service.herald.rollouts.start(hotfix)
    with pytest.raises(ProblemError, match="Only an urgent plan"):
        service.herald.rollouts.preview(hotfix.model_copy(update={"urgent": False}), overtake=True)
    preview = service.herald.rollouts.preview(hotfix, overtake=True)
    assert preview.overtaken == {"in rings": 9}
    second = service.herald.rollouts.start(hotfix, overtake=True).id
    service.wait_for(second, lambda r: r.rings[0].state == "open" and r.states == {"queued": 9})
    shown = service.herald.rollouts.show(first)
    assert shown.states == {"offered": 1, "called-off": 9}
    assert service.herald.rollouts.show(second).passed_over == {"in-other-rollout": 1}
    entry = journalled(service, "rollout overtaken")
    assert entry.data == {"devices": 9, "by": second} and entry.subject == f"rollout {first}"


def test_late_comers_are_served_after_the_last_ring_if_the_plan_says_so(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    async def long_ago() -> None:
        async with service.context.engine.begin() as connection:
            for what in ("pulse SET seen_at = seen_at", "ring SET opened_at = opened_at"):
                await connection.exec_driver_sql(f"UPDATE {what} - interval '1 day'")

    rollout_id = service.herald.rollouts.start(plan([{"name": "all"}], latecomers=True)).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    service.call(long_ago())
    still = service.wait_for(rollout_id, lambda r: r.stands_still is not None)
    assert "none of its 10 devices has called since it opened" in (still.stands_still or "")
    go_through(fleet[0])
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "done")
    assert service.herald.rollouts.show(rollout_id).state == "running"
    for device in fleet[1:]:
        go_through(device)
    service.wait_for(rollout_id, lambda r: r.state == "finished" and r.states == {"confirmed": 10})


def test_after_the_last_day_nobody_is_served(service: RunningService, fleet: list[PuppetDevice]) -> None:
    yesterday = (service.context.clock.now() - timedelta(days=2)).date().isoformat()
    rollout_id = service.herald.rollouts.start(plan([{"name": "all"}], calendar={"last_day": yesterday})).id
    ended = service.wait_for(rollout_id, lambda r: r.state == "finished")
    assert not ended.exposed
    assert [entry.why for entry in service.herald.journal.list().items if entry.what == "finished"] == [
        "its last day is over"
    ]


def go_through_staged(device: PuppetDevice) -> None:
    order = device.checkin().json()
    assert order["order"] == "switch"
    device.report("installing")
    device.switch()
    device.checkin(after_restart=True)
    device.order = order
    device.report("proving")
    device.report("confirmed")


def test_the_report_tells_where_the_time_went_and_adds_up(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = service.herald.rollouts.start(plan([{"name": "b<e>nch", "where": "has bench"}, {"name": "rest"}])).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    go_through(fleet[0])
    fleet[1].checkin()
    fleet[1].report("failed", reason="flash-error", detail="a | b", log="line 1\nline <2>")
    time.sleep(1.1)
    report = service.herald.rollouts.report(rollout_id)
    assert {leg.leg for leg in report.rings[0].spent} == {
        "waiting for the device",
        "transfer",
        "waiting to switch",
        "installing",
        "proving",
    }
    assert {leg.leg for leg in report.rings[0].phases} == {"staging", "switching"}
    assert report.failures[0].log == "line 1\nline <2>" and report.rings[0].good == 1
    assert {"rollout started", "ring 1 opened"} <= {entry.what for entry in report.decisions}
    rollout = report.rollout
    assert rollout.targeted == sum(rollout.passed_over.values()) + rollout.never_given + sum(rollout.states.values())
    last = report.course.points[-1].states
    assert last == {"confirmed": 1, "failed": 1}
    text, page = (service.herald.rollouts.written_report(rollout_id, ending) for ending in ("md", "html"))
    assert "| never given an attempt | 8 |" in text and "a \\| b" in text
    assert "b&lt;e&gt;nch" in page and "line &lt;2&gt;" in page and "<script" not in page


def test_at_risk_is_never_above_the_pace_while_many_ask_at_once(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    import threading

    document = plan([{"name": "all"}], pace={"at_risk_at_once": 3})
    rollout_id = service.herald.rollouts.start(document).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    for device in fleet:
        device.checkin()
        device.stage()
    threads = [threading.Thread(target=device.checkin) for device in fleet]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    shown = service.herald.rollouts.show(rollout_id)
    assert shown.at_risk == sum(shown.states.get(state, 0) for state in AT_RISK) == 3
