"""The service behind nginx, as ``deploy/nginx.conf`` has it: TLS, and images from a cache that asks before it gives."""

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import httpx
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec

from tests.harness.device import PuppetDevice
from tests.harness.firmware import make_bytes
from tests.harness.nginx import nginx
from tests.harness.processes import free_port
from tests.harness.service import PASSWORD, RunningService

pytestmark = pytest.mark.system
CONF = Path(__file__).parents[2] / "deploy" / "nginx.conf"


def certify(folder: Path) -> None:
    """A certificate that signs itself."""
    key = ec.generate_private_key(ec.SECP256R1())
    name, now = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "herald.example")]), datetime.now(UTC)
    made = x509.CertificateBuilder(name, name, key.public_key(), x509.random_serial_number(), now, now + timedelta(1))
    folder.mkdir()
    (folder / "fullchain.pem").write_bytes(made.sign(key, hashes.SHA256()).public_bytes(serialization.Encoding.PEM))
    (folder / "key.pem").write_bytes(
        key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    )


@pytest.fixture
def behind(database_url: str, tmp_path: Path) -> Iterator[tuple[RunningService, str]]:
    """A service, and where nginx serves it."""
    service = RunningService(database_url, tmp_path / "data", trusted_proxy="127.0.0.1")
    service.start().prepare()
    folder, tls, plain = tmp_path / "nginx", free_port(), free_port()
    folder.mkdir()
    certify(folder / "tls")
    text = CONF.read_text()
    for found, put in (
        ("127.0.0.1:8410", service.url.removeprefix("http://")),
        ("listen 443 ssl", f"listen 127.0.0.1:{tls} ssl"),
        ("listen 80", f"listen 127.0.0.1:{plain}"),
        ("/etc/mellow-herald/tls", str(folder / "tls")),
        ("/var/cache/nginx/mellow-herald", str(folder / "cache")),
    ):
        assert found in text, found
        text = text.replace(found, put)
    url = f"https://127.0.0.1:{tls}"
    with nginx(folder, text, url):
        yield service, url
    service.stop()


def test_devices_update_through_it_and_the_cache_gives_nothing_to_whom_the_service_would_not(
    behind: tuple[RunningService, str],
) -> None:
    service, url = behind
    for version in ("2.4.0", "2.5.0"):
        service.publish(version).raise_for_status()
    code, devices = service.code(), [PuppetDevice(url, f"TA-{number}") for number in range(3)]
    for device in devices:
        device.enrol(code).raise_for_status()
        device.checkin()
    first, second, stranger = devices
    target = f"serial in ({first.serial}, {second.serial})"
    rollout_id = service.herald.rollouts.start(service.plan().model_copy(update={"target": target})).id
    service.wait_for(rollout_id, lambda shown: shown.rings[0].state == "open")
    image = make_bytes("2.5.0")
    digest = service.herald.releases.list().items[0].components[0].digest
    path = f"/images/{digest}"
    for device, cached in ((first, "MISS"), (second, "HIT"), (first, "HIT")):
        assert device.checkin(wait=2).json()["order"] == "fetch"
        got = device.get(path)
        assert (got.status_code, got.content, got.headers["x-cache"]) == (200, image, cached)
        part = device.get(path, range="bytes=100-199")
        assert (part.status_code, part.content) == (206, image[100:200])
        told = datetime.fromisoformat(part.headers["herald-time"])
        assert abs(told - service.context.clock.now()) < timedelta(seconds=5), "the time is not the cache's"
    assert stranger.get(path).status_code == 403, "it has no attempt, whatever the cache has"
    stranger.token = "mh1.1.1.1.forged"
    assert stranger.get(path).status_code == 401
    service.herald.rollouts.halt(rollout_id, "enough of it")
    service.wait_for(rollout_id, lambda shown: shown.live == 0)
    assert second.get(path).status_code == 403, "nor has one whose attempt is over"


def test_people_work_through_it_and_figures_stay_inside(behind: tuple[RunningService, str]) -> None:
    service, url = behind
    with httpx.Client(base_url=url, verify=False, trust_env=False) as http:
        assert http.get("/metrics").status_code == 404 == http.get("/health/ready").status_code
        page = http.get("/")
        assert page.status_code == 200 and "<div id=" in page.text
        body = {"name": "admin", "password": PASSWORD}
        signed = http.post("/api/v1/session", json=body, headers={"x-forwarded-for": "203.0.113.9"})
        assert signed.status_code == 200 and signed.cookies
        headers = {"authorization": f"Bearer {service.token}"}
        with http.stream("GET", "/api/v1/events", headers=headers, timeout=10) as stream:
            assert next(stream.iter_lines()).startswith("retry:"), "at once, not when a buffer is full"
