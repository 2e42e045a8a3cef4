from uuid import NAMESPACE_DNS, uuid5

import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from hypothesis import given, settings
from hypothesis import strategies as st

from mellow_herald.core.envelope import EnvelopeReader, Opened, PayloadBegins, PayloadEnds, PayloadPiece
from mellow_herald.core.manifest import (
    join_envelope,
    manifest_digest,
    sign_manifest,
    verify_envelope,
)
from mellow_herald.core.refusal import Refused
from mellow_herald.core.seal import describe, seal
from mellow_herald.core.suit import Component, Manifest, encode_manifest
from tests.harness.firmware import DOMAIN, Publisher, make_image

PUBLISHER = Publisher()
TRUSTED = PUBLISHER.trusted()


def envelope(key: Ed25519PrivateKey, version: str = "2.5.0") -> bytes:
    body = encode_manifest(describe([make_image(version)], DOMAIN, "finer weighing"))
    return join_envelope(sign_manifest(body, key), body)


def read(data: bytes, portion: int) -> list[object]:
    reader = EnvelopeReader()
    events = [event for at in range(0, len(data), portion) for event in reader.feed(data[at : at + portion])]
    reader.close()
    return events


def test_a_signed_manifest_comes_back_as_it_was_described() -> None:
    image = make_image("2.5.0-rc.1", hw_rev_min=2, hw_rev_max=3, build_id="ta-1", build_time=1_790_000_000)
    described = describe([image], DOMAIN, "finer weighing")
    body = encode_manifest(described)
    verified = verify_envelope(join_envelope(sign_manifest(body, PUBLISHER.key), body), TRUSTED, new_release=True)
    assert verified.manifest == described
    assert verified.digest == manifest_digest(body)
    assert verified.manifest.hw_rev_min == 2
    assert verified.manifest.components[0].uri == f"images/{image.digest}"


def test_ids_follow_from_domain_board_and_line() -> None:
    manifest = describe([make_image()], DOMAIN)
    assert manifest.vendor_id == uuid5(NAMESPACE_DNS, DOMAIN)
    assert manifest.class_id == uuid5(manifest.vendor_id, "comb-s1/hive-scale")


def test_sealing_the_same_twice_gives_the_same_bytes() -> None:
    assert PUBLISHER.release_file() == PUBLISHER.release_file()


@given(st.data())
@settings(max_examples=300)
def test_one_altered_bit_anywhere_is_refused(data: st.DataObject) -> None:
    good = envelope(PUBLISHER.key)
    bit = data.draw(st.integers(0, 8 * len(good) - 1))
    altered = bytearray(good)
    altered[bit // 8] ^= 1 << bit % 8
    with pytest.raises(Refused):
        verify_envelope(bytes(altered), TRUSTED)


@given(st.binary(max_size=60), st.integers(0, 10_000), st.integers(0, 60))
@settings(max_examples=300)
def test_mutated_envelopes_end_in_a_typed_refusal(piece: bytes, at: int, cut: int) -> None:
    good = envelope(PUBLISHER.key)
    at %= len(good)
    mutated = good[:at] + piece + good[at + cut :]
    if mutated != good:
        with pytest.raises(Refused):
            verify_envelope(mutated, TRUSTED)


def test_who_may_sign() -> None:
    stranger = Ed25519PrivateKey.generate()
    with pytest.raises(Refused, match="no key with fingerprint"):
        verify_envelope(envelope(stranger), TRUSTED)
    with pytest.raises(Refused, match="is revoked"):
        verify_envelope(envelope(PUBLISHER.revoked), TRUSTED)
    with pytest.raises(Refused, match="is retired"):
        verify_envelope(envelope(PUBLISHER.retired), TRUSTED, new_release=True)
    assert verify_envelope(envelope(PUBLISHER.retired), TRUSTED).manifest.version == "2.5.0"


def test_a_signature_of_one_manifest_is_no_good_for_another() -> None:
    one = encode_manifest(describe([make_image("2.5.0")], DOMAIN))
    other = encode_manifest(describe([make_image("9.9.9")], DOMAIN))
    with pytest.raises(Refused, match="does not match its signed digest"):
        verify_envelope(join_envelope(sign_manifest(one, PUBLISHER.key), other), TRUSTED)


@pytest.mark.parametrize(
    "change",
    [
        {"version": "two"},
        {"components": ()},
        {"components": (Component("app", "x.y", "0" * 64, 1),)},
        {"components": (Component("app", "1.0.0", "0" * 64, 1),) * 2},
    ],
)
def test_a_publishers_own_slip_is_refused_too(change: dict[str, object]) -> None:
    values = {"vendor_domain": DOMAIN, "line": "hive-scale", "board": "comb-s1", "version": "1.0.0", "floor": 1}
    components = (Component("app", "1.0.0", "0" * 64, 1),)
    with pytest.raises(Refused):
        body = encode_manifest(Manifest(**{**values, "components": components, **change}))  # type: ignore[arg-type]
        verify_envelope(join_envelope(sign_manifest(body, PUBLISHER.key), body), TRUSTED)


@given(portion=st.integers(1, 40_000))
@settings(max_examples=40)
def test_a_release_file_reads_the_same_in_any_portions(portion: int) -> None:
    data = PUBLISHER.release_file()
    events = read(data, portion)
    assert isinstance(events[0], Opened)
    assert isinstance(events[1], PayloadBegins) and events[1].size == make_image().size
    assert isinstance(events[-1], PayloadEnds)
    assert b"".join(e.data for e in events if isinstance(e, PayloadPiece)) == make_image().data


def test_the_signed_parts_come_before_any_payload() -> None:
    reader = EnvelopeReader()
    data = PUBLISHER.release_file()
    seen: list[object] = []
    for at in range(len(data)):
        seen += reader.feed(data[at : at + 1])
        if seen:
            break
    assert isinstance(seen[0], Opened)


@pytest.mark.parametrize(
    ("spoil", "said"),
    [
        (lambda d: d[:-1], "ends before"),
        (lambda d: d + b"\x00", "follow the end"),
        (lambda d: b"\xd8\x6c" + d[2:], "not a SUIT envelope"),
        (lambda d: b"hello world", "expected"),
        (lambda d: b"", "ends before"),
        (lambda d: d[:3] + b"\x04" + d[4:], "has key 4"),
    ],
)
def test_what_is_no_release_file_is_refused(spoil: object, said: str) -> None:
    with pytest.raises(Refused, match=said):
        read(spoil(PUBLISHER.release_file()), 1000)  # type: ignore[operator]


def test_a_claimed_length_is_not_believed() -> None:
    with pytest.raises(Refused, match="at most 16384"):
        EnvelopeReader().feed(bytes.fromhex("d86ba202") + b"\x5b" + (2**40).to_bytes(8, "big"))


def test_images_that_do_not_belong_together_are_not_sealed() -> None:
    with pytest.raises(Refused, match="for comb-s2/hive-scale"):
        describe([make_image(), make_image(board="comb-s2", component="radio")], DOMAIN)
    with pytest.raises(Refused, match="at least one image"):
        describe([], DOMAIN)


def test_firmware_without_an_updater_is_not_sealed() -> None:
    with pytest.raises(Refused, match="never be updated again"):
        describe([make_image(updater=0)], DOMAIN)


def test_the_stated_length_is_the_length() -> None:
    image = make_image()
    length, portions = seal([image], describe([image], DOMAIN), PUBLISHER.key)
    assert len(b"".join(portions)) == length
