"""What is on record of devices' radios: added, corrected, kept secret; and who is passed over for it."""

import stat
from pathlib import Path

import httpx
import pytest

from mellow_herald.client import ProblemError
from mellow_herald.service.key_box import FILE, KeyBox
from mellow_herald.service.problems import ProblemError as Problem
from mellow_herald.wire.device import RadioPackages
from mellow_herald.wire.radio import RadioEntry
from tests.harness.device import PuppetDevice
from tests.harness.service import RunningService
from tests.service.rollouts.test_rings import plan

EUI, KEY = "70b3d57ed0000101", "00112233445566778899aabbccddeeff"
RADIO = {"eui": EUI, "interval_s": 600, "most_fragment": 40}


def enrolled(service: RunningService, serial: str, radio: dict[str, object] | None = None) -> PuppetDevice:
    device = PuppetDevice(service.url, serial)
    device.enrol(service.code(), **({} if radio is None else {"radio": radio})).raise_for_status()
    device.checkin()
    return device


def test_facts_come_with_enrolment_and_the_key_is_never_shown(service: RunningService) -> None:
    enrolled(service, "TA-1", {**RADIO, "root_key": KEY})
    one = service.herald.radio.show("TA-1")
    assert (one.eui, one.radio, one.has_key, one.interval_s) == (EUI, "ready", True, 600)
    assert (one.ports.clock, one.packages.fragments, one.key_proved_at) == (202, 2, None)
    for path in ("/api/v1/radio/devices", "/api/v1/radio/devices/TA-1", "/api/v1/devices/TA-1", "/api/v1/journal"):
        answer = httpx.get(service.url + path, headers={"authorization": f"Bearer {service.token}"})
        assert answer.is_success and KEY not in answer.text, path
    kept = service.settings.data_dir / FILE
    assert stat.S_IMODE(kept.stat().st_mode) == 0o600 and KEY not in kept.read_bytes().hex()


def test_what_is_recorded_later_counts_at_once_and_what_cannot_be_is_refused_by_itself(service: RunningService) -> None:
    for version in ("2.4.0", "2.5.0"):
        service.publish(version).raise_for_status()
    for serial in ("TA-1", "TA-2", "TA-3", "TA-4"):
        enrolled(service, serial)
    record = service.herald.radio.record
    report = record(
        [
            RadioEntry(serial="TA-1", eui=EUI, interval_s=600),
            RadioEntry(serial="TA-2", eui=EUI),
            RadioEntry(serial="TA-3", region="EU868"),
            RadioEntry(serial="TA-9", eui="70b3d57ed0000109"),
        ],
        check=True,
    )
    assert report.changed == ["TA-1"] and service.herald.radio.list().items == [], "checked, and nothing written"
    assert {one.serial: one.kind for one in report.refusals} == {
        "TA-2": "eui-taken",
        "TA-3": "no-eui",
        "TA-9": "not-found",
    }

    def passed() -> dict[str, list[str]]:
        shown = service.herald.rollouts.preview(plan([{"name": "all"}]))
        return {one.reason: sorted(one.first) for one in shown.passed_over}

    assert passed() == {}, "who is on no radio is in no other region"
    record([RadioEntry(serial="TA-1", eui=EUI), RadioEntry(serial="TA-2", eui="70b3d57ed0000102", root_key=KEY)])
    record([RadioEntry(serial="TA-3", eui="70b3d57ed0000103", root_key=KEY, packages=RadioPackages(fragments=None))])
    record([RadioEntry(serial="TA-4", eui="70b3d57ed0000104", root_key=KEY, region="US915")])
    assert passed() == {"no-radio-key": ["TA-1"], "no-radio-packages": ["TA-3"], "other-region": ["TA-4"]}
    again = record([RadioEntry(serial="TA-1", root_key=KEY), RadioEntry(serial="TA-2", root_key=KEY)])
    assert again.changed == ["TA-1"] and again.unchanged == 1
    record([RadioEntry(serial="TA-3", packages=RadioPackages()), RadioEntry(serial="TA-4", region="EU868")])
    assert passed() == {}
    assert [one.serial for one in service.herald.devices.each(where="radio = ready")] == [
        "TA-1",
        "TA-2",
        "TA-3",
        "TA-4",
    ]
    subjects = [entry.subject for entry in service.herald.journal.list().items if entry.what == "radio facts recorded"]
    assert "TA-4" in subjects


def test_a_plan_is_foreseen_and_one_that_begins_too_soon_is_refused(service: RunningService) -> None:
    for version in ("2.4.0", "2.5.0"):
        service.publish(version).raise_for_status()
    enrolled(service, "TA-1", {**RADIO, "root_key": KEY})
    slow = {**RADIO, "eui": "70b3d57ed0000102", "interval_s": 3600, "root_key": KEY, "most_fragment": 24}
    enrolled(service, "TA-2", slow)
    wanted = plan([{"name": "all", "soak": "10m"}]).model_dump(mode="json")
    shown = service.herald.rollouts.preview(plan([{"name": "all", "soak": "10m"}]))
    (one,) = shown.radio
    assert (one.devices, one.fragment, one.slowest, one.slowest_s) == (2, 24, "TA-2", 3600)
    assert (one.earliest - shown.now).total_seconds() == pytest.approx(6 * 3600 * 1.2, abs=5)
    assert one.fragments == -(-one.bytes // 24) and one.begins_at == one.earliest
    words = " ".join(shown.warnings)
    assert "answer_within is shorter than 3 intervals of TA-2" in words and "soak of ring 'all'" in words
    wanted["radio"] = {"at": (one.earliest.replace(microsecond=0)).isoformat(), "data_rate": 5}
    soon = {**wanted, "radio": {"at": shown.now.isoformat()}}
    headers = {"authorization": f"Bearer {service.token}"}
    for path in ("previews", "rollouts"):
        answer = httpx.post(f"{service.url}/api/v1/{path}", json=soon, headers=headers)
        assert answer.status_code == 422 and "TA-2 speaks every 60 min. The earliest is" in answer.json()["detail"]
    for length, says in (("1m", "is shorter than ring 'all' takes"), ("12h", "devices listen for 9:06:08 at most")):
        asked = {**wanted, "radio": {"length": length, "data_rate": 5}}
        answer = httpx.post(f"{service.url}/api/v1/previews", json=asked, headers=headers)
        assert answer.status_code == 422 and says in answer.text, answer.text
    bad = {**wanted, "radio": {"data_rate": 9}}
    answer = httpx.post(f"{service.url}/api/v1/previews", json=bad, headers=headers)
    assert answer.status_code == 422 and "in EU868 there is no downlink data rate 9" in answer.text


def test_a_rollout_has_no_sessions_until_one_is_planned(service: RunningService) -> None:
    assert service.herald.radio.network().url is None
    with pytest.raises(ProblemError, match="There is no session 7"):
        service.herald.radio.session(7)
    with pytest.raises(ProblemError, match="Nothing is on record of the radio of TA-1"):
        enrolled(service, "TA-1")
        service.herald.radio.show("TA-1")


def test_the_box_opens_only_what_was_sealed_for_the_same_with_the_same_file(tmp_path: Path) -> None:
    box = KeyBox(tmp_path)
    sealed = box.seal(b"sixteen bytes key", "one device")
    assert b"sixteen" not in sealed and KeyBox(tmp_path).unseal(sealed, "one device") == b"sixteen bytes key"
    with pytest.raises(Problem, match="sealed with another radio.key"):
        box.unseal(sealed, "another device")
    (tmp_path / FILE).write_bytes(bytes(32))
    with pytest.raises(Problem, match="Bring that file back"):
        KeyBox(tmp_path).unseal(sealed, "one device")
    (tmp_path / FILE).write_bytes(b"short")
    with pytest.raises(Problem, match="is damaged"):
        KeyBox(tmp_path).unseal(sealed, "one device")
