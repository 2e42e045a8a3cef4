"""Sensors on narrow radio, reached by a service that follows their network: real processes, the air simulated."""

import signal
import time
from pathlib import Path

import pytest

from mellow_herald.client import Herald
from mellow_herald.core.digest import sha256_hex
from mellow_herald.sim.fleet import chip_path
from mellow_herald.sim.hardware import running_image
from mellow_herald.store.clock import GAP
from mellow_herald.wire.radio import RadioEntry, RadioSessionOut
from mellow_herald.wire.rollback import RollbackIn
from tests.harness.meadow import NEW, OLD, Meadow
from tests.harness.patience import until
from tests.harness.some import some

pytestmark = pytest.mark.system
SENDING = ("sending", "ended")


def newest(herald: Herald, rollout_id: int) -> RadioSessionOut | None:
    found = herald.radio.sessions(rollout_id)
    return found[-1] if found else None


def heard(herald: Herald) -> int:
    return sum(one.heard_at is not None for one in herald.radio.each())


def test_a_release_reaches_a_group_although_the_service_is_killed_in_mid_session(folder: Path) -> None:
    sensors = {f"TA-F1-{number:03d}": {"clock_off_s": number - 4} for number in range(1, 8)}
    sensors["TA-F1-002"] |= {"worn": True}
    sensors["TA-F1-003"] |= {"key_on_record": False}
    sensors["TA-F1-004"] |= {"loss": 0.35, "burst": 4}
    meadow = Meadow(folder, sensors)
    try:
        service = meadow.serve()
        herald = meadow.flight.signed_in()
        meadow.prepare(herald)
        network = meadow.fly()
        until(lambda: heard(herald) == 7)

        plan = meadow.plan(length="20m")
        preview = herald.rollouts.preview(plan)
        assert [(one.reason, one.first) for one in preview.passed_over] == [("no-radio-key", ["TA-F1-003"])]
        (foreseen,) = preview.radio
        assert foreseen.devices == 6 and foreseen.fragments == -(-foreseen.bytes // 40)
        # The engineer adds the key; that of the stand-in follows from its serial, as the scenario has it.
        key = bytes_of_key("TA-F1-003")
        report = herald.radio.record([RadioEntry(serial="TA-F1-003", root_key=key)])
        assert report.changed == ["TA-F1-003"] and key not in herald.radio.show("TA-F1-003").model_dump_json()

        rollout_id = herald.rollouts.start(plan).id
        until(lambda: (one := newest(herald, rollout_id)) is not None and one.sent >= 16)
        before = newest(herald, rollout_id)
        assert before is not None and before.state == "sending" and sum(before.counts.values()) == 7
        service.send_signal(signal.SIGKILL)
        service.wait()
        # Away for so long that the service's time has stood still meanwhile: the network must not go on ahead of it.
        time.sleep(GAP.total_seconds() + 1)
        meadow.serve()
        # The network is away for a while as well: it is told, and gone on with.
        until(lambda: newest(herald, rollout_id).sent > before.sent)  # type: ignore[union-attr]
        network.send_signal(signal.SIGSTOP)
        time.sleep(0.5)
        network.send_signal(signal.SIGCONT)

        until(lambda: herald.rollouts.show(rollout_id).state == "finished", every=0.5)
        attempts = {one.serial: one for one in herald.rollouts.attempts(rollout_id).items}
        others = {one.serial: (one.state, one.reason) for one in attempts.values() if one.serial != "TA-F1-002"}
        assert set(others.values()) == {("confirmed", None)}, others
        assert (attempts["TA-F1-002"].state, attempts["TA-F1-002"].reason) == ("reverted", "self-test-failed")
        for serial, attempt in attempts.items():
            _, digest = running_image(chip_path(meadow.flash, serial))
            version = NEW if attempt.state == "confirmed" else OLD
            assert digest == sha256_hex(meadow.image(version).read_bytes()), serial
        sessions = herald.radio.sessions(rollout_id)
        first = sessions[0]
        assert first.id == before.id and first.state == "ended", "it went on, and was not begun anew"
        assert first.sent <= first.to_send
        steps = [entry.step for entry in herald.devices.show("TA-F1-001").timeline if entry.step]
        assert {"session", "ready", "fetch"} <= set(steps)
        told = herald.radio.session(first.id)
        assert all(one.complete for one in some(told.members) if one.ready and one.serial == "TA-F1-001")
        assert herald.radio.show("TA-F1-003").key_proved_at is not None
        herald.close()
    finally:
        meadow.flight.stop()


def test_a_halt_stops_a_session_and_who_cannot_be_served_is_told_why(folder: Path) -> None:
    sensors: dict[str, dict[str, object]] = {f"TA-F1-{number:03d}": {} for number in range(1, 6)}
    sensors["TA-F1-004"] |= {"wrong_key": True}
    sensors["TA-F1-005"] |= {"listens": False}
    meadow = Meadow(folder, sensors)
    try:
        meadow.serve()
        herald = meadow.flight.signed_in()
        meadow.prepare(herald)
        meadow.fly()
        until(lambda: heard(herald) == 5)
        halted = herald.rollouts.start(meadow.plan()).id
        until(lambda: (one := newest(herald, halted)) is not None and one.sent >= 8)
        herald.rollouts.halt(halted, "something is odd")
        until(lambda: newest(herald, halted).state == "ended")  # type: ignore[union-attr]
        session = newest(herald, halted)
        assert session is not None and session.outcome == "halted" and session.sent < session.to_send
        until(lambda: set(herald.rollouts.show(halted).states) == {"called-off"}, every=0.5)
        assert all(attempt.clearance is None for attempt in some(herald.rollouts.attempts(halted).items))

        # What a halt cut short is sent anew and whole, with the plan's parity, to all who were to have it.
        herald.rollouts.resume(halted, "it was nothing")
        until(lambda: newest(herald, halted).id != session.id)  # type: ignore[union-attr]
        anew = newest(herald, halted)
        assert anew is not None and (anew.first_number, anew.repair_of) == (1, None)
        assert anew.to_send >= round(anew.fragments * 1.3)
        assert {one.serial for one in herald.radio.session(anew.id).members} == set(sensors)
        herald.rollouts.cancel(halted, "to begin anew")

        again = herald.rollouts.start(meadow.plan(repair="none")).id
        until(lambda: herald.rollouts.show(again).live == 0, every=0.5)
        attempts = {one.serial: one for one in herald.rollouts.attempts(again).items}
        assert [attempts[f"TA-F1-{number:03d}"].state for number in (1, 2, 3)] == ["confirmed"] * 3
        for serial in ("TA-F1-004", "TA-F1-005"):
            assert (attempts[serial].state, attempts[serial].reason) == ("failed", "download-broken")
            details = " ".join(entry.detail for entry in herald.devices.show(serial).timeline)
            assert "received nothing" in details, details
        assert herald.radio.show("TA-F1-004").key_proved_at is None
        # Never taken for the one before: a device's sessions have rising numbers, and other keys each.
        first, second = herald.radio.sessions(halted)[0], herald.radio.sessions(again)[0]
        assert first.id < second.id and second.outcome != "halted"

        # Back: each by a word of its own to the slot that still holds what it came from, and no session.
        until(lambda: herald.rollouts.show(again).state == "finished", every=0.5)
        back = herald.rollouts.roll_back(again, RollbackIn(reason="tried, and not wanted")).id
        until(lambda: herald.rollouts.show(back).state == "finished", every=0.5)
        assert herald.radio.sessions(back) == []
        for number in (1, 2, 3):
            _, digest = running_image(chip_path(meadow.flash, f"TA-F1-{number:03d}"))
            assert digest == sha256_hex(meadow.image(OLD).read_bytes())
        herald.close()
    finally:
        meadow.flight.stop()


def bytes_of_key(serial: str) -> str:
    from mellow_herald.sim.radio.modem import make_unit
    from mellow_herald.sim.scenario import DeviceSpec, RadioSpec

    spec = DeviceSpec.model_validate({"serial": serial, "board": "b", "line": "l", "images": {"app": "x"}, "radio": {}})
    return make_unit(spec, RadioSpec(), 3).root.hex()
