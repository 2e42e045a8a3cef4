import os
import threading
from pathlib import Path

import httpx
import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from mellow_herald.client import ProblemError
from mellow_herald.core.keys import private_to_pem, raw_public, sign_key_list
from mellow_herald.core.seal import describe, seal
from mellow_herald.service.releases.soundness import check_all
from mellow_herald.wire.board import BoardIn
from tests.harness.firmware import DOMAIN, Publisher, load_image, make_bytes, make_image
from tests.harness.service import RunningService


def problem(response: httpx.Response) -> str:
    """The kind of the problem in a response; it must be one, and say something."""
    assert response.headers["content-type"] == "application/problem+json"
    body = response.json()
    assert body["status"] == response.status_code and len(body["detail"]) > 20
    return str(body["type"]).rpartition(":")[2]


def stored(service: RunningService) -> list[Path]:
    return [path for path in (service.settings.data_dir / "images").rglob("*") if path.is_file()]


def test_a_release_is_published_and_shown(service: RunningService) -> None:
    response = service.publish("2.5.0")
    assert response.status_code == 201
    release = service.herald.releases.list().items[0]
    assert release.name == "comb-s1/hive-scale/2.5.0"
    assert (release.size, release.floor, release.published_by) == (make_image().size, 4, "admin")
    assert [path.name for path in stored(service)] == [make_image().digest]
    assert service.herald.releases.show(release.id).components[0].digest == make_image().digest
    published = [entry for entry in service.herald.journal.list().items if entry.what == "release published"]
    assert published[0].data["key"] == release.key


def test_the_same_again_is_there_already_other_bytes_are_refused(service: RunningService) -> None:
    first = service.publish("2.5.0")
    again = service.publish("2.5.0")
    assert (again.status_code, again.json()["already_there"], again.json()["id"]) == (200, True, first.json()["id"])
    other = service.publish("2.5.0", fill=b"\x11\x22")
    assert (other.status_code, problem(other)) == (409, "release-exists")
    assert len(service.herald.releases.list().items) == 1
    assert len(stored(service)) == 1


def test_two_at_the_same_moment_are_both_right(service: RunningService) -> None:
    answers: list[int] = []
    threads = [threading.Thread(target=lambda: answers.append(service.publish().status_code)) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(answers) == [200, 200, 200, 201]
    assert len(stored(service)) == 1


@pytest.mark.parametrize("at", [0, 30, 60, 120, 300, 600, 900, 5000, -1])
def test_one_altered_bit_is_refused_and_leaves_nothing(shared_service: RunningService, at: int) -> None:
    body = bytearray(shared_service.publisher.release_file("7.0.0"))
    body[at] ^= 4
    response = shared_service.post_release(bytes(body))
    assert response.status_code == 422, response.text
    assert problem(response) in {"bad-envelope", "bad-cbor", "bad-signature", "digest-mismatch", "unknown-key"}
    assert stored(shared_service) == []
    assert shared_service.herald.releases.list().items == []


def test_keys_that_may_not_sign(shared_service: RunningService) -> None:
    publisher = shared_service.publisher
    for key, kind in (
        (Ed25519PrivateKey.generate(), "unknown-key"),
        (publisher.retired, "key-not-active"),
        (publisher.revoked, "key-not-active"),
    ):
        response = shared_service.publish("7.0.0", key=key)
        assert (response.status_code, problem(response)) == (422, kind)
    assert stored(shared_service) == []


@pytest.mark.parametrize(
    ("plate", "kind"),
    [
        ({"board": "comb-s9"}, "unknown-board"),
        ({"line": "forage-sensor"}, "unknown-line"),
        ({"size": 70_000}, "too-large-for-slot"),
    ],
)
def test_what_fits_no_board(shared_service: RunningService, plate: dict[str, object], kind: str) -> None:
    response = shared_service.publish("7.0.0", **plate)
    assert (response.status_code, problem(response)) == (422, kind)


def test_another_vendors_release(shared_service: RunningService) -> None:
    image = make_image("7.0.0")
    _, portions = seal([image], describe([image], "elsewhere.example"), shared_service.publisher.key)
    assert problem(shared_service.post_release(b"".join(portions))) == "wrong-vendor"


@pytest.mark.parametrize(
    ("body", "kind"),
    [(b"", "bad-envelope"), (b"not a release", "bad-envelope"), (b"\x7fELF" + b"\0" * 100, "bad-cbor")],
)
def test_what_is_no_release_file(shared_service: RunningService, body: bytes, kind: str) -> None:
    response = shared_service.post_release(body)
    assert (response.status_code, problem(response)) == (422, kind)


def test_a_cut_upload_leaves_nothing_and_can_be_repeated(shared_service: RunningService) -> None:
    body = shared_service.publisher.release_file("7.0.0")
    response = shared_service.post_release(body[:-1000])
    assert problem(response) == "bad-envelope"
    assert stored(shared_service) == []


def test_an_image_that_the_manifest_does_not_name_is_refused(shared_service: RunningService) -> None:
    body = shared_service.publisher.release_file("7.0.0")
    before, digest, after = body.rpartition(make_image("7.0.0").digest.encode())
    assert problem(shared_service.post_release(before + b"0" * len(digest) + after)) == "bad-envelope"


def test_another_media_type_is_refused(shared_service: RunningService) -> None:
    with shared_service.http(shared_service.token) as http:
        response = http.post("/api/v1/releases", content=b"x", headers={"content-type": "text/plain"})
    assert (response.status_code, problem(response)) == (415, "wrong-media-type")


def test_a_file_above_the_limit_is_refused_early(databases: object, tmp_path: Path) -> None:
    service = RunningService(databases.fresh(), tmp_path, upload_limit=10_000).start().prepare()  # type: ignore[attr-defined]
    try:
        response = service.publish("2.5.0", size=30_000)
        assert (response.status_code, problem(response)) == (413, "too-large")

        def endless() -> object:
            for _ in range(100):
                yield b"\0" * 1000

        with service.http(service.token) as http:
            headers = {"content-type": "application/suit-envelope+cose"}
            body = service.publisher.release_file("2.5.0", size=30_000)
            unannounced = http.post("/api/v1/releases", content=iter([body]), headers=headers)
        assert problem(unannounced) == "too-large"
        assert stored(service) == []
    finally:
        service.stop()


def test_without_a_key_list_nothing_can_be_checked(databases: object, tmp_path: Path) -> None:
    service = RunningService(databases.fresh(), tmp_path).start()  # type: ignore[attr-defined]
    try:
        assert problem(service.publish()) == "no-key-list"
        with pytest.raises(ProblemError, match="no key list yet"):
            service.herald.keys.newest()
    finally:
        service.stop()


def test_key_lists_only_rise_and_stay_with_their_root(shared_service: RunningService) -> None:
    herald, publisher = shared_service.herald, shared_service.publisher
    root = raw_public(publisher.root)
    assert herald.keys.newest().number == 1
    assert herald.keys.publish(root, publisher.key_list_bytes(1)).number == 1, "the very same is no harm"
    with pytest.raises(ProblemError, match="not newer than the one in force, 1"):
        herald.keys.publish(root, sign_key_list(publisher.root, 1, []))
    stranger = Publisher()
    with pytest.raises(ProblemError, match="in force is"):
        herald.keys.publish(raw_public(stranger.root), stranger.key_list_bytes(9))
    with pytest.raises(ProblemError, match="the root in force"):
        herald.keys.publish(root, stranger.key_list_bytes(9))
    assert herald.keys.publish(root, publisher.key_list_bytes(2)).number == 2
    with pytest.raises(ProblemError, match="not newer"):
        herald.keys.publish(root, publisher.key_list_bytes(1))


def test_the_client_seals_and_publishes_with_progress(service: RunningService, tmp_path: Path) -> None:
    file = tmp_path / "image.bin"
    file.write_bytes(make_bytes("2.6.0", size=60_000))
    sent: list[int] = []
    release = service.herald.releases.publish(
        file, key=service.publisher.key, notes="by the client", progress=sent.append
    )
    assert release.version == "2.6.0" and release.notes == "by the client"
    assert sent == sorted(sent) and sent[-1] > 60_000
    stranger = tmp_path / "key.pem"
    stranger.write_bytes(private_to_pem(Ed25519PrivateKey.generate()))
    assert load_image(file.read_bytes()).digest == release.components[0].digest


def test_a_board_can_be_changed_and_bad_ones_are_refused(shared_service: RunningService) -> None:
    values = {
        "name": "comb-s7",
        "vendor_domain": DOMAIN,
        "lines": ["hive-scale"],
        "hw_revs": [1],
        "slots": [{"name": "a", "size": 4096}],
    }
    herald = shared_service.herald
    assert herald.boards.add(BoardIn.model_validate(values)).check_in == "5m"
    assert herald.boards.add(BoardIn.model_validate({**values, "check_in": "1h"})).check_in == "1h"
    assert [board.name for board in herald.boards.list()].count("comb-s7") == 1
    with shared_service.http(shared_service.token) as http:
        for change in (
            {"lines": []},
            {"check_in": "soon"},
            {"check_in": "0s"},
            {"slots": [{"name": "a", "size": 0}]},
            {"colour": 1},
        ):
            response = http.post("/api/v1/boards", json={**values, **change})
            assert (response.status_code, problem(response)) == (422, "bad-values"), change
            assert next(iter(change)) in response.json()["detail"]


def test_a_damaged_stored_image_is_not_served(service: RunningService) -> None:
    from tests.harness.device import PuppetDevice

    service.publish("2.4.0")
    service.publish("2.5.0")
    device = PuppetDevice(service.url, "TA-1")
    device.enrol(service.code())
    device.checkin()
    rollout = service.herald.rollouts.start(service.plan())
    service.wait_for(rollout.id, lambda r: r.states.get("queued"))
    device.checkin()
    digest = make_image("2.5.0").digest
    path = service.context.images.path(digest)
    good = path.read_bytes()
    path.write_bytes(good[:-1] + b"\0")
    response = device.get(f"/images/{digest}")
    assert (response.status_code, problem(response)) == (503, "image-unsound")
    assert service.herald.overview().unhealthy_images == [digest]
    assert "damaged" in service.herald.ready().checks["images"]
    assert any(entry.what == "image refused" for entry in service.herald.journal.list().items)
    path.write_bytes(good)
    assert device.get(f"/images/{digest}").content == good
    assert service.herald.overview().unhealthy_images == [], "a repaired file is served again, and said to be"
    assert service.herald.ready().ok
    status = path.stat()
    path.write_bytes(bytes([good[0] ^ 1]) + good[1:])
    os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))
    assert service.call(check_all(service.context)) == 1, "bytes that rot without the file being touched are found, too"
    assert problem(device.get(f"/images/{digest}")) == "image-unsound"
