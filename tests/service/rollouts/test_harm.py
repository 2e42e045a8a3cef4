"""Harm seen, stopped and undone, as engineers ask for it and devices live through it."""

import asyncio
import threading
import time
from typing import Any

import pytest

from mellow_herald.client import ProblemError
from mellow_herald.core.key_status import KeyStatus
from mellow_herald.core.keys import SigningKey, raw_public, sign_key_list
from mellow_herald.store.gate import Lock, take
from mellow_herald.wire.rollback import RollbackIn
from tests.harness.device import PuppetDevice
from tests.harness.patience import PATIENCE_S, until
from tests.harness.service import RunningService
from tests.service.rollouts.test_life import go_through
from tests.service.rollouts.test_rings import journalled, plan

WATCHED = {"watch_by": ["hw_rev"], "firmware_limit": 0.02}


@pytest.fixture
def fleet(service: RunningService) -> list[PuppetDevice]:
    """Twenty-four devices on 2.4.0; hw_rev 1, 2, 3 in turn, the first three hw_rev 1 on the bench."""
    service.publish("2.4.0").raise_for_status()
    service.publish("2.5.0").raise_for_status()
    code, made = service.code(), []
    for number in range(24):
        device = PuppetDevice(service.url, f"TA-{number:02d}", hw_rev=1 + number % 3)
        labels = {"site": "fernhollow" if number < 12 else "quillmere"}
        device.enrol(code, labels=labels).raise_for_status()
        device.checkin()
        made.append(device)
    return made


def started(service: RunningService, rings: list[dict[str, Any]] | None = None, **more: Any) -> int:
    rollout_id = service.herald.rollouts.start(plan(rings or [{"name": "all"}], **{"brake": WATCHED, **more})).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    return rollout_id


def expose(device: PuppetDevice) -> None:
    """From the offer to the new firmware on trial."""
    device.checkin()
    device.stage()
    assert device.checkin().json()["order"] == "switch"
    device.report("installing")
    device.report("proving")


def revert(device: PuppetDevice, reason: str = "crashed") -> None:
    """On trial, and back again."""
    expose(device)
    device.report("reverted", reason=reason)


def restart(device: PuppetDevice, **said: Any) -> None:
    """Boots what stands by and says so; the order it had still stands."""
    order = device.order
    device.switch()
    device.checkin(after_restart=True, **said)
    device.order = order


def halted(service: RunningService, rollout_id: int) -> Any:
    return service.wait_for(rollout_id, lambda r: r.state == "halted")


# The brake ---------------------------------------------------------------------------------------------------------


def test_the_brake_halts_on_evidence_and_says_so_in_words(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = started(service)
    for device in fleet[:12]:
        if device.hw_rev == 2:
            continue
        go_through(device)
    assert service.herald.rollouts.brakes(rollout_id).brakes[0].evidence < 1
    for device in [d for d in fleet if d.hw_rev == 2][:3]:
        expose(device)
    for device in [d for d in fleet if d.hw_rev == 2][:3]:
        device.report("reverted", reason="crashed")
    shown = halted(service, rollout_id)
    assert "firmware brake: evidence" in (shown.reason or "") and "hw_rev 2 shows most of all" in (shown.reason or "")
    assert shown.choices and {"failures", "suspects", "roll-back", "resume"} <= {choice.do for choice in shown.choices}
    brakes = service.herald.rollouts.brakes(rollout_id)
    firmware, delivery = brakes.brakes
    assert firmware.halts and firmware.evidence >= firmware.halts_at == 40 and firmware.strongest == "hw_rev 2"
    assert firmware.history[-1].evidence == pytest.approx(firmware.evidence)
    assert delivery.evidence <= 1 and not delivery.bad
    assert brakes.control is not None and brakes.control.devices > 0 and brakes.control.bad == 0
    assert journalled(service, "rollout halted").who == "conductor"
    last = next(device for device in fleet if device.boots == 1 and not device.standby)
    assert last.checkin().status_code == 204, "nobody else is told"


def test_a_halt_does_not_wait_for_a_conductor_that_is_busy(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = started(service)
    for device in fleet[:3]:
        expose(device)

    async def conduct(done: asyncio.Event, began: threading.Event) -> None:
        """As if a ring of very many devices were being opened."""
        async with service.context.engine.begin() as connection:
            await take(connection, Lock.CONDUCTOR, rollout_id)
            began.set()
            await done.wait()

    done, began = asyncio.Event(), threading.Event()
    busy = asyncio.run_coroutine_threadsafe(conduct(done, began), service.loop)
    try:
        assert began.wait(PATIENCE_S)
        for device in fleet[:3]:
            device.report("reverted", reason="crashed")
        shown = halted(service, rollout_id)
        assert not busy.done() and "firmware brake" in (shown.reason or "")
    finally:
        service.loop.call_soon_threadsafe(done.set)
        busy.result(PATIENCE_S)


def test_a_rate_within_the_limit_does_not_halt(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = started(service, brake={"firmware_limit": 0.2})
    for number, device in enumerate(fleet):
        if number in (5, 17):
            revert(device)
        else:
            go_through(device)
    shown = service.wait_for(rollout_id, lambda r: r.states.get("confirmed") == 22)
    assert shown.state == "running" or shown.state == "finished"
    assert service.herald.rollouts.brakes(rollout_id).brakes[0].evidence < 10


def test_failures_before_exposure_move_the_delivery_brake_alone(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = started(service, brake={"delivery_limit": 0.02})
    for device in fleet[:6]:
        if device.checkin().status_code == 200:
            device.report("failed", reason="no-room")
    shown = halted(service, rollout_id)
    assert (shown.reason or "").startswith("delivery brake: evidence")
    assert service.herald.rollouts.brakes(rollout_id).brakes[0].seen == 0, "nobody was exposed"
    found = service.herald.rollouts.suspects(rollout_id)
    assert found.kind == "delivery" and found.bad == found.decided >= 2


def test_a_common_cause_has_one_vote(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = started(service)
    for device in fleet[:6]:
        revert(device, "power-lost")
    time.sleep(1.5)
    assert service.herald.rollouts.show(rollout_id).state == "running", "one yard without power is one piece of news"
    brake = service.herald.rollouts.brakes(rollout_id).brakes[0]
    assert (brake.bad, brake.seen) == (1, 6)
    assert service.herald.rollouts.show(rollout_id).reasons == {"power-lost": 6}, "all are shown all the same"


def test_no_ring_opens_further_out_while_too_few_are_good(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rings = [{"name": "bench", "count": 6, "enough": 0.5}, {"name": "rest"}]
    rollout_id = started(service, rings, brake={"firmware_limit": 0.02, "min_good": 6})
    serials = {a.serial for a in service.herald.rollouts.attempts(rollout_id, ring=0).items}
    inner = [device for device in fleet if device.serial in serials]
    revert(inner[0])
    for device in inner[1:]:
        go_through(device)
    still = service.wait_for(rollout_id, lambda r: r.stands_still is not None)
    assert still.rings[0].stands_why == "5 of 6 devices are good, and the plan wants 6 (min_good)"
    assert still.rings[1].hangs_on == ["ring bench stands still"] and still.rings[1].earliest is None
    service.herald.rollouts.go(rollout_id, "five will do")
    service.wait_for(rollout_id, lambda r: r.rings[1].state == "open")


# The soak ----------------------------------------------------------------------------------------------------------


def test_a_confirmed_device_that_goes_bad_in_its_soak_relapses_and_counts(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    watched = {"readings": [{"name": "free_memory", "worse": "lower", "by": 0.3}], "firmware_limit": 0.3}
    rollout_id = started(service, [{"name": "all", "soak": "1h"}], brake=watched)
    looping, leaking, dipping, back = fleet[:4]
    for device in (looping, leaking, dipping, back):
        device.checkin()
        device.stage()
        device.checkin(readings={"free_memory": 40_000})
        device.report("installing")
        restart(device)
        device.report("confirmed")
    looping.boots += 3
    looping.checkin(after_restart=True)
    leaking.checkin(readings={"free_memory": 20_000})
    leaking.checkin(readings={"free_memory": 19_000})
    dipping.checkin(readings={"free_memory": 20_000})
    dipping.checkin(readings={"free_memory": 39_000})
    restart(back)
    attempts = {a.serial: a for a in service.herald.rollouts.attempts(rollout_id).items}
    assert (attempts[looping.serial].state, attempts[looping.serial].reason) == ("relapsed", "crash-looping")
    assert (attempts[leaking.serial].state, attempts[leaking.serial].reason) == ("relapsed", "readings-worse")
    assert attempts[dipping.serial].state == "confirmed", "one dip is none"
    assert (attempts[back.serial].state, attempts[back.serial].reason) == ("relapsed", "fell-back")
    timeline = service.herald.rollouts.timeline(attempts[leaking.serial].id)
    assert any("free_memory 19000, before the update 40000" in entry.detail for entry in timeline)
    assert service.herald.rollouts.brakes(rollout_id).brakes[0].bad == 3


def test_a_device_that_falls_silent_in_its_soak_is_noticed_before_the_next_ring_opens(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rings = [{"name": "bench", "count": 2, "soak": "1s"}, {"name": "rest"}]
    rollout_id = started(service, rings, numbers={"answer_within": "4s"}, brake={"firmware_limit": 0.4})
    serials = {a.serial for a in service.herald.rollouts.attempts(rollout_id, ring=0).items}
    heard, silent = [device for device in fleet if device.serial in serials]
    go_through(heard)
    go_through(silent)
    time.sleep(1.2)
    heard.checkin()
    shown = service.wait_for(rollout_id, lambda r: r.rings[0].state == "soaking" or "relapsed" in r.states)
    assert shown.rings[1].state == "closed", "the silent one is waited for"
    shown = service.wait_for(rollout_id, lambda r: r.states.get("relapsed") == 1)
    assert shown.reasons == {"went-silent": 1}


def test_an_install_loop_is_called_by_its_name(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = started(service)
    device = fleet[0]
    expose(device)
    device.report("installing")
    shown = service.herald.rollouts.show(rollout_id)
    assert shown.reasons == {"install-loop": 1} and shown.states["failed"] == 1


# Rollback ----------------------------------------------------------------------------------------------------------


def brought_and_halted(service: RunningService, fleet: list[PuppetDevice]) -> int:
    """Two confirmed, one reverted, one at risk, one downloading; halted."""
    rollout_id = started(service, brake={"firmware_limit": 0.4})
    for device in fleet[:2]:
        go_through(device)
        device.checkin(after_restart=True)
    revert(fleet[2])
    fleet[2].checkin()
    expose(fleet[3])
    fleet[4].checkin()
    service.herald.rollouts.halt(rollout_id, "support calls come in")
    return rollout_id


def back_again(device: PuppetDevice) -> None:
    """A device that is told to switch back does so."""
    answer = device.checkin()
    assert answer.json()["order"] == "switch-back" and answer.json()["clearance"]["seconds"] >= 590, answer.text
    device.report("installing")
    restart(device)
    device.report("confirmed")


def test_devices_are_brought_back_each_in_its_own_way(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = brought_and_halted(service, fleet)
    service.wait_for(rollout_id, lambda r: r.live == r.at_risk == 1)
    fleet[1].standby = {}  # its other slot was used for something else meanwhile
    fleet[1].checkin()
    preview = service.herald.rollouts.preview_rollback(rollout_id, RollbackIn(reason="foreseen"))
    assert {way.way: way.devices for way in preview.ways} == {
        "switch-back": 1,
        "reinstall": 1,
        "already-back": 1,
        "never-left": 20,
    }
    assert (preview.targeted, preview.at_risk) == (24, 1)
    rollback = service.herald.rollouts.roll_back(rollout_id, RollbackIn(reason="it hurts"))
    assert (rollback.kind, rollback.rolls_back, rollback.targeted) == ("rollback", rollout_id, 24)
    shown = service.wait_for(rollback.id, lambda r: sum(r.states.values()) == 2)
    assert shown.passed_over == {"already-back": 1, "never-left": 20} and shown.never_given == 1
    back_again(fleet[0])
    assert fleet[1].checkin().json()["order"] == "fetch"
    fleet[1].stage("2.4.0")
    assert fleet[1].checkin().json()["order"] in ("switch", "switch-back")
    fleet[1].report("installing")
    restart(fleet[1])
    fleet[1].report("confirmed")
    first = service.wait_for(rollout_id, lambda r: r.states.get("rolled-back") == 3)
    assert service.herald.rollouts.show(rollback.id).state == "running", "one is still at risk in the first rollout"
    # That one confirms the bad release in the end: only now can it be brought back.
    restart(fleet[3])
    fleet[3].report("confirmed")
    service.wait_for(rollback.id, lambda r: sum(r.states.values()) == 3)
    until(lambda: fleet[3].checkin().status_code == 200)
    back_again(fleet[3])
    ended = service.wait_for(rollback.id, lambda r: r.state == "finished")
    assert ended.targeted == sum(ended.passed_over.values()) + sum(ended.states.values()) and not ended.never_given
    control = service.herald.rollouts.brakes(rollout_id).control
    assert control is None or control.updated_bad == 0, "restarts on the way back are not the release's"
    first = service.wait_for(rollout_id, lambda r: r.state == "finished")
    assert first.states == {"rolled-back": 4, "called-off": 20} and first.rolled_back_by == [rollback.id]
    assert {d.version for d in service.herald.devices.each()} == {"2.4.0"}
    attempts = {a.serial: a for a in service.herald.rollouts.attempts(rollback.id).items}
    assert {a.way for a in attempts.values()} == {"back"}


def test_a_device_that_was_off_line_is_still_brought_back_when_it_comes(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = brought_and_halted(service, fleet)
    fleet[3].report("reverted", reason="hung")
    fleet[3].checkin()
    rollback = service.herald.rollouts.roll_back(rollout_id, RollbackIn(reason="it hurts", only_bad=False))
    service.wait_for(rollback.id, lambda r: r.states.get("queued") == 2)
    back_again(fleet[0])
    time.sleep(1.2)
    assert service.herald.rollouts.show(rollback.id).state == "running"
    back_again(fleet[1])
    service.wait_for(rollback.id, lambda r: r.state == "finished")


def test_a_rollback_is_for_those_meant_and_can_be_halted_itself(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = brought_and_halted(service, fleet)
    said = RollbackIn(reason="only this one", where=f'serial = "{fleet[0].serial}"')
    rollback = service.herald.rollouts.roll_back(rollout_id, said)
    assert rollback.targeted == 1
    service.wait_for(rollback.id, lambda r: r.states.get("queued") == 1)
    service.herald.rollouts.halt(rollback.id, "wait a moment")
    assert fleet[0].checkin().status_code == 204
    service.herald.rollouts.resume(rollback.id, "go on")
    back_again(fleet[0])
    service.wait_for(rollback.id, lambda r: r.state == "finished")
    assert service.herald.rollouts.show(rollout_id).state == "halted", "the others are still there"
    assert fleet[1].checkin().status_code == 204
    with pytest.raises(ProblemError, match="is a rollback itself"):
        service.herald.rollouts.roll_back(rollback.id, RollbackIn(reason="and back again"))
    with pytest.raises(ProblemError, match="No device of rollout"):
        service.herald.rollouts.roll_back(rollout_id, RollbackIn(reason="nobody", ring=7))


def test_a_running_rollout_is_halted_first(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = started(service)
    with pytest.raises(ProblemError, match="Halt it first"):
        service.herald.rollouts.preview_rollback(rollout_id, RollbackIn(reason="too early"))


def test_what_cannot_go_back_is_listed_with_its_reason(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = brought_and_halted(service, fleet)
    high = {"app": {"version": "2.5.0", "digest": fleet[0].digest, "slot": "b", "floor": 9}}
    fleet[0].checkin(running=high)
    with service.http(service.token) as http:
        old = next(r for r in service.herald.releases.list().items if r.version == "2.4.0")
        http.post(f"/api/v1/releases/{old.id}/withdraw", json={"reason": "recalled"}).raise_for_status()
    preview = service.herald.rollouts.preview_rollback(rollout_id, RollbackIn(reason="foreseen"))
    cannot = {way.way: way.first for way in preview.ways if not way.can}
    assert cannot["below-floor"] == [fleet[0].serial] and cannot["withdrawn"] == [fleet[1].serial]
    rollback = service.herald.rollouts.roll_back(rollout_id, RollbackIn(reason="it hurts", only_bad=False))
    shown = service.wait_for(rollback.id, lambda r: r.passed_over.get("withdrawn") == 1)
    assert shown.passed_over["below-floor"] == 1


def test_what_a_revoked_key_signed_is_never_gone_back_to(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = brought_and_halted(service, fleet)
    publisher = service.publisher
    keys = [SigningKey(raw_public(publisher.key), KeyStatus.REVOKED, "lost")]
    service.herald.keys.publish(raw_public(publisher.root), sign_key_list(publisher.root, 2, keys))
    preview = service.herald.rollouts.preview_rollback(rollout_id, RollbackIn(reason="foreseen"))
    assert {way.way for way in preview.ways} == {"revoked-key", "already-back", "never-left"}


def test_settings_are_compared_before_and_after(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = started(service)
    kept, wiped = fleet[:2]
    for device, after in ((kept, "a" * 64), (wiped, "b" * 64)):
        device.checkin()
        device.stage()
        device.checkin(settings_digest="a" * 64)
        device.report("installing")
        restart(device, settings_digest=after)
        device.report("confirmed")
        device.checkin(settings_digest=after)
    attempts = {a.serial: a.settings for a in service.herald.rollouts.attempts(rollout_id).items}
    assert attempts[kept.serial] == "kept" and attempts[wiped.serial] == "changed"


def test_one_device_swaps_its_slots_back_and_forth(service: RunningService, fleet: list[PuppetDevice]) -> None:
    device = fleet[0]
    with pytest.raises(ProblemError, match="its other slot holds nothing"):
        service.herald.devices.swap(device.serial, "try the other one")
    rollout_id = started(service, target=f'serial = "{device.serial}"')
    go_through(device)
    device.checkin(after_restart=True)
    service.wait_for(rollout_id, lambda r: r.state == "finished")
    for version in ("2.4.0", "2.5.0"):
        swap = service.herald.devices.swap(device.serial, "back and forth")
        assert swap.kind == "swap" and swap.targeted == 1
        back_again(device)
        assert device.version == version
        service.wait_for(swap.id, lambda r: r.state == "finished")
    assert service.herald.devices.show(device.serial).version == "2.5.0"


# Suspects ----------------------------------------------------------------------------------------------------------


def test_suspects_name_what_failing_devices_have_in_common(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = started(service, brake={"firmware_limit": 0.5, "delivery_limit": 0.5})
    for device in fleet:
        if device.hw_rev == 2:
            revert(device)
        else:
            go_through(device)
    found = service.herald.rollouts.suspects(rollout_id)
    assert (found.decided, found.bad) == (24, 8)
    best = found.suspects[0]
    assert (best.selector, best.bad, best.devices, best.other_bad) == ("hw_rev = 2", 8, 8, 0)
    assert best.low > 0.4 and best.q < 0.01
    assert {d.hw_rev for d in service.herald.devices.each(where=best.selector)} == {2}
