import time
from collections.abc import Callable

import pytest

from mellow_herald.client import ProblemError
from mellow_herald.wire.fleet import CodeIn
from tests.harness.device import PuppetDevice
from tests.harness.firmware import BOARD, LINE
from tests.harness.patience import PATIENCE_S
from tests.harness.service import RunningService
from tests.service.releases.test_publishing import problem


def asking(service: RunningService, *serials: str) -> list[PuppetDevice]:
    code = service.herald.codes.make(CodeIn(board=BOARD, line=LINE, ask=True)).code
    devices = [PuppetDevice(service.url, serial) for serial in serials]
    for device in devices:
        assert device.enrol(code or "").json()["admission"] == "asking"
    return devices


def soon(wanted: Callable[[], bool]) -> None:
    """What other processes learn by the feed takes up to 2 s."""
    deadline = time.monotonic() + PATIENCE_S
    while not wanted():
        assert time.monotonic() < deadline
        time.sleep(0.05)


def test_a_device_that_asks_waits_for_a_person(service: RunningService) -> None:
    service.publish("2.5.0")
    one, other = asking(service, "TA-1", "TA-2")
    said = one.checkin()
    assert (said.status_code, problem(said)) == (403, "not-admitted")
    assert service.herald.overview().asking == 2
    with pytest.raises(ProblemError, match="2 not-admitted"):
        service.herald.rollouts.start(service.plan())
    assert service.herald.devices.decide("admitted", ["TA-1"], reason="ours, by its photograph") == ["TA-1"]
    assert one.checkin().status_code == 204
    assert service.herald.devices.decide("admitted", ["TA-1"], reason="once more") == [], "nothing is to be done"
    assert service.herald.devices.decide("refused", ["TA-2", "TA-1"], reason="not ours") == ["TA-2"]
    assert other.checkin().status_code == 401
    assert service.herald.devices.decide("admitted", where="admission = refused", reason="it was ours") == ["TA-2"]
    assert other.checkin().status_code == 204
    entry = next(e for e in service.herald.journal.list().items if e.what == "device refused")
    assert (entry.who, entry.subject, entry.why) == ("admin", "TA-2", "not ours")


def test_a_decision_counts_at_once_though_the_feed_still_brings_the_one_before(service: RunningService) -> None:
    devices = asking(service, *(f"TA-{n}" for n in range(20)))
    for device in devices:
        service.herald.devices.decide("refused", [device.serial], reason="not ours")
        service.herald.devices.decide("admitted", [device.serial], reason="it was ours")
        for _ in range(4):
            assert device.checkin().status_code == 204
            time.sleep(0.01)


def test_who_is_to_be_admitted_must_be_said_in_one_way(service: RunningService) -> None:
    with service.http(service.token) as http:
        for body in (
            {"to": "admitted", "reason": "why not"},
            {"to": "admitted", "reason": "why not", "serials": ["TA-1"], "where": "site = x"},
            {"to": "asking", "reason": "why not", "serials": ["TA-1"]},
            {"to": "admitted", "reason": "x", "serials": ["TA-1"]},
            {"to": "admitted", "reason": "why not", "where": "site =="},
        ):
            response = http.post("/api/v1/admissions", json=body)
            assert (response.status_code, problem(response)) == (422, "bad-values"), body


def test_retiring_ends_the_token_at_once_and_what_was_not_switched_yet(service: RunningService) -> None:
    for version in ("2.4.0", "2.5.0"):
        service.publish(version)
    devices = [PuppetDevice(service.url, f"TA-{n}") for n in range(3)]
    for device in devices:
        device.enrol(service.code()).raise_for_status()
        device.checkin()
    rollout = service.herald.rollouts.start(service.plan())
    service.wait_for(rollout.id, lambda r: r.states.get("queued") == 3)
    devices[0].checkin()
    devices[1].checkin()
    devices[1].stage("2.5.0")
    assert devices[1].checkin().json()["order"] == "switch"
    gone = service.herald.devices.decide("retired", ["TA-0", "TA-1"], reason="given away")
    assert gone == ["TA-0", "TA-1"]
    for device in devices[:2]:
        assert device.checkin().status_code == 401
    states = {a.serial: (a.state, a.reason) for a in service.herald.rollouts.attempts(rollout.id).items}
    assert states["TA-0"] == ("called-off", "retired")
    assert states["TA-1"][0] == "cleared", "it may have switched: only its silence can tell"
    shown = service.herald.devices.show("TA-0")
    assert shown.admission == "retired" and shown.timeline, "its history stays"
    with pytest.raises(ProblemError, match="TA-0 is retired: only who is asking or refused can be admitted"):
        service.herald.devices.decide("admitted", ["TA-0"], reason="come back")
    assert devices[2].checkin().json()["order"] == "fetch"


def test_a_device_that_lost_its_token_enrols_again_when_it_is_allowed(service: RunningService) -> None:
    device = PuppetDevice(service.url, "TA-1")
    device.enrol(service.code(), labels={"site": "fernhollow"}).raise_for_status()
    device.checkin()
    service.herald.devices.edit("TA-1", {"yard": "north"}, note="behind the shed")
    rescued = PuppetDevice(service.url, "TA-1")
    assert problem(rescued.enrol(service.code(), nonce="after-the-cable-rescue")) == "already-enrolled"
    assert service.herald.devices.allow_enrolment("TA-1", "its flash was replaced").may_enrol_again
    assert device.checkin().status_code == 204, "the old token is good until then"
    rescued.enrol(service.code(), nonce="after-the-cable-rescue").raise_for_status()
    soon(lambda: device.checkin().status_code == 401)
    assert rescued.checkin().status_code == 204
    shown = service.herald.devices.show("TA-1")
    assert (shown.labels, shown.note) == ({"site": "fernhollow", "yard": "north"}, "behind the shed")
    assert not shown.may_enrol_again, "once"
    third = PuppetDevice(service.url, "TA-1")
    assert problem(third.enrol(service.code(), nonce="and-once-more-00000")) == "already-enrolled"


def test_labels_are_put_on_and_taken_off_one_by_one(service: RunningService) -> None:
    device = PuppetDevice(service.url, "TA-1")
    device.enrol(service.code(), labels={"site": "fernhollow", "yard": "north"}).raise_for_status()
    changed = service.herald.devices.edit("TA-1", {"yard": None, "bench": "2"})
    assert changed.labels == {"site": "fernhollow", "bench": "2"}
    assert service.herald.devices.list(where="bench = 2 and not has yard").total == 1
    assert service.herald.devices.edit("TA-1", note="loud fan").labels == changed.labels
    with service.http(service.token) as http:
        for body in ({"labels": {"a b": "x"}}, {"labels": {"a": "\0"}}, {"serial": "x"}, {"note": "x" * 3000}):
            assert problem(http.patch("/api/v1/devices/TA-1", json=body)) == "bad-values"
        assert problem(http.patch("/api/v1/devices/TA-9", json={})) == "not-found"


def test_a_code_is_closed_before_its_time(service: RunningService) -> None:
    made = service.herald.codes.make(CodeIn(board=BOARD, line=LINE))
    service.herald.codes.close(made.id)
    refused = PuppetDevice(service.url, "TA-1").enrol(made.code or "")
    assert (refused.status_code, problem(refused)) == (403, "bad-code")
    with pytest.raises(ProblemError, match="no open code"):
        service.herald.codes.close(made.id)


def test_a_pinned_device_is_passed_over_until_its_pin_ends(service: RunningService) -> None:
    for version in ("2.4.0", "2.5.0"):
        service.publish(version)
    for serial in ("TA-1", "TA-2"):
        device = PuppetDevice(service.url, serial)
        device.enrol(service.code()).raise_for_status()
        device.checkin()
    assert service.herald.devices.pin(["TA-1"], valid_for="14d", reason="a long measurement") == ["TA-1"]
    shown = service.herald.devices.show("TA-1")
    assert (shown.pinned_by, shown.pinned_why) == ("admin", "a long measurement") and shown.pinned_until is not None
    assert service.herald.devices.list(where="pinned = yes").total == 1
    rollout = service.herald.rollouts.start(service.plan())
    placed = service.wait_for(rollout.id, lambda r: r.states.get("queued"))
    assert (placed.states, placed.passed_over) == ({"queued": 1}, {"pinned": 1})
    assert service.herald.devices.pin(where="pinned = yes", valid_for=None, reason="it is done") == ["TA-1"]
    assert service.herald.devices.list(where="pinned = yes").total == 0
    with pytest.raises(ProblemError, match="is over already"):
        service.herald.devices.pin(["TA-1"], valid_for="0s", reason="no time at all")
    assert service.herald.devices.pin(["TA-9"], valid_for="1d", reason="nobody") == []
