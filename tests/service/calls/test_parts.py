"""The components of a release, each with a state of its own."""

from tests.harness.device import PuppetDevice
from tests.harness.service import RunningService
from tests.service.rollouts.test_rings import plan


def fleet_digest(service: RunningService, version: str) -> str:
    (release,) = [one for one in service.herald.releases.list().items if one.version == version]
    return release.components[0].digest


def test_parts_of_a_release_have_states_of_their_own(service: RunningService) -> None:
    from tests.harness.firmware import make_image

    service.publish("2.4.0").raise_for_status()
    assets = make_image("1.0.0", component="assets", fill=b"\x11\x22")
    body = service.publisher.sealed([make_image("2.5.0"), assets])
    service.post_release(body).raise_for_status()
    device = PuppetDevice(service.url, "TA-0")
    device.enrol(service.code()).raise_for_status()
    device.checkin()
    rollout_id = service.herald.rollouts.start(plan([{"name": "all"}])).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    device.checkin()
    device.report("downloading", component="assets", percent=40, step="fetch")
    (attempt,) = service.herald.rollouts.attempts(rollout_id).items
    assert {part.name: part.state for part in attempt.parts} == {"app": "queued", "assets": "downloading"}
    device.report("failed", reason="no-room", component="assets", detail="4 kB free")
    (attempt,) = service.herald.rollouts.attempts(rollout_id).items
    parts = {part.name: (part.state, part.reason, part.to_version) for part in attempt.parts}
    assert parts == {"app": ("queued", None, "2.5.0"), "assets": ("failed", "no-room", "1.0.0")}
    assert service.herald.rollouts.timeline(attempt.id)[0].component == "assets"


def test_an_independent_component_that_is_given_up_does_not_keep_the_others_back(service: RunningService) -> None:
    from tests.harness.firmware import make_image

    service.publish("2.4.0").raise_for_status()
    assets = make_image("1.0.0", component="assets", fill=b"\x11\x22")
    body = service.publisher.sealed([make_image("2.5.0"), assets], independent=True)
    service.post_release(body).raise_for_status()
    device = PuppetDevice(service.url, "TA-0")
    device.enrol(service.code()).raise_for_status()
    device.checkin()
    rollout_id = service.herald.rollouts.start(plan([{"name": "all"}], numbers={"retries": 1})).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    device.checkin()
    for _ in range(2):
        given_up = device.worded("failed", reason="no-room", component="assets", goes_on=True, detail="4 kB free")
        device.send([given_up])
    device.stage()
    (attempt,) = service.herald.rollouts.attempts(rollout_id).items
    assert attempt.state == "staged" and {part.name: part.state for part in attempt.parts}["assets"] == "failed"
    assert [e.what for e in service.herald.rollouts.timeline(attempt.id)].count("component failed") == 1
    assert device.checkin(standby=device.standby).json().get("order") in ("switch", "stay")
    device.report("installing")
    device.switch()
    device.report("proving")
    device.report("confirmed")
    (attempt,) = service.herald.rollouts.attempts(rollout_id).items
    assert (attempt.state, attempt.reason, attempt.live) == ("failed", "no-room", True), "as good as its worst"
    assert {part.name: part.state for part in attempt.parts} == {"app": "confirmed", "assets": "failed"}


def test_what_a_report_tells_of_each_part_is_that_parts_alone(service: RunningService) -> None:
    from tests.harness.firmware import make_image

    service.publish("2.4.0").raise_for_status()
    images = [
        make_image("2.5.0"),
        *(make_image("1.0.0", component=name, fill=name.encode()) for name in ("radio", "assets")),
    ]
    service.post_release(service.publisher.sealed(images, after={"radio": ["app"]})).raise_for_status()
    device = PuppetDevice(service.url, "TA-0")
    device.enrol(service.code()).raise_for_status()
    device.checkin()
    rollout_id = service.herald.rollouts.start(plan([{"name": "all"}], brake={"firmware_limit": 0.9})).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    device.checkin()
    device.stage()
    standby = {one.nameplate.component: {"digest": one.digest, "slot": "b", "floor": 4} for one in images}
    assert device.checkin(standby=standby).json()["order"] == "switch"
    device.report("installing", parts={"app": {"state": "installing"}, "assets": {"state": "installing"}})
    proving = device.worded("proving", parts={"app": {"state": "confirmed"}, "radio": {"state": "installing"}})
    device.seq += 1
    broken = {"state": "reverted", "reason": "stream-broken", "detail": "block 31 of 40", "log": "block 31: no answer"}
    reverted = device.worded("reverted", reason="stream-broken", detail="radio: block 31", parts={"radio": broken})
    device.send([proving, reverted])

    def states() -> dict[str, tuple[str, str | None]]:
        (attempt,) = service.herald.rollouts.attempts(rollout_id).items
        return {part.name: (part.state.value, part.reason) for part in attempt.parts}

    due = {"app": ("reverted", None), "assets": ("reverted", None), "radio": ("reverted", "stream-broken")}
    assert states() == due
    device.send([proving])
    assert states() == due, "a late word of another part changes nothing"
    (attempt,) = service.herald.rollouts.attempts(rollout_id).items
    assert (attempt.state, attempt.first_bad_why) == ("reverted", "stream-broken")
    rollout = service.herald.rollouts.show(rollout_id)
    assert rollout.ever_bad == 1, "three parts, one device"
    assert [(one.part, one.devices, one.line) for one in rollout.failed_parts] == [("radio", 1, "block 31 of 40")]
    (failure,) = service.herald.rollouts.failures(rollout_id).items
    assert (failure.component, failure.log) == ("radio", "block 31: no answer")
    report = service.herald.rollouts.report(rollout_id)
    assert sum(report.course.points[-1].states.values()) == 1, "what is told of parts moves nobody"
    with service.http(service.token) as http:
        for path in ("report.html", "report.md"):
            assert "Parts that failed" in http.get(f"/api/v1/rollouts/{rollout_id}/{path}").text


def test_a_bad_word_of_a_part_is_told_with_its_place(service: RunningService) -> None:
    device = PuppetDevice(service.url, "TA-0")
    device.enrol(service.code()).raise_for_status()
    device.checkin()
    device.order = {"attempt": 1}
    for part, said in (
        ({"state": "reverted", "reason": "no-room"}, "does not go with reverted"),
        ({"state": "lost"}, "parts"),
    ):
        (told,) = device.report("proving", parts={"radio": part}).json()["refused"]
        assert told["kind"] == "bad-values" and said in told["detail"]
    (told,) = device.report("proving", parts={"files/x": {"state": "proving"}}).json()["refused"]
    assert told["kind"] == "bad-values"
