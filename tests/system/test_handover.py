"""Images that others hand out: a front server that reads the folder itself, and an object store, real ones both."""

import asyncio
import socket
from collections.abc import Iterator
from datetime import datetime, timedelta
from pathlib import Path

import httpx
import pytest

from mellow_herald.core.digest import sha256_hex
from mellow_herald.core.refusal import Refused
from mellow_herald.service.backup.archive import Archive
from mellow_herald.service.backup.restoring import restore
from mellow_herald.service.backup.taking import take_backup
from mellow_herald.sim.http import Connections
from mellow_herald.sim.service_time import ServiceTime
from mellow_herald.sim.uplink import Uplink
from mellow_herald.store.bucket import WHO_CALLS, BucketImageStore, open_bucket, open_images
from mellow_herald.store.images import name_of
from tests.harness.database import Databases
from tests.harness.device import PuppetDevice
from tests.harness.firmware import make_bytes
from tests.harness.nginx import nginx
from tests.harness.objects import BUCKET, serving_objects
from tests.harness.processes import free_port
from tests.harness.service import RunningService

pytestmark = pytest.mark.system
CONF = Path(__file__).parents[2] / "deploy" / "nginx-images.conf"
IMAGE = make_bytes("2.5.0")
DIGEST = sha256_hex(IMAGE)


@pytest.fixture(scope="module")
def object_store() -> Iterator[str]:
    """An S3 server, and the environment that leads there."""
    with serving_objects() as (url, told), pytest.MonkeyPatch.context() as environment:
        for name, value in told.items():
            environment.setenv(name, value)
        yield url


def offered(service: RunningService, url: str) -> tuple[PuppetDevice, PuppetDevice, int]:
    """A device that is to fetch 2.5.0, one that is not, and the rollout."""
    for version in ("2.4.0", "2.5.0"):
        service.publish(version).raise_for_status()
    device, stranger = (PuppetDevice(url, f"TA-{number}") for number in range(2))
    code = service.code()
    for one in (device, stranger):
        one.enrol(code).raise_for_status()
        one.checkin()
    plan = service.plan().model_copy(update={"target": f"serial = {device.serial}"})
    rollout_id = service.herald.rollouts.start(plan).id
    service.wait_for(rollout_id, lambda shown: shown.rings[0].state == "open")
    assert device.checkin(wait=2).json()["order"] == "fetch"
    return device, stranger, rollout_id


async def read_on(url: str, token: str, have: int) -> bytes:
    """The rest of the image, as a simulated device reads it that has its first bytes."""

    async def carried(size: int) -> bool:
        return True

    connections = Connections(url)
    uplink = Uplink(connections, ServiceTime(), carried)
    uplink.token = token
    rest = b"".join([piece async for piece in uplink.image(f"images/{DIGEST}", have)])
    connections.close()
    return rest


def test_a_front_server_sends_the_file_itself_for_whom_the_service_says(database_url: str, tmp_path: Path) -> None:
    service = RunningService(database_url, tmp_path / "data", front_images="/stored-images/").start().prepare()
    images, port = str(tmp_path / "data" / "images"), free_port()
    location = CONF.read_text().replace("/var/lib/mellow-herald/images", images)
    assert images in location
    site = f"server {{ listen 127.0.0.1:{port}; location / {{ proxy_pass {service.url}; }} {location} }}"
    url = f"http://127.0.0.1:{port}"
    try:
        with nginx(tmp_path / "nginx", site, f"{url}/health/live"):
            device, stranger, rollout_id = offered(service, url)
            path = f"/images/{DIGEST}"
            whole = device.get(path)
            assert (whole.status_code, whole.content, whole.headers["etag"]) == (200, IMAGE, f'"{DIGEST}"')
            assert "x-accel-redirect" not in whole.headers and whole.headers["repr-digest"].startswith("sha-256=:")
            told = datetime.fromisoformat(whole.headers["herald-time"])
            assert abs(told - service.context.clock.now()) < timedelta(seconds=5)
            part = device.get(path, range="bytes=100-199", **{"if-range": f'"{DIGEST}"'})
            assert (part.status_code, part.content) == (206, IMAGE[100:200]), "it goes on where it broke off"
            other = device.get(path, range="bytes=100-199", **{"if-range": '"of-other-bytes"'})
            assert (other.status_code, other.content) == (200, IMAGE)
            assert device.get(path, **{"if-none-match": f'"{DIGEST}"'}).status_code == 304
            assert device.get(path, range=f"bytes={len(IMAGE)}-").status_code == 416
            assert stranger.get(path).status_code == 403, "it has no attempt"
            straight = httpx.get(f"{url}/stored-images/{DIGEST[:2]}/{DIGEST}", trust_env=False)
            assert straight.status_code == 404, "the way past the service is closed"
            service.herald.rollouts.halt(rollout_id, "enough of it")
            service.wait_for(rollout_id, lambda shown: shown.live == 0)
            assert device.get(path).status_code == 403
    finally:
        service.stop()


def test_devices_are_sent_to_the_object_store_with_an_address_for_a_while(
    database_url: str, tmp_path: Path, object_store: str
) -> None:
    service = RunningService(database_url, tmp_path / "data", images=BUCKET).start().prepare()
    try:
        device, stranger, _ = offered(service, service.url)
        path = f"/images/{DIGEST}"
        sent = device.get(path)
        place = sent.headers["location"]
        assert (sent.status_code, sent.headers["cache-control"]) == (307, "no-store")
        assert place.startswith(f"{object_store}/thistledown/firmware/{DIGEST[:2]}/{DIGEST}?")
        assert "X-Amz-Expires=900" in place and device.token not in place
        assert httpx.get(place, trust_env=False).content == IMAGE
        part = httpx.get(place, headers={"range": "bytes=100-199"}, trust_env=False)
        assert (part.status_code, part.content) == (206, IMAGE[100:200])
        assert asyncio.run(read_on(service.url, device.token, 1000)) == IMAGE[1000:], "as simulated devices do"
        assert device.get(path, **{"if-none-match": f'"{DIGEST}"'}).status_code == 304
        assert stranger.get(path).status_code == 403
        assert not any((tmp_path / "data" / "images" / "incoming").iterdir()), "nothing is left on this machine"
        assert sorted(service.context.images.digests()) == sorted([DIGEST, sha256_hex(make_bytes("2.4.0"))])
    finally:
        service.stop()


def test_a_front_server_fetches_from_the_object_store(database_url: str, tmp_path: Path, object_store: str) -> None:
    service = RunningService(database_url, tmp_path / "data", images=BUCKET, front_images="/store/").start().prepare()
    port = free_port()
    url = f"http://127.0.0.1:{port}"
    location = (
        f"location /store/ {{ internal; proxy_set_header Host {object_store.removeprefix('http://')};"
        f" proxy_set_header Authorization ''; proxy_set_header If-Range ''; proxy_pass {object_store}/; }}"
    )
    site = f"server {{ listen 127.0.0.1:{port}; location / {{ proxy_pass {service.url}; }} {location} }}"
    try:
        with nginx(tmp_path / "nginx", site, f"{url}/health/live"):
            device, stranger, _ = offered(service, url)
            whole = device.get(f"/images/{DIGEST}")
            assert (whole.status_code, whole.content) == (200, IMAGE)
            assert stranger.get(f"/images/{DIGEST}").status_code == 403
    finally:
        service.stop()


def test_an_object_that_is_not_what_it_should_be_is_not_given_out(
    database_url: str, tmp_path: Path, object_store: str
) -> None:
    service = RunningService(database_url, tmp_path / "data", images=BUCKET).start().prepare()
    try:
        device, _, _ = offered(service, service.url)
        open_bucket(BUCKET).put(name_of(DIGEST), b"x" * 99)
        refused = device.get(f"/images/{DIGEST}")
        assert (refused.status_code, refused.json()["type"]) == (503, "urn:mellow-herald:problem:image-unsound")
    finally:
        service.stop()


def test_an_object_store_that_is_away_is_said_so_and_nothing_is_kept(
    database_url: str, tmp_path: Path, object_store: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    with socket.socket() as nobody:
        nobody.bind(("127.0.0.1", 0))
        monkeypatch.setenv("AWS_ENDPOINT", f"http://127.0.0.1:{nobody.getsockname()[1]}")
        monkeypatch.setenv("AWS_MAX_RETRIES", "0")
        store = BucketImageStore(BUCKET, tmp_path / "incoming")
        for ask in (store.digests, lambda: store.sound(DIGEST), lambda: store.remove(DIGEST)):
            with pytest.raises(OSError, match="the object store s3://thistledown/firmware says"):
                ask()
        writing = store.begin(DIGEST, len(IMAGE))
        writing.write(IMAGE)
        with pytest.raises(OSError, match="the object store"):
            writing.keep()
        writing.drop()
        assert not any((tmp_path / "incoming").iterdir())


def test_a_service_whose_object_store_is_away_serves_all_else(
    database_url: str, tmp_path: Path, object_store: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    service = RunningService(database_url, tmp_path / "data", images=BUCKET).start().prepare()
    device, _, _ = offered(service, service.url)
    service.stop()
    with socket.socket() as nobody:
        nobody.bind(("127.0.0.1", 0))
        monkeypatch.setenv("AWS_ENDPOINT", f"http://127.0.0.1:{nobody.getsockname()[1]}")
        publisher = service.publisher
        service = RunningService(database_url, tmp_path / "data", images=BUCKET).start()
        service.publisher = publisher
        device.move_to(service.url)
        try:
            assert device.checkin().json()["order"] == "fetch"
            refused = device.get(f"/images/{DIGEST}")
            assert (refused.status_code, refused.headers["retry-after"]) == (503, "30")
            assert refused.json()["type"] == "urn:mellow-herald:problem:no-images"
            answer = service.publish("2.6.0")
            assert (answer.status_code, answer.json()["type"]) == (507, "urn:mellow-herald:problem:no-room")
            assert "the object store" in answer.json()["detail"]
        finally:
            service.stop()


def test_a_backup_has_the_images_of_an_object_store_and_can_be_restored_into_one(
    databases: Databases, database_url: str, tmp_path: Path, object_store: str
) -> None:
    service = RunningService(database_url, tmp_path / "data", images=BUCKET).start().prepare()
    try:
        offered(service, service.url)
        file = tmp_path / "backup.zip"
        about = asyncio.run(take_backup(database_url, open_images(BUCKET, tmp_path / "data"), file))
        assert len(about.entries) == 3 and not about.damaged
    finally:
        service.stop()
    images = open_images(f"{BUCKET}-elsewhere", tmp_path / "there")
    done = asyncio.run(restore(Archive(file), databases.empty(), images))
    assert done.images == 2 and images.sound(DIGEST)


def test_what_is_no_object_store_is_refused(monkeypatch: pytest.MonkeyPatch) -> None:
    for address in ("s3://", "s3:///prefix", "https://elsewhere.example/bucket", "/a/folder"):
        with pytest.raises(Refused, match="Write it like s3://bucket/prefix"):
            open_bucket(address)
    for name in WHO_CALLS:
        monkeypatch.delenv(name, raising=False)
    with pytest.raises(Refused, match="nothing says who calls s3://thistledown/firmware"):
        open_bucket(BUCKET)
