import threading
import time
from datetime import UTC, datetime
from typing import Any

import pytest

from mellow_herald.core.manifest import verify_envelope
from mellow_herald.service.calls.glance import Glance
from mellow_herald.service.calls.intake import Intake
from mellow_herald.service.calls.memory import FEED_MAY_BE_OLD, Memory
from mellow_herald.store import fleet
from tests.harness.device import PuppetDevice
from tests.harness.firmware import make_bytes, make_image
from tests.harness.patience import PATIENCE_S
from tests.harness.service import RunningService
from tests.service.releases.test_publishing import problem

DIGEST = b"a" * 64


@pytest.fixture
def device(shared_service: RunningService, request: pytest.FixtureRequest) -> PuppetDevice:
    made = PuppetDevice(shared_service.url, f"TA-{abs(hash(request.node.name)) % 10**8}")
    made.enrol(shared_service.code()).raise_for_status()
    return made


def test_a_fault_of_the_service_is_told_as_one(
    shared_service: RunningService, device: PuppetDevice, monkeypatch: pytest.MonkeyPatch
) -> None:
    with monkeypatch.context() as broken:
        broken.setattr(shared_service.context.memory, "unchanged", lambda *_: 1 // 0)
        response = device.checkin()
        assert (response.status_code, problem(response)) == (500, "fault")
        assert response.headers["content-type"] == "application/problem+json"
    assert device.checkin().status_code == 204


# Enrolment --------------------------------------------------------------------------------------------------------


def test_a_lost_answer_to_the_first_call_locks_nobody_out(shared_service: RunningService) -> None:
    device, code = PuppetDevice(shared_service.url, "TA-lost"), shared_service.code(uses=1)
    first = device.enrol(code)
    again = device.enrol(code)
    assert first.status_code == again.status_code == 201
    assert first.json() == again.json(), "the same nonce gives the same token, and uses the code once"
    assert device.checkin().status_code == 204
    used = device.enrol(code)
    assert (used.status_code, problem(used)) == (409, "already-enrolled")


def test_enrolment_says_what_stands_and_what_of_it_was_said_otherwise(shared_service: RunningService) -> None:
    device, code = PuppetDevice(shared_service.url, "TA-facts"), shared_service.code(site="millbrook")
    said = {"labels": {"site": "quillmere", "yard": "top"}}
    first = device.enrol(code, **said).json()
    assert first["stands"] == {
        "serial": "TA-facts",
        "board": "comb-s1",
        "line": "hive-scale",
        "hw_rev": 1,
        "labels": {"site": "millbrook", "yard": "top"},
    }
    assert first["not_taken"] == ["labels.site"]
    device.hw_rev = 2
    again = device.enrol(code, **said, gateway="TA-gate").json()
    assert again["stands"] == first["stands"] and again["token"] == first["token"]
    assert again["not_taken"] == ["hw_rev", "gateway", "labels.site"]


def test_a_revision_that_the_board_does_not_have_is_refused_and_uses_no_code(shared_service: RunningService) -> None:
    device, code = PuppetDevice(shared_service.url, "TA-rev-9", hw_rev=9), shared_service.code(uses=1)
    refused = device.enrol(code)
    assert (refused.status_code, problem(refused)) == (422, "unknown-revision")
    assert "1, 2, 3, not 9" in refused.json()["detail"]
    device.hw_rev = 3
    device.enrol(code).raise_for_status()


def test_a_known_serial_with_another_nonce_is_refused(shared_service: RunningService, device: PuppetDevice) -> None:
    clone = PuppetDevice(shared_service.url, device.serial)
    response = clone.enrol(shared_service.code(), nonce="another-nonce-000000")
    assert (response.status_code, problem(response)) == (409, "already-enrolled")
    assert device.checkin().status_code == 204


def test_codes_are_for_their_board_and_line_and_so_many_devices(shared_service: RunningService) -> None:
    code = shared_service.code(uses=1)
    assert PuppetDevice(shared_service.url, "TA-u1").enrol(code).status_code == 201
    used_up = PuppetDevice(shared_service.url, "TA-u2").enrol(code)
    assert (used_up.status_code, problem(used_up)) == (403, "code-used-up")
    wrong = PuppetDevice(shared_service.url, "TA-u3").enrol(shared_service.code(), line="feed-pump")
    assert (wrong.status_code, problem(wrong)) == (403, "bad-code")
    unknown = PuppetDevice(shared_service.url, "TA-u4").enrol("no-such-code")
    assert (unknown.status_code, problem(unknown)) == (403, "bad-code")
    counted = [c for c in shared_service.herald.codes.list() if c.uses == 1 and c.used == 1]
    assert counted, "uses are counted"


def test_many_at_once_never_overdraw_a_code(shared_service: RunningService) -> None:
    code = shared_service.code(uses=5)
    answers: list[int] = []

    def enrol(number: int) -> None:
        answers.append(PuppetDevice(shared_service.url, f"TA-many-{number}").enrol(code).status_code)

    threads = [threading.Thread(target=enrol, args=(number,)) for number in range(12)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(answers) == [201] * 5 + [403] * 7


# Calls ------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("token", ["", "nonsense", "mh1.1.1.1.AAAA"])
def test_a_bad_token_opens_nothing(shared_service: RunningService, token: str) -> None:
    device = PuppetDevice(shared_service.url, "TA-none")
    device.token = token
    digest = "a" * 64
    calls = [device.checkin(), device.get("/keys"), device.get(f"/manifests/{digest}"), device.get(f"/images/{digest}")]
    assert {call.status_code for call in calls} == {401}
    assert {problem(call) for call in calls} == {"bad-token"}


def test_an_engineers_token_is_no_device_token(shared_service: RunningService) -> None:
    device = PuppetDevice(shared_service.url, "TA-none")
    device.token = shared_service.token or ""
    assert device.checkin().status_code == 401
    with shared_service.http("mh1.1.1.1.AAAA") as http:
        assert http.get("/api/v1/devices").status_code == 401


@pytest.mark.parametrize(
    ("body", "status", "kind"),
    [
        (b"this is not JSON", 400, "bad-json"),
        (b"", 400, "bad-json"),
        (b'{"boots": 1, "seq": 1', 400, "bad-json"),
        (b"[]", 422, "bad-values"),
        (b"{}", 422, "bad-values"),
        (b'{"boots": -1, "seq": 1}', 422, "bad-values"),
        (b'{"boots": 1, "seq": 99999999999999999999}', 422, "bad-values"),
        (b'{"boots": 1, "seq": 1, "condition": {"battery": 101}}', 422, "bad-values"),
        (b'{"boots": 1, "seq": 1, "running": {"app": {"digest": "short"}}}', 422, "bad-values"),
        (b'{"boots": 1, "seq": 1, "running": {"app": {"version": "x", "digest": "%b"}}}' % DIGEST, 422, "bad-values"),
        (b'{"boots": 1, "seq": 1, "running": {"a\\u0000": {}}}', 422, "bad-values"),
        (b'{"boots": 1, "seq": 1, "readings": {"t": "warm"}}', 422, "bad-values"),
        (b"\xff\xfe", 400, "bad-json"),
        (b" " * 600_000, 413, "too-large"),
    ],
)
def test_bad_bodies_are_problems(device: PuppetDevice, body: bytes, status: int, kind: str) -> None:
    response = device.post("/checkins", body)
    assert (response.status_code, problem(response)) == (status, kind)
    assert device.checkin().status_code == 204, "and it changed nothing"


def test_unknown_fields_are_ignored(device: PuppetDevice) -> None:
    assert (
        device.checkin(colour="honey", running={"app": {"version": "1.0.0", "digest": "a" * 64, "x": 1}}).status_code
        == 204
    )


def test_every_answer_carries_the_time_and_the_next_check_in(device: PuppetDevice) -> None:
    response = device.checkin()
    assert response.status_code == 204
    assert 54 <= int(response.headers["herald-next-checkin"]) <= 66, "a minute, spread by a tenth"
    assert response.headers["herald-time"].endswith("+00:00")
    assert "herald-time-scale" not in response.headers


def test_what_a_device_says_is_shown_with_its_age(shared_service: RunningService, device: PuppetDevice) -> None:
    assert shared_service.herald.devices.show(device.serial).presence == "never-seen"
    device.checkin(readings={"temperature": 21.5}, settings_digest="5" * 64)
    shown = shared_service.herald.devices.show(device.serial)
    assert (shown.presence, shown.version, shown.digest) == ("online", "2.4.0", device.digest)
    assert shown.condition == {"battery": 80} and shown.readings == {"temperature": 21.5}
    assert shown.seen_at is not None and shown.next_checkin_at is not None
    assert (shown.next_checkin_at - shown.seen_at).total_seconds() == 60


def test_a_check_in_that_brings_nothing_new_is_answered_from_memory_and_written_later(
    shared_service: RunningService, device: PuppetDevice, monkeypatch: pytest.MonkeyPatch
) -> None:
    device.checkin()
    before = shared_service.herald.devices.show(device.serial)
    memory = shared_service.context.memory
    # The word of its enrolment makes the memory forget it once more, whenever the feed brings that.
    deadline = time.monotonic() + PATIENCE_S
    while before.id not in memory._checkins or not device.seq > 3:
        assert device.checkin(readings={"weight": 31}).status_code == 204 and time.monotonic() < deadline
    with monkeypatch.context() as without:
        without.setattr(Intake, "checkin", lambda *_: 1 // 0)
        assert device.checkin(condition={"battery": 42}, readings={"weight": 30.5}).status_code == 204
    while (shown := shared_service.herald.devices.show(device.serial)).condition != {"battery": 42}:
        assert time.monotonic() < deadline
        time.sleep(0.1)
    assert shown.readings == {"weight": 30.5}
    device.checkin(running={"app": {"version": "9.9.9", "digest": "9" * 64, "slot": "a"}})
    assert shared_service.herald.devices.show(device.serial).version == "9.9.9", "something new is written at once"
    assert shared_service.herald.devices.show(device.serial).known_build is False


def test_memory_is_not_used_while_the_feed_is_old_nor_after_something_that_could_be_an_order() -> None:
    memory, now = Memory(), datetime.now(UTC)

    def call(seq: int) -> Glance:
        return Glance(7, 1, seq, {}, {}, is_news=False)

    memory.feed_was_read()
    memory.remember(28, call(1), 60, memory.epoch)
    assert [memory.unchanged(28, call(seq), now) for seq in (2, 3, 5, 4)] == [60, 60, None, 60]
    assert memory.unchanged(28, Glance(8, 1, 5, {}, {}, is_news=False), now) is None
    assert memory.unchanged(28, Glance(7, 1, 5, {}, {}, is_news=True), now) is None
    memory._feed_read -= FEED_MAY_BE_OLD
    assert memory.unchanged(28, call(5), now) is None
    memory.feed_was_read()
    assert memory.unchanged(28, call(5), now) == 60
    memory.epoch += 1
    assert memory.unchanged(28, call(6), now) is None
    memory.remember(28, call(6), 60, memory.epoch)
    memory.admit(28, None)
    assert memory.unchanged(28, call(7), now) is None


def test_an_older_pulse_never_overwrites_a_newer_one(shared_service: RunningService, device: PuppetDevice) -> None:
    device.boots, device.seq = 5, 50
    device.checkin(condition={"battery": 50})
    device.boots, device.seq = 4, 99
    device.checkin(condition={"battery": 99}, after_restart=True)
    shown = shared_service.herald.devices.show(device.serial)
    assert (shown.boots, shown.condition) == (5, {"battery": 50})


def test_listing_by_selector_and_pages(shared_service: RunningService) -> None:
    code = shared_service.code()
    for number in range(7):
        puppet = PuppetDevice(shared_service.url, f"PAGE-{number}", hw_rev=1 + number % 2)
        puppet.enrol(code, labels={"site": "fernhollow", "batch": "pages"}).raise_for_status()
    herald = shared_service.herald
    page = herald.devices.list(where="batch = pages", limit=3)
    assert (len(page.items), page.total, page.next) == (3, 7, "PAGE-2")
    assert [device.serial for device in herald.devices.each(where="batch = pages and hw_rev = 2")] == [
        "PAGE-1",
        "PAGE-3",
        "PAGE-5",
    ]
    with shared_service.http(shared_service.token) as http:
        first = http.get("/api/v1/devices", params={"where": "batch = pages", "limit": 3})
        link = first.headers["link"]
        assert link.endswith('; rel="next"')
        second = http.get(link[1 : link.index(">")])
        assert [item["serial"] for item in second.json()["items"]] == ["PAGE-3", "PAGE-4", "PAGE-5"]
        bad = http.get("/api/v1/devices", params={"where": "batch === pages"})
        assert (bad.status_code, problem(bad)) == (422, "bad-selector")
        missing = http.get("/api/v1/devices/nobody")
        assert (missing.status_code, problem(missing)) == (404, "not-found")


@pytest.mark.parametrize("few", [2, 5000])
def test_pages_are_the_same_whether_few_match_or_many(
    shared_service: RunningService, monkeypatch: pytest.MonkeyPatch, few: int
) -> None:
    monkeypatch.setattr(fleet, "FEW", few)
    code, herald = shared_service.code(), shared_service.herald
    for number in range(5):
        puppet = PuppetDevice(shared_service.url, f"FEW-{few}-{number}")
        puppet.enrol(code, labels={"batch": f"few-{few}"}).raise_for_status()
    where, serials = f"batch = few-{few}", [f"FEW-{few}-{number}" for number in range(5)]
    first = herald.devices.list(where=where, limit=3)
    assert (first.total, [one.serial for one in first.items]) == (5, serials[:3])
    rest = herald.devices.list(where=where, limit=3, after=first.next)
    assert (rest.total, rest.next, [one.serial for one in rest.items]) == (None, None, serials[3:])
    assert herald.devices.list(where=where, limit=5).total == 5 and herald.devices.list(where=where, limit=1).total == 5
    assert herald.devices.list(where="batch = nobody").total == 0


# Images and manifests ---------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def offered(shared_service: RunningService) -> PuppetDevice:
    """A device with a live attempt, offered 2.5.0; others have none."""
    shared_service.publish("2.4.0").raise_for_status()
    shared_service.publish("2.5.0").raise_for_status()
    device = PuppetDevice(shared_service.url, "TA-offered")
    device.enrol(shared_service.code(), labels={"batch": "offered"}).raise_for_status()
    device.checkin()
    plan = shared_service.plan().model_copy(update={"target": "batch = offered"})
    rollout = shared_service.herald.rollouts.start(plan)
    shared_service.wait_for(rollout.id, lambda r: r.states.get("queued"))
    assert device.checkin().json()["order"] == "fetch"
    return device


def test_the_device_gets_a_manifest_it_can_verify(shared_service: RunningService, offered: PuppetDevice) -> None:
    response = offered.get(f"/manifests/{offered.order['manifest']}")
    assert response.headers["content-type"] == "application/suit-envelope+cose"
    verified = verify_envelope(response.content, shared_service.publisher.trusted())
    assert verified.digest == offered.order["manifest"]
    assert verified.manifest.components[0].digest == make_image("2.5.0").digest
    assert offered.get("/keys").content == shared_service.publisher.key_list_bytes()


def test_images_come_whole_or_in_ranges(offered: PuppetDevice) -> None:
    data, digest = make_bytes("2.5.0"), make_image("2.5.0").digest
    whole = offered.get(f"/images/{digest}")
    assert whole.content == data
    assert whole.headers["etag"] == f'"{digest}"'
    assert whole.headers["repr-digest"].startswith("sha-256=:")
    rest = offered.get(f"/images/{digest}", range="bytes=15000-", **{"if-range": f'"{digest}"'})
    assert (rest.status_code, rest.content) == (206, data[15000:])
    several = offered.get(f"/images/{digest}", range="bytes=0-9,100-109")
    assert several.status_code == 206 and data[100:110] in several.content
    other = offered.get(f"/images/{digest}", range="bytes=15000-", **{"if-range": '"of another time"'})
    assert (other.status_code, len(other.content)) == (200, len(data))
    assert offered.get(f"/images/{digest}", range="bytes=999999-").status_code == 416


def test_a_device_reads_only_what_its_own_attempt_names(
    shared_service: RunningService, offered: PuppetDevice, device: PuppetDevice
) -> None:
    digest = make_image("2.5.0").digest
    for path in (f"/images/{digest}", f"/manifests/{offered.order['manifest']}"):
        response = device.get(path)
        assert (response.status_code, problem(response)) == (403, "not-your-attempt")
    old = offered.get(f"/images/{make_image('2.4.0').digest}")
    assert (old.status_code, problem(old)) == (403, "not-your-attempt")
    for digest in ("short", "A" * 64, "..%2f..%2fetc%2fpasswd"):
        assert offered.get(f"/images/{digest}").status_code in (404, 422)


def test_a_report_for_another_devices_attempt_is_refused_and_changes_nothing(
    shared_service: RunningService, offered: PuppetDevice, device: PuppetDevice
) -> None:
    before = shared_service.herald.rollouts.attempt(offered.order["attempt"])
    device.order = dict(offered.order)
    for number in (offered.order["attempt"], 987654321):
        device.order["attempt"] = number
        response = device.report("confirmed")
        assert response.status_code == 200
        (told,) = response.json()["refused"]
        assert (told["kind"], told["index"], told["seq"]) == ("not-your-attempt", 0, device.seq)
    assert shared_service.herald.rollouts.attempt(offered.order["attempt"]) == before


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"state": "cleared"}, "state"),
        ({"state": "queued"}, "state"),
        ({"state": "failed"}, "needs a reason"),
        ({"state": "failed", "reason": "crashed"}, "does not go with failed"),
        ({"state": "staged", "reason": "crashed"}, "does not go with staged"),
        ({"percent": 101}, "percent"),
        ({"try": 0}, "try"),
        ({"attempt": -1}, "attempt"),
        ({"step": "dance"}, "step"),
        ({"log": "x" * 70_000}, "log"),
        ({"detail": "nul \x00"}, "detail"),
    ],
)
def test_a_bad_report_is_said_back_and_the_others_are_taken(
    shared_service: RunningService, offered: PuppetDevice, change: dict[str, object], said: str
) -> None:
    offered.seq += 3
    first, bad, last = (
        {**offered.worded("downloading", percent=percent), "seq": offered.seq - back}
        for back, percent in ((2, 11), (1, 22), (0, 33))
    )
    response = offered.send([first, {**bad, **change}, {**last, "detail": "the last of three"}])
    assert response.status_code == 200
    (told,) = response.json()["refused"]
    assert (told["index"], told["boots"], told["seq"], told["kind"]) == (1, bad["boots"], bad["seq"], "bad-values")
    assert said in told["detail"]
    told = shared_service.herald.rollouts.timeline(offered.order["attempt"])
    assert (told[0].percent, told[0].detail) == (33, "the last of three")


@pytest.mark.parametrize(
    ("reports", "status"),
    [([], 422), ("none", 422), ([{}] * 101, 422), (["word"], 200), ([{"seq": "x"}, None], 200)],
)
def test_what_is_no_report_at_all_is_refused_in_its_place(offered: PuppetDevice, reports: Any, status: int) -> None:
    response = offered.send(reports)
    assert response.status_code == status
    if status == 200:
        assert [one["index"] for one in response.json()["refused"]] == list(range(len(reports)))


def test_a_try_that_never_was_is_said_back_and_the_others_are_taken(
    shared_service: RunningService, offered: PuppetDevice
) -> None:
    offered.seq += 2
    good = {**offered.worded("downloading", percent=33), "seq": offered.seq - 1}
    answer = offered.send([good, {**offered.worded("staged"), "try": 7}])
    assert answer.status_code == 200
    assert answer.json()["refused"][0]["kind"] == "unknown-try"
    attempt = shared_service.herald.rollouts.attempt(offered.order["attempt"])
    assert (attempt.state, attempt.percent) == ("downloading", 33)


def test_health_is_open_and_metrics_want_a_token(shared_service: RunningService) -> None:
    with shared_service.http() as http:
        assert http.get("/health/live").json()["ok"] is True
        # A machine that is busy with other tests may let the database's answer come later than within its second.
        deadline = time.monotonic() + PATIENCE_S
        while (checks := http.get("/health/ready").json()["checks"]) and time.monotonic() < deadline:
            time.sleep(0.1)
        assert checks == {}
        assert http.get("/metrics").status_code == 401
    with shared_service.http(shared_service.token) as http:
        text = http.get("/metrics").text
    assert 'herald_devices{presence="online"}' in text
