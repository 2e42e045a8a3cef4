"""What becomes of a release: draft, published, baseline, withdrawn, cleaned away; and what keys do to it."""

import threading
from pathlib import Path
from typing import Any

import httpx
import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from mellow_herald.client import ProblemError
from mellow_herald.core.firmware import for_slot
from mellow_herald.core.key_status import KeyStatus
from mellow_herald.core.keys import SigningKey, raw_public, sign_key_list
from mellow_herald.core.manifest import verify_envelope
from mellow_herald.service.fleet.lineage import sample
from mellow_herald.service.releases.retention import sweep
from tests.harness.device import PuppetDevice
from tests.harness.firmware import load_image, make_bytes, make_image
from tests.harness.service import RunningService
from tests.service.releases.test_publishing import problem, stored


def refused(response: httpx.Response) -> list[str]:
    """The names of the checks that refused."""
    problem(response)
    return [check["name"] for check in response.json()["checks"] if check["verdict"] == "refuse"]


def enrolled(service: RunningService, serial: str = "TA-1", version: str = "2.4.0") -> PuppetDevice:
    device = PuppetDevice(service.url, serial, version=version)
    device.enrol(service.code()).raise_for_status()
    device.checkin()
    return device


def test_a_draft_is_checked_and_kept_but_not_offered(service: RunningService) -> None:
    service.publish("2.4.0")
    enrolled(service)
    response = service.post_release(service.publisher.release_file("2.5.0"), draft=True)
    assert (response.status_code, response.json()["state"], response.json()["published_at"]) == (201, "draft", None)
    assert response.json()["checks"]
    with pytest.raises(ProblemError, match=r"is draft\. Only published releases are offered"):
        service.herald.rollouts.start(service.plan())
    again = service.post_release(service.publisher.release_file("2.5.0"))
    assert (again.status_code, again.json()["state"]) == (200, "draft"), "publishing is said in so many words"
    other = service.post_release(service.publisher.release_file("2.5.0", fill=b"\x01\x02"))
    assert problem(other) == "release-exists" and "Drop the draft first" in other.json()["detail"]
    release = service.herald.releases.publish_draft(response.json()["id"])
    assert release.state == "published" and release.published_by == "admin"
    assert release.checks[0].name == "nameplate"
    assert service.herald.rollouts.start(service.plan()).targeted == 1
    with pytest.raises(ProblemError, match="is published, not draft"):
        service.herald.releases.publish_draft(release.id)


def test_a_draft_is_checked_again_when_it_is_published(service: RunningService) -> None:
    draft = service.post_release(service.publisher.release_file("2.5.0"), draft=True).json()["id"]
    service.publish("2.6.0").raise_for_status()
    with pytest.raises(ProblemError, match=r"2\.5\.0 does not follow 2\.6\.0") as caught:
        service.herald.releases.publish_draft(draft)
    assert caught.value.checks
    from mellow_herald.core.verdict import Allowed

    assert service.herald.releases.publish_draft(draft, allowed=Allowed(lower_version=True)).state == "published"


def test_dropping_a_draft_leaves_nothing(service: RunningService) -> None:
    draft = service.post_release(service.publisher.release_file("2.5.0"), draft=True).json()["id"]
    published = service.publish("2.4.0").json()["id"]
    service.herald.releases.drop(draft)
    assert [release.version for release in service.herald.releases.list().items] == ["2.4.0"]
    with pytest.raises(ProblemError, match="not draft"):
        service.herald.releases.drop(published)
    assert [path.name for path in stored(service)] == [make_image("2.4.0").digest]
    assert service.publish("2.5.0").status_code == 201, "the name is free again"


def test_withdrawing_stops_its_rollouts_and_says_so_first(service: RunningService) -> None:
    service.publish("2.4.0")
    release = service.publish("2.5.0").json()["id"]
    device = enrolled(service)
    rollout = service.herald.rollouts.start(service.plan())
    service.wait_for(rollout.id, lambda r: r.states.get("queued"))
    device.checkin()
    service.herald.releases.make_baseline(release, "the newest")
    said = service.herald.releases.foresee_withdrawal(release)
    assert (list(said.rollouts), said.on_the_way, said.baseline) == ([rollout.id], 1, True)
    assert service.herald.releases.withdraw(release, "weighs 3 kg too much").rollouts == said.rollouts
    halted = service.wait_for(rollout.id, lambda r: r.states.get("called-off"))
    assert halted.state == "halted" and "weighs 3 kg too much" in (halted.reason or "")
    assert device.checkin().status_code == 204, "it is not offered any more"
    shown = service.herald.releases.show(release)
    assert (shown.state, shown.withdrawn_by, shown.withdrawn_why, shown.baseline) == (
        "withdrawn",
        "admin",
        "weighs 3 kg too much",
        False,
    )
    for attempt in (
        lambda: service.herald.rollouts.resume(rollout.id, "try it"),
        lambda: service.herald.rollouts.start(service.plan()),
    ):
        with pytest.raises(ProblemError, match="is withdrawn"):
            attempt()
    with pytest.raises(ProblemError, match="is withdrawn, not published"):
        service.herald.releases.withdraw(release, "again")
    again = service.publish("2.5.0")
    assert (again.status_code, again.json()["state"]) == (200, "withdrawn"), "a version is never given to it again"


def test_no_rollout_slips_past_a_withdrawal(service: RunningService) -> None:
    service.publish("2.4.0")
    enrolled(service)
    for number in range(6):
        release = service.publish(f"2.5.{number}").json()["id"]
        outcome: list[str] = []

        def start(version: str = f"2.5.{number}", outcome: list[str] = outcome) -> None:
            try:
                outcome.append(str(service.herald.rollouts.start(service.plan(version)).id))
            except ProblemError as error:
                outcome.append(error.problem.kind)

        thread = threading.Thread(target=start)
        thread.start()
        with service.http(service.token) as http:
            http.post(f"/api/v1/releases/{release}/withdraw", json={"reason": "at once"}).raise_for_status()
        thread.join()
        if outcome != ["not-published"]:
            rollout = service.herald.rollouts.show(int(outcome[0]))
            assert rollout.state == "halted"
            service.wait_for(rollout.id, lambda r: not r.live)
            service.herald.rollouts.cancel(rollout.id, "done with it")


def test_revoking_a_key_halts_what_it_signed_retiring_does_not(service: RunningService) -> None:
    service.publish("2.4.0")
    release = service.publish("2.5.0").json()["id"]
    draft = service.post_release(service.publisher.release_file("2.6.0"), draft=True).json()["id"]
    device = enrolled(service)
    rollout = service.herald.rollouts.start(service.plan())
    service.wait_for(rollout.id, lambda r: r.states.get("queued"))

    def publish_list(number: int, status: KeyStatus) -> None:
        root = service.publisher.root
        keys = [SigningKey(raw_public(service.publisher.key), status, "bench")]
        service.herald.keys.publish(raw_public(root), sign_key_list(root, number, keys))

    publish_list(2, KeyStatus.RETIRED)
    assert service.herald.rollouts.show(rollout.id).state == "running", "what a retired key signed stays good"
    assert problem(service.publish("2.7.0")) == "key-not-active"
    with pytest.raises(ProblemError, match="is retired since key list 2"):
        service.herald.releases.publish_draft(draft)
    publish_list(3, KeyStatus.REVOKED)
    halted = service.herald.rollouts.show(rollout.id)
    assert halted.state == "halted" and "was revoked" in (halted.reason or "")
    assert device.checkin().status_code == 204
    assert service.herald.releases.manifest(release).key_status == "revoked"
    for attempt in (
        lambda: service.herald.rollouts.resume(rollout.id, "try it"),
        lambda: service.herald.rollouts.start(service.plan()),
    ):
        with pytest.raises(ProblemError, match="which is revoked or not listed"):
            attempt()
    journal = service.herald.journal.list().items
    assert next(entry for entry in journal if entry.what == "key list published").data["halted"] == [rollout.id]


def test_a_key_that_a_list_leaves_out_is_as_good_as_revoked(service: RunningService) -> None:
    service.publish("2.4.0")
    service.publish("2.5.0")
    enrolled(service)
    rollout = service.herald.rollouts.start(service.plan())
    root = service.publisher.root
    keys = [SigningKey(raw_public(service.publisher.retired), KeyStatus.ACTIVE, "another")]
    service.herald.keys.publish(raw_public(root), sign_key_list(root, 2, keys))
    halted = service.herald.rollouts.show(rollout.id)
    assert halted.state == "halted" and "is not on key list 2" in (halted.reason or "")


def test_several_components_in_an_order_of_their_own(service: RunningService) -> None:
    stated: dict[str, Any] = {"component": "assets", "line": "hive-scale", "board": "comb-s1", "floor": 4}
    sounds = load_image(b"\x01" + b"sound" * 500, version="1.4.0", **stated)
    images = [make_image("2.5.0"), make_image("1.3.0", component="radio", fill=b"ra"), sounds]
    body = service.publisher.sealed(images, "three", after={"app": ["radio"], "assets": ["app"]}, independent=True)
    release = service.post_release(body)
    assert release.status_code == 201, release.text
    shown = service.herald.releases.show(release.json()["id"])
    assert [(one.name, one.version, one.read, one.after) for one in shown.components] == [
        ("app", "2.5.0", True, ["radio"]),
        ("radio", "1.3.0", True, []),
        ("assets", "1.4.0", False, ["app"]),
    ]
    assert shown.independent and len(stored(service)) == 3
    manifest = service.herald.releases.manifest(shown.id)
    assert manifest.switch_order == [["radio"], ["app"], ["assets"]]
    assert shown.components[2].digest in manifest.diagnostic
    only_assets = load_image(b"\x01" + b"sound!" * 500, version="1.5.0", **stated)
    later = service.post_release(service.publisher.sealed([only_assets], version="2.5.1"))
    assert (later.status_code, later.json()["name"]) == (201, "comb-s1/hive-scale/2.5.1")
    relabelled = service.post_release(service.publisher.sealed([make_image("2.6.0"), images[1], only_assets]))
    assert relabelled.status_code == 201, "unchanged components keep their versions"


def test_bytes_and_labels_stay_together(service: RunningService) -> None:
    service.publish("2.5.0").raise_for_status()
    radio = make_image("1.3.0", component="radio", fill=b"ra")
    service.post_release(service.publisher.sealed([make_image("2.6.0"), radio])).raise_for_status()
    renamed = make_image("1.3.0", component="radio", fill=b"rb")
    assert refused(service.post_release(service.publisher.sealed([make_image("2.7.0"), renamed]))) == ["bytes"]
    plain = b"\0code" * 1000
    stated: dict[str, Any] = {"line": "hive-scale", "board": "comb-s1", "floor": 4}
    first = service.publisher.sealed([load_image(plain, version="3.0.0", **stated)])
    assert service.post_release(first).status_code == 201
    second = service.publisher.sealed([load_image(plain, version="3.1.0", **stated)])
    assert refused(service.post_release(second)) == ["bytes"]


def test_the_manifest_must_say_what_the_bytes_say(service: RunningService) -> None:
    """A publisher's tool that lies, or a label put on by hand: the service reads the nameplate itself."""
    from dataclasses import replace

    image = make_image("2.5.0")
    for lie in ({"version": "2.9.0"}, {"board": "comb-s1", "updater": 3}, {"build_id": "other"}):
        body = service.publisher.sealed([replace(image, nameplate=replace(image.nameplate, **lie))])
        response = service.post_release(body)
        assert (response.status_code, problem(response)) == (422, "nameplate-contradicts"), lie
    two = load_image(b"\x01" * 3000 + b"\x02", line="hive-scale", board="comb-s1", version="2.5.0", floor=4)
    spoiled = make_bytes("2.5.0") + make_bytes("2.6.0")
    from mellow_herald.core.firmware import portions, scan

    liar = replace(two, pieces=lambda: portions(spoiled), digest=scan([spoiled]).digest, size=len(spoiled))
    assert problem(service.post_release(service.publisher.sealed([liar]))) == "two-nameplates"
    assert stored(service) == []
    assert service.herald.releases.list().items == []


def test_an_image_for_each_slot_goes_to_its_slot(service: RunningService) -> None:
    service.publish("2.4.0")
    images = [for_slot(make_image("2.5.0", fill=fill), slot) for slot, fill in ((0, b"ab"), (1, b"cd"))]
    service.post_release(service.publisher.sealed(images)).raise_for_status()
    device = enrolled(service)
    rollout = service.herald.rollouts.start(service.plan())
    service.wait_for(rollout.id, lambda r: r.states.get("queued"))
    order = device.checkin().json()
    envelope = device.get(f"/manifests/{order['manifest']}").content
    manifest = verify_envelope(envelope, service.publisher.trusted()).manifest
    chosen = manifest.for_slot("app", 1)
    assert chosen is not None and chosen.digest == images[1].digest
    for image in images:
        assert device.get(f"/images/{image.digest}").content == image.data
    device.report("downloading", step="fetch", percent=10)
    device.standby = {"app": {"version": "2.5.0", "digest": images[1].digest, "slot": "b", "floor": 4}}
    device.report("staged")
    assert device.checkin().json()["order"] == "switch", "its own image in the standby slot is the right one"
    device.report("installing")
    order = device.order
    device.switch()
    device.checkin(after_restart=True)
    device.order = order
    device.report("confirmed")
    release = service.herald.releases.find("comb-s1/hive-scale/2.5.0")
    assert (release.running, len(release.components)) == (1, 2)


def test_a_step_in_between_is_asked_for(service: RunningService) -> None:
    for version in ("2.3.0", "2.4.0"):
        service.publish(version)
    service.post_release(service.publisher.release_file("2.5.0", needs=(("app", "2.4.0"),))).raise_for_status()
    enrolled(service, "TA-1", "2.3.0")
    enrolled(service, "TA-2", "2.4.0")
    rollout = service.herald.rollouts.start(service.plan())
    placed = service.wait_for(rollout.id, lambda r: r.states.get("queued"))
    assert (placed.states, placed.passed_over) == ({"queued": 1}, {"needs-step": 1})


def test_editing_is_guarded_against_another_edit(service: RunningService) -> None:
    release = service.publish("2.5.0").json()
    path = f"/api/v1/releases/{release['id']}"
    with service.http(service.token) as http:
        etag = http.get(path).headers["etag"]
        changed = http.patch(path, json={"notes": "# Finer\n\nweighing"}, headers={"if-match": etag})
        assert (changed.status_code, changed.json()["notes"]) == (200, "# Finer\n\nweighing")
        assert changed.headers["etag"] != etag
        stale = http.patch(path, json={"labels": {"ticket": "HS-1"}}, headers={"if-match": etag})
        assert (stale.status_code, problem(stale)) == (412, "changed-meanwhile")
        fresh = http.patch(path, json={"labels": {"ticket": "HS-1"}}, headers={"if-match": changed.headers["etag"]})
        assert (fresh.json()["labels"], fresh.json()["notes"]) == ({"ticket": "HS-1"}, "# Finer\n\nweighing")
        for bad in ({"notes": "a\0b"}, {"labels": {"two words": "x"}}, {"version": "9"}, {"notes": "x" * 20_000}):
            assert problem(http.patch(path, json=bad)) == "bad-values"
        assert problem(http.patch(path, json={}, headers={"if-match": "rubbish"})) == "bad-values"
        assert problem(http.patch("/api/v1/releases/99", json={})) == "not-found"
    assert service.herald.releases.show(release["id"]).headline == "Finer"


def test_releases_are_picked_by_a_selector(service: RunningService) -> None:
    for version in ("2.4.0", "2.5.0-rc.1", "2.5.0", "2.10.0"):
        body = service.publisher.release_file(version)
        service.post_release(body, label=["channel=stable"] if "rc" not in version else []).raise_for_status()

    def picked(where: str) -> list[str]:
        return [release.version for release in service.herald.releases.list(where=where).items]

    assert picked("version > 2.5.0-rc.1") == ["2.10.0", "2.5.0"]
    assert picked("channel = stable and version < 2.10.0") == ["2.5.0", "2.4.0"]
    assert picked("state = withdrawn") == []
    assert [r.version for r in service.herald.releases.each(where="floor = 4")] == [
        "2.10.0",
        "2.5.0",
        "2.5.0-rc.1",
        "2.4.0",
    ]
    by_version = service.herald.releases.list(by_version=True, limit=3)
    assert [release.version for release in by_version.items] == ["2.10.0", "2.5.0", "2.5.0-rc.1"]
    rest = service.herald.releases.list(by_version=True, limit=3, after=by_version.next)
    assert ([release.version for release in rest.items], rest.next) == (["2.4.0"], None)
    with pytest.raises(ProblemError, match="goes wrong at character"):
        picked("version == 2")
    assert problem(service.post_release(b"", label="two words=x")) == "bad-values"
    assert problem(service.post_release(b"", label="none")) == "bad-values"


def test_what_nobody_needs_is_cleaned_and_can_come_back(service: RunningService) -> None:
    herald = service.herald
    ids = {version: service.publish(version).json()["id"] for version in ("2.2.0", "2.3.0", "2.4.0", "2.5.0", "2.6.0")}
    herald.releases.make_baseline(ids["2.3.0"], "what new devices get")
    device = enrolled(service)
    rollout = herald.rollouts.start(service.plan())
    service.wait_for(rollout.id, lambda r: r.states.get("queued"))
    assert [one.name for one in herald.releases.unused()] == ["comb-s1/hive-scale/2.2.0"]
    device.checkin()
    device.stage("2.5.0")
    device.checkin()
    order = device.order
    device.switch()
    device.checkin(after_restart=True)
    device.order = order
    device.report("confirmed")
    service.wait_for(rollout.id, lambda r: r.state == "finished")
    unused = herald.releases.unused()
    assert [one.name for one in unused] == ["comb-s1/hive-scale/2.2.0"], "2.4.0 is the device's way back"
    assert unused[0].bytes == make_image("2.2.0").size
    with pytest.raises(ProblemError, match="Needed"):
        herald.releases.clean([ids["2.2.0"], ids["2.4.0"]])
    assert len(stored(service)) == 5, "nothing was cleaned"
    done = herald.releases.clean([ids["2.2.0"]])
    assert (done.releases, done.images) == (["comb-s1/hive-scale/2.2.0"], 1)
    assert len(stored(service)) == 4
    assert herald.releases.show(ids["2.2.0"]).cleaned_at is not None
    with pytest.raises(ProblemError, match="were cleaned away"):
        herald.rollouts.start(service.plan("2.2.0"))
    with pytest.raises(ProblemError, match="were cleaned away"):
        herald.releases.make_baseline(ids["2.2.0"], "back")
    back = service.publish("2.2.0")
    assert (back.status_code, back.json()["id"], back.json()["cleaned_at"]) == (200, ids["2.2.0"], None)
    assert len(stored(service)) == 5


def test_an_image_that_two_releases_share_stays_while_one_needs_it(service: RunningService) -> None:
    radio = make_image("1.3.0", component="radio", fill=b"ra")
    ids = [
        service.post_release(service.publisher.sealed([make_image(version), radio])).json()["id"]
        for version in ("2.4.0", "2.5.0")
    ]
    done = service.herald.releases.clean(ids[:1])
    assert done.images == 1
    assert {path.name for path in stored(service)} == {radio.digest, make_image("2.5.0").digest}


def test_what_an_upload_left_that_died_is_swept(service: RunningService) -> None:
    kept = service.publish("2.5.0").json()["components"][0]["digest"]
    orphan = make_image("9.9.9")
    writing = service.context.images.begin(orphan.digest, orphan.size)
    writing.write(orphan.data)
    writing.keep()
    assert len(stored(service)) == 2
    assert service.call(sweep(service.context)) == 1
    assert [path.name for path in stored(service)] == [kept]


def test_a_full_disk_is_said_and_leaves_nothing(service: RunningService, monkeypatch: pytest.MonkeyPatch) -> None:
    def full(self: object, data: bytes) -> None:
        raise OSError(28, "No space left on device")

    with monkeypatch.context() as patched:
        patched.setattr("mellow_herald.store.images.Begun.write", full)
        response = service.publish("2.5.0")
    assert (response.status_code, problem(response)) == (507, "no-room")
    assert "No space left on device" in response.json()["detail"]
    with monkeypatch.context() as patched:
        patched.setattr("mellow_herald.store.images.Begun.keep", lambda self: full(self, b""))
        assert service.publish("2.5.0").status_code == 507
    assert stored(service) == [] and service.herald.releases.list().items == []
    assert service.publish("2.5.0").status_code == 201


@pytest.mark.parametrize("trouble", [TimeoutError(), ConnectionRefusedError(111, "Connection refused")])
def test_a_database_that_is_away_is_not_told_as_a_full_disk(
    service: RunningService, monkeypatch: pytest.MonkeyPatch, trouble: OSError
) -> None:
    async def away(*_: object) -> None:
        raise trouble

    with monkeypatch.context() as patched:
        patched.setattr("mellow_herald.service.releases.publishing.take_line", away)
        assert service.publish("2.5.0").status_code == 503
    assert stored(service) == []
    assert service.publish("2.5.0").status_code == 201


def test_versions_over_time_and_the_rollouts_across_them(service: RunningService) -> None:
    service.publish("2.4.0")
    service.publish("2.5.0")
    device = enrolled(service)
    service.call(sample(service.context))
    assert service.call(sample(service.context)) == 0, "nothing changed"
    stranger = enrolled(service, "TA-2", "9.9.9")
    rollout = service.herald.rollouts.start(service.plan())
    service.wait_for(rollout.id, lambda r: r.states.get("queued") == 1)
    device.checkin()
    device.stage("2.5.0")
    device.checkin()
    device.switch()
    device.checkin(after_restart=True)
    service.call(sample(service.context))
    lineage = service.herald.releases.lineage("comb-s1", "hive-scale")
    assert lineage.samples[0].counts == {"2.4.0": 1}
    assert lineage.samples[-1].counts == {"2.5.0": 1, "unknown build": 1}
    assert lineage.versions == ["unknown build", "2.4.0", "2.5.0"]
    assert [(one.id, one.version) for one in lineage.crossings] == [(rollout.id, "2.5.0")]
    assert service.herald.releases.lineage("comb-s9", "none").samples == []
    assert stranger.serial == "TA-2"


def test_what_publishing_would_say_changes_nothing(service: RunningService, tmp_path: Path) -> None:
    service.publish("2.5.0")
    file = tmp_path / "image.bin"
    file.write_bytes(make_bytes("2.4.0"))
    looked = service.herald.releases.look(file)
    assert [check.name for check in looked.checks if check.verdict == "refuse"] == ["version"]
    file.write_bytes(b"\x89code" * 100)
    assert service.herald.releases.look(file).refusal is not None
    envelope = service.publisher.release_file("2.6.0")
    with service.http(service.token) as http:
        headers = {"content-type": "application/suit-envelope+cose"}
        whole = http.post("/api/v1/release_checks/envelope", content=envelope, headers=headers)
        assert whole.status_code == 422, "with its images it is no envelope"
        huge = http.post("/api/v1/release_checks/envelope", content=bytes(200_000), headers=headers)
        assert (huge.status_code, problem(huge)) == (413, "too-large")
    stranger = service.publisher.release_file("2.6.0", key=Ed25519PrivateKey.generate())
    assert problem(service.post_release(stranger)) == "unknown-key"
    assert len(service.herald.releases.list().items) == 1


def test_devices_of_a_board_check_in_as_their_exception_says(service: RunningService) -> None:
    from mellow_herald.wire.board import BoardIn

    board = service.herald.boards.show("comb-s1").model_dump(include=set(BoardIn.model_fields))
    board["check_in_exceptions"] = [{"where": "power = battery and hw_rev < 2", "every": "1h"}]
    service.herald.boards.add(BoardIn.model_validate(board))
    on_battery, others = PuppetDevice(service.url, "TA-1"), PuppetDevice(service.url, "TA-2", hw_rev=2)
    for device in (on_battery, others):
        device.enrol(service.code(), labels={"power": "battery"}).raise_for_status()
    assert 3000 < int(on_battery.checkin().headers["herald-next-checkin"]) < 4200
    assert 3000 < int(on_battery.checkin().headers["herald-next-checkin"]) < 4200, "from memory, too"
    assert int(others.checkin().headers["herald-next-checkin"]) < 100
    for bad in (
        {"where": "power ==", "every": "1h"},
        {"where": "power = x", "every": "soon"},
        {"where": "power = x", "every": "0s"},
    ):
        with service.http(service.token) as http:
            response = http.post("/api/v1/boards", json={**board, "check_in_exceptions": [bad]})
        assert (response.status_code, problem(response)) == (422, "bad-values"), bad


def test_boards_of_one_slot_say_that_there_is_no_way_back(service: RunningService) -> None:
    from mellow_herald.wire.board import BoardIn

    values = {"name": "bract-r1", "vendor_domain": "thistledown.example", "lines": ["forage-sensor"], "hw_revs": [1]}
    one = [{"name": "flash", "size": 4096}]
    assert service.herald.boards.add(BoardIn.model_validate({**values, "slots": one})).single_slot
    assert not service.herald.boards.show("comb-s1").single_slot
    with pytest.raises(ProblemError, match="no board nowhere"):
        service.herald.boards.show("nowhere")
    for slots in (one * 2, [{"name": "x", "size": 10, "component": "radio"}]):
        with pytest.raises(ProblemError, match="slots:"):
            service.herald.boards.add(BoardIn.model_validate({**values, "slots": slots}))
