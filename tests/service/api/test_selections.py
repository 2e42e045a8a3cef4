import pytest

from mellow_herald.client import ProblemError
from tests.harness.device import PuppetDevice
from tests.harness.service import RunningService
from tests.service.releases.test_publishing import problem


def enrolled(service: RunningService, serial: str, version: str, **said: object) -> PuppetDevice:
    device = PuppetDevice(service.url, serial, version=version)
    labels = {"site": "fernhollow" if serial < "TA-5" else "quillmere"}
    device.enrol(service.code(), labels=labels).raise_for_status()
    device.checkin(**said)
    return device


def test_a_selection_says_how_its_devices_stand(service: RunningService) -> None:
    for version in ("2.3.0", "2.4.0", "2.5.0"):
        service.publish(version)
    for serial, version in (
        ("TA-1", "2.3.0"),
        ("TA-2", "2.4.0"),
        ("TA-3", "2.5.0"),
        ("TA-4", "9.9.9"),
        ("TA-6", "2.4.0"),
    ):
        enrolled(service, serial, version)
    enrolled(service, "TA-0", "2.4.0", updater=0)
    saved = service.herald.selections.save("hollow", "site = fernhollow", note="the bench")
    assert saved.standing.model_dump() == {"current": 1, "behind": 2, "ahead": 0, "unknown": 1, "barred": 1}
    baseline = service.herald.releases.find("comb-s1/hive-scale/2.4.0")
    service.herald.releases.make_baseline(baseline.id, "what the field runs")
    again = service.herald.selections.show("hollow")
    assert again.standing.model_dump() == {"current": 1, "behind": 1, "ahead": 1, "unknown": 1, "barred": 1}
    picked = service.herald.devices.list(where="@hollow")
    assert picked.total == again.standing.total == 5
    assert service.herald.selections.save("hollow", "site = quillmere").standing.total == 1
    assert [one.name for one in service.herald.selections.list()] == ["hollow"]
    service.herald.selections.drop("hollow")
    for attempt in (
        lambda: service.herald.selections.show("hollow"),
        lambda: service.herald.selections.drop("hollow"),
        lambda: service.herald.devices.list(where="@hollow"),
    ):
        with pytest.raises(ProblemError, match="no selection hollow"):
            attempt()
    whats = [entry.what for entry in service.herald.journal.list().items]
    assert {"selection saved", "selection changed", "selection dropped"} <= set(whats)


def test_a_selector_that_is_none_is_not_saved(service: RunningService) -> None:
    with service.http(service.token) as http:
        for body in ({"name": "x", "selector": "site =="}, {"name": "a b", "selector": "site = x"}, {"name": "x"}):
            response = http.post("/api/v1/selections", json=body)
            assert (response.status_code, problem(response)) == (422, "bad-values")
    assert service.herald.selections.list() == []


def test_devices_are_picked_by_when_they_called_and_how_they_are(service: RunningService) -> None:
    enrolled(service, "TA-1", "2.4.0", condition={"battery": 22, "charging": False, "link": "cellular"})
    radio = {"version": "1.3.0", "digest": "a" * 64}
    app = {"version": "2.4.0", "digest": "b" * 64}
    enrolled(service, "TA-2", "2.4.0", running={"app": app, "radio": radio}, condition={"battery": 90})

    def picked(where: str) -> list[str]:
        return [device.serial for device in service.herald.devices.list(where=where).items]

    assert picked("battery < 30 and charging = no") == ["TA-1"]
    assert picked("link ~ cell*") == ["TA-1"]
    assert picked("radio.version >= 1.2.0") == ["TA-2"]
    assert picked("not has radio.version and presence = online and seen < 1m") == ["TA-1"]
    with pytest.raises(ProblemError, match="label.bord"):
        picked("bord = comb-s1")
