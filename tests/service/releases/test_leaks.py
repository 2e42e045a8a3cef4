"""Images that carry what must not leave the desk: refused with the place, never printed, never kept."""

import pytest

from mellow_herald.core.keys import private_to_pem
from tests.harness.device import PuppetDevice
from tests.harness.firmware import load_image, make_bytes
from tests.harness.service import RunningService
from tests.service.releases.test_publishing import problem, stored


def holding(service: RunningService, secret: bytes, version: str = "2.5.0") -> bytes:
    """A release file whose image has a secret in its midst."""
    image = bytearray(make_bytes(version))
    image[5000 : 5000 + len(secret)] = secret
    image[4999] = image[5000 + len(secret)] = 0
    return service.publisher.sealed([load_image(bytes(image))])


@pytest.mark.parametrize("kind", ["private-key", "access-token", "device-token", "enrolment-code"])
def test_a_secret_of_this_service_is_refused_at_publishing(service: RunningService, kind: str) -> None:
    device = PuppetDevice(service.url, "TA-1", version="2.4.0")
    device.enrol(service.code()).raise_for_status()
    secret = {
        "private-key": private_to_pem(service.publisher.retired).decode(),
        "access-token": service.herald.people.make_token("leaked").token,
        "device-token": device.token,
        "enrolment-code": service.code(),
    }[kind]
    assert secret
    body = holding(service, secret.encode())
    for draft in (True, False):
        answer = service.post_release(body, draft=draft)
        assert (answer.status_code, problem(answer)) == (422, f"secret-{kind}")
        assert "offset 5000 (0x1388)" in answer.text and "--keeps-secret" in answer.text
        assert secret[8:40] not in answer.text, "it is not printed"
    assert not stored(service) and not service.herald.releases.list().items

    kept = service.post_release(body, keeps_secret="a made-up key of the bench")
    assert kept.status_code == 201
    assert [c["verdict"] for c in kept.json()["checks"] if c["name"] == "secrets"] == ["warn"]
    (entry,) = [one for one in service.herald.journal.list().items if one.what == "release published"]
    assert entry.data["keeps_secret"] == "a made-up key of the bench"
    assert secret[8:40] not in str(entry.data)


def test_what_only_has_the_shape_of_a_secret_is_taken(service: RunningService) -> None:
    made_up = b"mht_" + b"x" * 43
    answer = service.post_release(holding(service, made_up))
    assert answer.status_code == 201 and "secrets" not in {check["name"] for check in answer.json()["checks"]}


def test_an_archive_with_a_nameplate_inside_is_refused_and_taken_as_it_is_if_asked(service: RunningService) -> None:
    image = bytearray(make_bytes())
    at = 257
    rolled = bytes(at) + b"ustar\x0000" + bytes(255) + bytes(image)
    body = service.publisher.sealed([load_image(rolled)])
    assert problem(service.post_release(body)) == "archive"
    assert service.post_release(body, as_is=True).status_code == 201


def test_a_draft_makes_no_unknown_build_known(service: RunningService) -> None:
    device = PuppetDevice(service.url, "TA-1", version="2.5.0")
    device.enrol(service.code()).raise_for_status()
    device.checkin()
    assert service.herald.devices.show("TA-1").known_build is False
    draft = service.post_release(service.publisher.release_file("2.5.0"), draft=True).json()
    shown = service.herald.devices.show("TA-1")
    assert (shown.known_build, shown.runs) == (False, "unknown-build")
    assert service.herald.devices.list(where="known_build = no").total == 1
    service.herald.releases.publish_draft(draft["id"])
    assert service.herald.devices.show("TA-1").known_build is True
