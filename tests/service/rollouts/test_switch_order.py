"""In which order devices switch: a whole ring staged first, and nobody cut off who is not through."""

import random
import threading
from datetime import timedelta
from pathlib import Path

import pytest
from sqlalchemy import text

from mellow_herald.client import ProblemError
from tests.harness.device import PuppetDevice
from tests.harness.firmware import BOARD
from tests.harness.service import RunningService
from tests.service.rollouts.test_rings import plan


def enrolled(service: RunningService, serials: dict[str, str | None]) -> dict[str, PuppetDevice]:
    """Devices by serial, each behind the gateway that is said, on 2.4.0; and 2.5.0 is published."""
    for version in ("2.4.0", "2.5.0"):
        service.publish(version).raise_for_status()
    code, found = service.code(), {}
    for serial, gateway in serials.items():
        device = PuppetDevice(service.url, serial)
        device.enrol(code, **({"gateway": gateway} if gateway else {})).raise_for_status()
        device.checkin()
        found[serial] = device
    return found


def switched(device: PuppetDevice) -> None:
    device.report("installing")
    device.switch()
    device.report("proving")
    device.report("confirmed")


def test_nobody_switches_before_all_of_the_ring_that_count_have_staged(service: RunningService) -> None:
    devices = enrolled(service, {f"TA-{n}": None for n in range(3)})
    first, second, third = devices.values()
    document = plan([{"name": "all"}], order={"switch": "all-staged"}, numbers={"answer_within": "30m"})
    rollout_id = service.herald.rollouts.start(document).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    for device in (first, second):
        device.checkin()
        device.stage()
        assert device.checkin().json()["order"] == "stay"
    waiting = service.herald.rollouts.attempts(rollout_id, waiting_for="ring").items
    assert {one.serial for one in waiting} == {"TA-0", "TA-1"} and "rest of its ring" in str(waiting[0].waiting)
    third.checkin()
    third.report("downloading", percent=40)
    assert first.checkin().json()["order"] == "stay", "one is still on its way"
    third.report("failed", reason="no-room", detail="4 kB free")
    assert first.checkin().json()["order"] == "switch", "who gave up for good is not waited for"
    assert second.checkin().json()["order"] == "switch"


def test_a_device_that_never_comes_does_not_keep_the_ring_for_ever(service: RunningService) -> None:
    devices = enrolled(service, {"TA-0": None, "TA-1": None})
    here, gone = devices.values()
    document = plan([{"name": "all"}], order={"switch": "all-staged"}, numbers={"answer_within": "10m"})
    rollout_id = service.herald.rollouts.start(document).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    here.checkin()
    here.stage()
    assert here.checkin().json()["order"] == "stay"
    service.pass_time(timedelta(hours=1))
    assert here.checkin().json()["order"] == "switch", f"{gone.serial} was not heard of since the ring opened"


def test_in_window_needs_a_window(service: RunningService) -> None:
    enrolled(service, {"TA-0": None})
    with pytest.raises(ProblemError, match="no window for switching"):
        service.herald.rollouts.start(plan([{"name": "all"}], order={"switch": "in-window"}))
    window = {"begin": "02:00", "end": "04:00", "use": "switch"}
    document = plan([{"name": "all"}], order={"switch": "in-window"}, calendar={"windows": [window]})
    (stage, switch) = service.herald.rollouts.steps(document).steps
    assert (stage.do, switch.do) == ("stage", "switch") and "a window for switching is open" in switch.waits_for


def test_gateways_in_a_circle_are_refused_with_their_serials(service: RunningService) -> None:
    enrolled(service, {"TA-A": None, "TA-B": "TA-A", "TA-C": "TA-B", "TA-D": None})
    service.herald.devices.edit("TA-A", gateway="TA-C")
    for ask in (service.herald.rollouts.start, service.herald.rollouts.preview, service.herald.rollouts.steps):
        with pytest.raises(ProblemError, match="TA-A → TA-C → TA-B → TA-A"):
            ask(plan([{"name": "all"}]))
    lone = plan([{"name": "all"}], target="serial = TA-D")
    assert service.herald.rollouts.preview(lone).counts == [1], "who is not in it is not kept back"
    assert service.herald.devices.tree().circles == [["TA-A", "TA-C", "TA-B"]]
    service.herald.devices.edit("TA-A", gateway="")
    assert service.herald.rollouts.preview(plan([{"name": "all"}])).counts == [4]


def test_steps_say_who_goes_when_and_whom_each_restart_cuts_off(service: RunningService) -> None:
    serials = {"TA-G": None, "TA-Y": "TA-G", "TA-1": "TA-Y", "TA-2": "TA-Y", "TA-out": "TA-G"}
    enrolled(service, serials)
    document = plan([{"name": "yard"}], target=f"board = {BOARD} and serial != TA-out", order={"switch": "all-staged"})
    found = service.herald.rollouts.steps(document)
    assert [(one.do, one.first) for one in found.steps] == [
        ("stage", ["TA-1", "TA-2", "TA-G", "TA-Y"]),
        ("switch", ["TA-1", "TA-2"]),
        ("switch", ["TA-Y"]),
        ("switch", ["TA-G"]),
    ]
    assert found.parts == [["app"]] and found.restart
    (gateway,) = found.steps[-1].restarts
    assert (gateway.gateway, gateway.outside, gateway.first, gateway.inside) == ("TA-G", 1, ["TA-out"], 3)
    assert gateway.seconds is None, "no restart of it is known yet"
    careless = plan([{"name": "first", "where": "serial = TA-G"}, {"name": "rest"}], order={"keep_reachable": False})
    told = service.herald.rollouts.steps(careless)
    assert any("TA-G is switched in ring 'first' before 4 devices behind it" in note for note in told.notes)


async def entries_of(service: RunningService, rollout_id: int) -> tuple[dict[str, int], dict[str, int]]:
    """By serial, the number of the first entry of being cleared, and of the last of being decided."""
    statement = text(
        "SELECT serial, min(e.id) FILTER (WHERE e.state = 'cleared') AS cleared,"
        " max(e.id) FILTER (WHERE e.state IN ('confirmed', 'reverted')) AS decided"
        " FROM attempt_event e JOIN attempt a ON a.id = e.attempt_id JOIN device d ON d.id = a.device_id"
        " WHERE a.rollout_id = :rollout GROUP BY serial"
    )
    async with service.context.engine.connect() as connection:
        rows = (await connection.execute(statement, {"rollout": rollout_id})).all()
    return {row.serial: row.cleared for row in rows}, {row.serial: row.decided for row in rows}


def test_over_three_levels_and_three_workers_no_gateway_is_cleared_before_what_is_behind_it(
    service: RunningService, database_url: str, tmp_path: Path
) -> None:
    rng = random.Random(19)
    serials: dict[str, str | None] = {"TA-G0": None, "TA-G1": None}
    serials |= {f"TA-Y{n}": f"TA-G{n % 2}" for n in range(8)}
    serials |= {f"TA-S{n:02}": f"TA-Y{rng.randrange(8)}" for n in range(50)}
    devices = enrolled(service, serials)
    beside = [RunningService(database_url, tmp_path / f"beside-{n}").start() for n in range(2)]
    urls = [service.url, *(one.url for one in beside)]
    brake = {"firmware_limit": 0.9, "delivery_limit": 0.9}
    rollout_id = service.herald.rollouts.start(plan([{"name": "yard"}], brake=brake)).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    failed: list[str] = []

    def live(own: list[PuppetDevice], seed: int) -> None:
        draw, left = random.Random(seed), list(own)
        for _ in range(400):
            if not left:
                return
            device = draw.choice(left)
            device.move_to(draw.choice(urls))
            order = device.checkin(ready=bool(device.standby)).json() if not device.trial else {}
            match order.get("order") if order else None:
                case "fetch":
                    device.stage()
                case "switch":
                    # Some go bad: who is decided is decided either way.
                    if draw.random() < 0.1:
                        device.report("reverted", reason="crashed")
                    else:
                        switched(device)
                    left.remove(device)
        failed.extend(device.serial for device in left)

    order = list(devices.values())
    rng.shuffle(order)
    threads = [threading.Thread(target=live, args=(order[n::6], n)) for n in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    for one in beside:
        one.stop()
    assert not failed, f"still waiting: {failed}"
    attempts = service.herald.rollouts.attempts(rollout_id, limit=100).items
    assert len(attempts) == 60 and not any(one.live for one in attempts)
    # By the numbers of the entries: those of one worker's clock may lie a little before what another has read already.
    cleared, decided = service.call(entries_of(service, rollout_id))  # type: ignore[misc]
    for serial, gateway in serials.items():
        while gateway is not None:
            assert decided[serial] < cleared[gateway], f"{gateway} was cleared before {serial} was decided"
            gateway = serials[gateway]
    numbers = {one.serial: one.clearance or 0 for one in attempts}
    assert all(numbers[s] < numbers[g] for s, g in serials.items() if g is not None)
