"""What is known of devices: their own history, what they wait for, whether they can be updated; and one brought a
release at once."""

import time
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import text

from mellow_herald.client.errors import ProblemError
from mellow_herald.core import limits
from mellow_herald.core.inventory import Format
from mellow_herald.service import kept
from mellow_herald.service.fleet import baselines, lineage
from mellow_herald.store import fleet
from mellow_herald.wire.fleet import CodeIn
from tests.harness.device import PuppetDevice
from tests.harness.firmware import BOARD, LINE
from tests.harness.patience import PATIENCE_S
from tests.harness.service import RunningService
from tests.harness.terminal import Terminal


@pytest.fixture
def service(databases: Any, tmp_path: Path) -> Any:
    running = RunningService(databases.fresh(), tmp_path).start().prepare()
    for version in ("2.4.0", "2.5.0"):
        running.publish(version).raise_for_status()
    yield running
    running.stop()


def enrolled(service: RunningService, serial: str = "TA-1", **more: Any) -> PuppetDevice:
    device = PuppetDevice(service.url, serial)
    device.enrol(service.code(), **more).raise_for_status()
    device.checkin().raise_for_status()
    return device


def history(service: RunningService, serial: str = "TA-1") -> list[str]:
    timeline = service.herald.devices.show(serial).timeline
    return [entry.what for entry in reversed(timeline) if not entry.attempt_id]


def restart(device: PuppetDevice, boots: int = 1) -> None:
    device.boots, device.seq = device.boots + boots, 0


def test_restarts_versions_and_settings_are_in_a_devices_history(service: RunningService) -> None:
    device = enrolled(service)
    device.checkin(settings_digest="a" * 64)
    restart(device, 3)
    device.checkin(settings_digest="b" * 64)
    device.digest, device.version = "f" * 64, "9.9.9-mine"
    device.checkin(settings_digest="b" * 64)
    assert history(service) == [
        "enrolled",
        "restarted (3 times)",
        "settings changed over a restart",
        "version changed",
    ]
    shown = service.herald.devices.show("TA-1")
    assert shown.runs == "unknown-build" and "not overwritten unasked" in shown.obstacles[0]
    assert "not by a rollout" in shown.timeline[0].detail
    needs = {one.kind: one for one in service.herald.overview().attention}
    assert needs["unknown-build"].first == ["TA-1"]
    for _ in range(5):
        restart(device)
        device.checkin()
    (found,) = [one for one in service.herald.overview().attention if one.kind == "restart-loop"]
    assert service.herald.devices.list(where=found.where).total == 1


def test_a_cloned_unit_is_noticed_journalled_and_shown_until_somebody_settles_it(service: RunningService) -> None:
    device = enrolled(service)
    restart(device, 8)
    device.checkin()
    late = {"boots": 2, "seq": 7}
    device.checkin(**late)
    device.checkin(**late)
    device.checkin(boots=2, seq=8)
    assert service.herald.devices.show("TA-1").cloned_at is None, "some calls may be late together, and come twice"
    service.pass_time(timedelta(minutes=1))
    device.checkin(boots=2, seq=9)
    device.checkin(boots=2, seq=10)
    shown = service.herald.devices.show("TA-1")
    assert shown.cloned_at is not None and shown.boots == device.boots, "the other unit's word changes nothing"
    assert any("two devices use its token" in one for one in shown.obstacles)
    said = [entry for entry in service.herald.journal.list().items if entry.subject == "TA-1"]
    assert [entry.what for entry in said].count("two devices use one token") == 1
    assert service.herald.devices.settle("TA-1", "the copy was scrapped").cloned_at is None


def test_a_late_call_among_good_ones_is_no_clone(service: RunningService) -> None:
    device = enrolled(service)
    for _ in range(3):
        device.checkin()
        device.checkin(seq=device.seq - 1)
        device.seq += 1
    assert service.herald.devices.show("TA-1").cloned_at is None


def test_recovery_is_no_unknown_build_and_a_cable_rescue_is_recognised(service: RunningService) -> None:
    device = enrolled(service)
    restart(device)
    makeshift = {"app": {"version": "1.0.0-recovery", "digest": "e" * 64, "slot": "recovery", "floor": 4}}
    device.checkin(running=makeshift)
    shown = service.herald.devices.show("TA-1")
    assert (shown.runs, shown.known_build) == ("recovery", None) and shown.obstacles == []
    assert [visit.serial for visit in service.herald.devices.visits()] == ["TA-1"]
    restart(device)
    device.checkin()
    shown = service.herald.devices.show("TA-1")
    assert shown.rescued_at is not None and shown.runs == "release"
    assert "rescued" in history(service) and service.herald.devices.visits() == []
    assert [one.kind for one in service.herald.overview().attention] == ["rescued"]


def test_a_device_brought_a_release_at_once_is_a_rollout_of_one_with_its_log(service: RunningService) -> None:
    device = enrolled(service)
    with pytest.raises(
        ProblemError, match="runs these very bytes already. If it is to get them once more, say --again"
    ):
        service.herald.devices.install("TA-1", f"{BOARD}/{LINE}/2.4.0")
    started = service.herald.devices.install("TA-1", f"{BOARD}/{LINE}/2.5.0", reason="a first look")
    assert started.targeted == 1 and started.plan.urgent and started.name == "2.5.0 on TA-1: a first look"
    service.wait_for(started.id, lambda r: r.rings[0].state == "open")
    order = device.checkin(condition={"battery": 80, "owner": "postponed"}).json()
    assert (order["order"], order["urgent"], order["log"]) == ("fetch", True, True)
    lines = [{"boots": 1, "number": n, "text": f"line {n}"} for n in (1, 2, 2)]
    for _ in range(2):
        assert device._http.post("/logs", json={"lines": lines}, headers=device.headers).status_code == 204
    assert [line.text for line in service.herald.devices.log("TA-1")] == ["line 1", "line 2"]
    device.stage()
    assert device.checkin(condition={"battery": 80, "owner": "postponed"}).json()["order"] == "switch"
    order = device.order
    device.switch()
    device.checkin(after_restart=True)
    device.order = order
    device.report("confirmed")
    service.wait_for(started.id, lambda r: r.state == "finished")
    again = service.herald.devices.install("TA-1", f"{BOARD}/{LINE}/2.5.0", again=True)
    older = {"release": f"{BOARD}/{LINE}/2.4.0", "older": True}
    assert again.targeted == 1
    service.herald.rollouts.cancel(again.id, "only asked whether it may")
    assert service.herald.devices.install("TA-1", **older).targeted == 1


def test_logs_are_asked_for_kept_in_bounds_and_told_to_nobody_else(service: RunningService) -> None:
    device = enrolled(service)
    assert device.checkin().status_code == 204
    assert service.herald.devices.ask_for_log("TA-1", "10m").log_until is not None
    time.sleep(0.3)
    answer = device.checkin()
    assert answer.status_code == 200 and answer.json() == {**answer.json(), "log": True}
    for start in range(0, 2500, 500):
        lines = [{"boots": 1, "number": n, "text": "x"} for n in range(start, start + 500)]
        assert device._http.post("/logs", json={"lines": lines}, headers=device.headers).status_code == 204
    kept = service.herald.devices.log("TA-1", limit=2000)
    assert len(kept) == 2000 and kept[-1].number == 2499
    assert service.herald.devices.log("TA-1", after=kept[-1].id) == []
    service.herald.devices.ask_for_log("TA-1", None)
    time.sleep(0.3)
    assert device.checkin().status_code == 204
    with pytest.raises(ProblemError, match="no device"):
        service.herald.devices.log("TA-99")
    assert device.post("/logs", b'{"lines": []}').status_code == 422


@pytest.mark.parametrize(
    ("condition", "words"),
    [
        ({"battery": 22}, "battery at 22 % of 30 %"),
        ({"battery": 80, "link": "cellular"}, "another link than cellular"),
        ({"battery": 80, "charging": False}, "the charger"),
    ],
)
def test_what_a_device_waits_for_before_it_downloads_is_said(
    service: RunningService, condition: dict[str, Any], words: str
) -> None:
    device = enrolled(service)
    plan = service.plan()
    plan.device.links, plan.device.charging = ["wifi"], "charging" in condition
    rollout = service.herald.rollouts.start(plan)
    service.wait_for(rollout.id, lambda r: r.rings[0].state == "open")
    assert device.checkin(condition=condition).status_code == 204
    (attempt,) = service.herald.rollouts.attempts(rollout.id).items
    assert attempt.state == "queued" and words in (attempt.waiting or "") and attempt.waiting_until is not None
    assert words in (service.herald.devices.show("TA-1").waiting or "")
    good = {"battery": 22, "charging": True, "link": "wifi"}
    assert device.checkin(condition=good).json()["order"] == "fetch", "it goes on by itself"


def test_what_a_device_waits_for_before_it_switches_is_said(service: RunningService) -> None:
    device = enrolled(service)
    rollout = service.herald.rollouts.start(service.plan())
    service.wait_for(rollout.id, lambda r: r.rings[0].state == "open")
    device.checkin()
    device.stage()
    until = "2040-01-01T12:00:00+00:00"
    for condition, words in [
        ({"owner": "postponed", "owner_until": until}, "its owner, who postponed it"),
        ({"owner": "must-consent"}, "its owner's consent"),
        ({"busy": True}, "the device, which is busy"),
        ({"battery": 12}, "battery at 12 % of 30 %"),
    ]:
        assert device.checkin(condition=condition).json()["order"] == "stay"
        shown = service.herald.devices.show("TA-1")
        assert words in (shown.waiting or "")
        if "owner_until" in condition:
            assert shown.waiting_until is not None and shown.waiting_until.year == 2040
    assert device.checkin().json()["order"] == "switch"


def test_a_device_that_restarts_into_the_old_firmware_without_a_word_went_back(service: RunningService) -> None:
    device = enrolled(service)
    rollout = service.herald.rollouts.start(service.plan())
    service.wait_for(rollout.id, lambda r: r.rings[0].state == "open")
    device.checkin()
    device.stage()
    device.checkin()
    order = dict(device.order)
    device.report("installing")
    restart(device)
    device.checkin(after_restart=True)
    (attempt,) = service.herald.rollouts.attempts(rollout.id).items
    assert (attempt.state, attempt.reason) == ("reverted", "power-lost")
    device.order = order
    device.report("reverted", reason="self-test-failed")
    (attempt,) = service.herald.rollouts.attempts(rollout.id).items
    assert attempt.reason == "self-test-failed", "its own word comes late, and counts"


def test_a_gateway_and_what_stands_behind_it(service: RunningService) -> None:
    enrolled(service, "TA-G")
    enrolled(service, "TA-2", gateway="TA-G")
    enrolled(service, "TA-3")
    service.herald.devices.edit("TA-3", gateway="TA-G")
    assert service.herald.devices.show("TA-G").behind == ["TA-2", "TA-3"]
    assert service.herald.devices.edit("TA-3", gateway="").gateway is None
    assert service.herald.devices.list(where="gateway = TA-G").total == 1


def test_a_baseline_brings_who_arrives_only_when_it_is_switched_on_and_never_down(service: RunningService) -> None:
    releases = {r.version: r.id for r in service.herald.releases.list().items}
    with pytest.raises(ProblemError, match="no baseline"):
        service.herald.baselines.preview(BOARD, LINE)
    service.herald.releases.make_baseline(releases["2.5.0"], "what new devices run")
    old = enrolled(service, "TA-old")
    newer = PuppetDevice(service.url, "TA-new", version="2.6.0")
    newer.enrol(service.code()).raise_for_status()
    newer.checkin()
    local = PuppetDevice(service.url, "TA-lab")
    local.enrol(service.code()).raise_for_status()
    local.digest = "f" * 64
    local.checkin()
    due = service.herald.baselines.preview(BOARD, LINE)
    assert (due.brings, due.would_bring, due.first) == (False, 1, ["TA-old"])
    assert due.passed_over == {"unknown-build": 2}, "2.6.0 is no release here, either"
    assert service.call(baselines.bring(service.context)) == [], "off by default"
    service.herald.baselines.switch(BOARD, LINE, brings=True, reason="devices come from the factory with 2.4.0")
    deadline = time.monotonic() + PATIENCE_S
    while not (items := service.herald.rollouts.list().items) and time.monotonic() < deadline:
        service.call(baselines.bring(service.context))
    (rollout,) = items
    assert rollout.name == "baseline 2.5.0: TA-old" and rollout.created_by == "baseline"
    service.wait_for(rollout.id, lambda r: r.rings[0].state == "open")
    assert old.checkin().json()["order"] == "fetch"
    assert service.call(baselines.bring(service.context)) == [], "each arrival is seen to once"
    assert service.herald.baselines.preview(BOARD, LINE).would_bring == 0
    assert [one.brings for one in service.herald.baselines.list()] == [True]


def test_presence_over_time_is_what_was_noted_then(service: RunningService) -> None:
    enrolled(service)
    service.call(lineage.sample(service.context))
    with service.http(service.token) as http:
        samples = http.get("/api/v1/presence", params={"board": BOARD}).json()
        assert samples[-1]["counts"] == {"online": 1}
        assert http.get("/api/v1/presence", params={"board": "comb-s9"}).json() == []


CSV = """serial,board,line,hw_rev,gateway,note,label.site
TA-1,comb-s1,hive-scale,1,,,fernhollow
TA-2,comb-s1,hive-scale,2,TA-G,"two
lines, one note",
TA-2,comb-s1,hive-scale,2,,,
TA-3,comb-s9,hive-scale,1,,,
TA-4,comb-s1,feed-pump,1,,,
TA-5,comb-s1,hive-scale,7,,,
TA-6,comb-s1,hive-scale
"""


def test_devices_are_imported_line_by_line_and_exported_so_that_they_can_be_imported(service: RunningService) -> None:
    enrolled(service)
    devices = service.herald.devices
    checked = devices.import_from([CSV.encode()], check=True)
    assert devices.list().total == 1, "only asked"
    report = devices.import_from([CSV.encode()[:77], CSV.encode()[77:]])
    assert (report.added, report.changed, report.unchanged, report.refused) == (1, 1, 0, 5)
    assert checked.new and checked.changes[0].fields, "a check says what would be done"
    assert report == checked.model_copy(update={"new": [], "changes": []})
    assert [(r.line_number, r.kind) for r in report.refusals] == [
        (5, "twice"),
        (6, "unknown-board"),
        (7, "unknown-line"),
        (8, "unknown-revision"),
        (9, "bad-line"),
    ]
    second = devices.show("TA-2")
    assert (second.admission, second.gateway, second.note) == ("admitted", "TA-G", "two\nlines, one note")
    puppet = PuppetDevice(service.url, "TA-2")
    assert puppet.enrol(service.code()).json()["admission"] == "admitted"
    assert puppet.checkin().status_code == 204
    for written in Format:
        text = b"".join(devices.export(written=written))
        again = devices.import_from([text], written)
        assert (again.added, again.changed, again.unchanged, again.refused) == (0, 0, 2, 0), text
    assert b"TA-2" not in b"".join(devices.export(where="site = fernhollow"))
    other = devices.import_from([b'{"serial":"TA-1","board":"comb-s1","line":"hive-scale","hw_rev":3}'], Format.JSONL)
    assert other.refusals[0].kind == "another-device"
    with pytest.raises(ProblemError, match="Did you mean serial"):
        devices.import_from([b"seriel,board,line,hw_rev\n"])


def test_a_visit_list_names_who_was_lost_by_site(service: RunningService) -> None:
    device = enrolled(service, labels={"site": "=saltgrass"})
    restart(device)
    device.checkin(running={"app": {"digest": "e" * 64, "slot": "recovery"}})
    (visit,) = service.herald.devices.visits(where="has site")
    assert (visit.site, visit.why) == ("=saltgrass", "runs its recovery image")
    lines = service.herald.devices.visit_list().splitlines()
    assert lines[0].startswith("site,serial") and lines[1].startswith("'=saltgrass,TA-1,"), "no formula"


def test_what_a_selector_may_speak_of(service: RunningService) -> None:
    enrolled(service, labels={"site": "fernhollow"})
    names = {fact.name: fact.kind for fact in service.herald.devices.facts()}
    assert names["site"] == "label" and names["version"] == "version" and names["seen"] == "age"
    for name, value in [("site", "fernhollow"), ("version", "2.4.0"), ("pinned", "no"), ("presence", "online")]:
        assert [(one.value, one.devices) for one in service.herald.devices.values(name)] == [(value, 1)]
    assert service.herald.devices.values("seen") == service.herald.devices.values("nothing") == []


def test_a_device_that_enrols_again_begins_its_history_anew(service: RunningService) -> None:
    device = enrolled(service)
    restart(device, 40)
    device.checkin()
    service.herald.devices.allow_enrolment("TA-1", "its flash was replaced")
    again = PuppetDevice(service.url, "TA-1")
    again.enrol(service.code(), nonce="another-nonce-0000000")
    for _ in range(3):
        again.checkin()
    shown = service.herald.devices.show("TA-1")
    assert shown.cloned_at is None and shown.boots == again.boots


def test_codes_are_of_one_board_and_line(service: RunningService) -> None:
    with pytest.raises(ProblemError, match="There is no board"):
        service.herald.codes.make(CodeIn(board="comb-s9", line=LINE))


def test_of_a_large_fleet_the_counts_are_kept_for_a_while_and_say_of_when_they_are(
    service: RunningService, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(limits, "LARGE", 0)
    monkeypatch.setattr(kept, "TIMES", 100_000)
    first = service.herald.overview()
    enrolled(service)
    again = service.herald.overview()
    assert again.counted_at == first.counted_at < again.now and sum(again.presence.values()) == 0
    with service.http(service.token) as http:
        assert 'herald_devices{presence="never-seen"} 0.0' in http.get("/metrics").text
    monkeypatch.setattr(limits, "LARGE", 10)
    assert sum(service.herald.overview().presence.values()) == 1


def test_in_a_very_large_fleet_how_many_match_is_told_by_a_sample_unless_the_number_is_asked_for(
    service: RunningService, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    enrolled(service)
    many = range(1001, 4001)

    async def multiply() -> None:
        own = "jsonb_build_object('id', n, 'serial', 'X-' || n, 'hw_rev', 1 + n % 3)"
        given = {"first": many[0], "last": many[-1]}
        async with service.context.pools.work.begin() as connection:
            await connection.execute(
                text(
                    f"INSERT INTO device SELECT (jsonb_populate_record(device, {own})).*"
                    " FROM device, generate_series(CAST(:first AS int), CAST(:last AS int)) n"
                ),
                given,
            )

    service.call(multiply())
    service.context.memory.generations.update(dict.fromkeys(many, 1))
    where = "hw_rev = 2 or presence = late"
    before = service.herald.devices.list(where=where)
    assert (before.total, before.about) == (1000, False)
    monkeypatch.setattr(limits, "COUNTED_EXACTLY", 3000)
    first, again = (service.herald.devices.list(where=where, limit=5) for _ in range(2))
    assert first.about and first.total == again.total == 1000
    assert service.herald.devices.list(where=where, limit=1000, after=first.next).total is None
    # By a part of them it is only about right.
    monkeypatch.setattr(fleet, "SAMPLE", 1500)
    some = service.herald.devices.list(where=f"not ({where})")
    assert some.about and some.total and some.total != 2001 and abs(some.total - 2001) < 200
    exact = service.herald.devices.list(where=f"not ({where})", exact=True)
    assert (exact.total, exact.about) == (2001, False)
    few = service.herald.devices.list(where='serial ~ "X-10*" or presence = late', limit=10)
    assert (few.total, few.about) == (99, False), "too few to be told by a sample"
    terminal = Terminal(service, tmp_path)
    terminal.environment |= {"HERALD_TOKEN": service.token}
    listed = ["device", "list", "--where", f"not ({where})", "--limit", "2"]
    assert f"2 of about {some.total:,} devices" in terminal.good(*listed)
    assert "2 of 2001 devices" in terminal.good(*listed, "--exact")
