"""What every answer carries, and how HTTP has it: ranges, entity tags, HEAD, and no 500 for whatever is asked."""

from datetime import datetime
from pathlib import Path

import pytest

from mellow_herald.core.selector.tree import FACTS
from tests.harness.device import PuppetDevice
from tests.harness.firmware import make_bytes
from tests.harness.service import RunningService


@pytest.fixture(scope="module")
def device(shared_service: RunningService) -> PuppetDevice:
    """One that is to fetch 2.5.0."""
    for version in ("2.4.0", "2.5.0"):
        shared_service.publish(version).raise_for_status()
    device = PuppetDevice(shared_service.url, "TA-0")
    device.enrol(shared_service.code(), labels={"site": "fernhollow"}).raise_for_status()
    device.checkin()
    shared_service.herald.rollouts.start(shared_service.plan())
    assert device.checkin(condition={"battery": 80, "charging": True, "link": "wifi"}).json()["order"] == "fetch"
    return device


@pytest.fixture(scope="module")
def digest(shared_service: RunningService, device: PuppetDevice) -> str:
    (component,) = next(one for one in shared_service.herald.releases.list().items if one.version == "2.5.0").components
    return component.digest


WHOLE = make_bytes("2.5.0")


@pytest.mark.parametrize(
    ("asked", "status", "body"),
    [
        (None, 200, WHOLE),
        ("bytes=10-19", 206, WHOLE[10:20]),
        ("bytes=-5", 206, WHOLE[-5:]),
        (f"bytes={len(WHOLE) - 3}-", 206, WHOLE[-3:]),
        ("bytes=0-999999999", 206, WHOLE),
        ("lines=1-2", 200, WHOLE),
        ("bytes=x-y", 200, WHOLE),
        ("bytes=9-3", 200, WHOLE),
        ("bytes", 200, WHOLE),
        ("bytes=1-2,oops", 200, WHOLE),
        (f"bytes={len(WHOLE)}-", 416, None),
        ("bytes=-0", 416, None),
    ],
)
def test_ranges_are_served_ignored_or_refused(
    device: PuppetDevice, digest: str, asked: str | None, status: int, body: bytes | None
) -> None:
    answer = device.get(f"/images/{digest}", **({"range": asked} if asked else {}))
    assert answer.status_code == status
    assert answer.headers["herald-time"] and answer.headers["x-content-type-options"] == "nosniff"
    if body is not None:
        assert answer.content == body
    else:
        assert answer.headers["content-range"] == f"bytes */{len(WHOLE)}"
        assert answer.json()["type"].endswith(":no-such-range") and str(len(WHOLE)) in answer.json()["detail"]


@pytest.mark.parametrize("what", ["images", "manifests", "keys"])
def test_who_has_it_gets_304(device: PuppetDevice, digest: str, what: str) -> None:
    path = {"images": f"/images/{digest}", "manifests": f"/manifests/{device.order['manifest']}", "keys": "/keys"}[what]
    first = device.get(path)
    again = device.get(path, **{"if-none-match": f'"other", W/{first.headers["etag"]}'})
    assert (again.status_code, again.content) == (304, b"")
    assert again.headers["etag"] == first.headers["etag"] and again.headers["herald-time"]
    assert device.get(path, **{"if-none-match": '"other"'}).content == first.content
    head = device._http.head(path, headers=device.headers)
    assert (head.status_code, head.content) == (200, b"")
    assert head.headers["content-length"] == str(len(first.content))


def test_answers_that_refuse_tell_how_fast_time_runs_too(database_url: str, tmp_path: Path) -> None:
    """A device that is refused at first would go by real time from then on."""
    running = RunningService(database_url, tmp_path, time_scale=60).start()
    try:
        with running.http() as http:
            asked = [("POST", "/device/v1/checkins"), ("GET", "/device/v1/keys"), ("GET", "/api/v1/devices")]
            answers = [http.request(method, path) for method, path in asked]
        assert [answer.status_code for answer in answers] == [401] * 3
        assert [answer.headers["herald-time-scale"] for answer in answers] == ["60"] * 3
    finally:
        running.stop()


@pytest.mark.parametrize(
    ("method", "path", "status"),
    [
        ("GET", "/api/v1/devices", 200),
        ("GET", "/api/v1/nothing", 404),
        ("POST", "/api/v1/devices", 405),
        ("POST", "/device/v1/checkins", 401),
        ("GET", "/device/v1/keys", 401),
        ("GET", "/health/live", 200),
        ("GET", "/metrics", 200),
        ("GET", "/a%00b", 404),
        ("GET", "/" + "a" * 5000, 404),
        ("GET", "/api/v1/" + "a" * 5000, 404),
        ("GET", "/fleet/" + "%2e%2e/" * 20 + "etc/passwd", 200),
    ],
)
def test_every_answer_has_the_time_and_is_kept_by_nobody(
    shared_service: RunningService, method: str, path: str, status: int
) -> None:
    headers = {} if path.startswith("/device") else {"authorization": f"Bearer {shared_service.token}"}
    with shared_service.http() as http:
        answer = http.request(method, path, headers=headers, json={} if method == "POST" else None)
    assert answer.status_code == status, answer.text
    assert datetime.fromisoformat(answer.headers["herald-time"]).tzinfo
    assert answer.headers["x-content-type-options"] == "nosniff"
    if path.startswith(("/api", "/device", "/health", "/metrics")):
        assert answer.headers["cache-control"] == "no-store"
    if status >= 400:
        assert answer.headers["content-type"].startswith("application/problem+json")


def test_every_fact_tells_its_values(shared_service: RunningService, device: PuppetDevice) -> None:
    with shared_service.http(shared_service.token) as http:
        told = {name: http.get(f"/api/v1/facts/{name}") for name in (*FACTS, "site", "label.site", "radio.version")}
    assert {name: answer.status_code for name, answer in told.items() if answer.status_code != 200} == {}
    assert [told[name].json()[0]["value"] for name in ("battery", "charging", "link", "site")] == [
        "80",
        "yes",
        "wifi",
        "fernhollow",
    ]


@pytest.mark.parametrize("reason", ["one line\nand another", "\x1b[2J", "no", "x" * 501])
def test_a_reason_is_one_line(shared_service: RunningService, device: PuppetDevice, reason: str) -> None:
    with shared_service.http(shared_service.token) as http:
        body = {"release": "comb-s1/hive-scale/2.5.0", "reason": reason}
        asked = {
            "/api/v1/devices/TA-0/install": body,
            "/api/v1/rollouts/1/hold": {"reason": reason},
            "/api/v1/rollouts/1/rollback": {"reason": reason},
        }
        for path, said in asked.items():
            answer = http.post(path, json=said)
            assert answer.status_code == 422 and "reason" in answer.json()["detail"], (path, answer.text)


def test_a_number_is_no_yes_or_no(shared_service: RunningService) -> None:
    with shared_service.http(shared_service.token) as http:
        code = {"board": "comb-s1", "line": "hive-scale", "uses": 1, "ask": 0}
        answer = http.post("/api/v1/codes", json=code)
    assert answer.status_code == 422 and "ask" in answer.json()["detail"]
