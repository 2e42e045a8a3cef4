"""Files, settings and certificates: what they are called, and what is looked at before a device gets them."""

from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import NameOID
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.board import BoardComponent, BoardFacts, BoardSlot
from mellow_herald.core.certificate import ends_at, read_chain
from mellow_herald.core.checks import check_release
from mellow_herald.core.component import Kind, Storage, component_name, kind_of, place_of
from mellow_herald.core.placed import Belongs, placed_bytes
from mellow_herald.core.refusal import Refused
from mellow_herald.core.seal import describe
from mellow_herald.core.settings import breaks, canonical, check_schema, differences, read_settings
from mellow_herald.core.suit import Manifest, encode_manifest, read_manifest
from mellow_herald.core.verdict import Check, Earlier, Reading, Verdict
from tests.harness.firmware import BOARD, DOMAIN, LINE, make_image

NOW = datetime(2026, 11, 29, tzinfo=UTC)
BELONGS = Belongs(LINE, BOARD, "1.0.0", 4)
SCHEMA = {
    "type": "object",
    "properties": {"every_s": {"type": "integer", "minimum": 10}},
    "additionalProperties": False,
}
DAY = b'{"every_s": 600}'


def certificate(
    name: str, key: Any, issuer: x509.Certificate | None = None, by: Any = None, *, ca: bool = False, days: int = 30
) -> x509.Certificate:
    """A made-up certificate, good from a day ago."""
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    builder = x509.CertificateBuilder().subject_name(subject).issuer_name(issuer.subject if issuer else subject)
    builder = builder.public_key(key.public_key()).serial_number(x509.random_serial_number())
    builder = builder.not_valid_before(NOW - timedelta(days=100)).not_valid_after(NOW + timedelta(days=days))
    builder = builder.add_extension(x509.BasicConstraints(ca=ca, path_length=None), critical=True)
    return builder.sign(by or key, hashes.SHA256())


KEYS = [ec.generate_private_key(ec.SECP256R1()) for _ in range(4)]
ROOT = certificate("root", KEYS[0], ca=True, days=1000)
MIDDLE = certificate("middle", KEYS[1], ROOT, KEYS[0], ca=True, days=500)
LEAF = certificate("scales", KEYS[2], MIDDLE, KEYS[1], days=90)
STRANGER = certificate("stranger", KEYS[3], ca=True)


def pem(*certificates: x509.Certificate) -> bytes:
    return b"".join(one.public_bytes(Encoding.PEM) for one in certificates)


def board(*components: BoardComponent) -> BoardFacts:
    slots = (BoardSlot("a", 65536, 0x8000), BoardSlot("b", 65536, 0x18000))
    places = (
        BoardComponent("settings/main", size=4096, schema=SCHEMA),
        BoardComponent("certificate/uplink", size=8192, trusted=pem(ROOT).decode()),
        BoardComponent("file/sounds", size=4096, action="import"),
    )
    return BoardFacts(BOARD, DOMAIN, (LINE,), (1, 2, 3), slots, components=components or places)


def looked_at(kind: Kind, place: str, data: bytes, at: datetime = NOW, **more: Any) -> list[Check]:
    """What publishing says of one thing for a place."""
    image = placed_bytes(kind, place, BELONGS, data)
    release = describe([image], DOMAIN, version="1.0.0", **more)
    reading = Reading(None, content=image.data if kind is not Kind.FILE else None)
    return [*check_release(release, board(), None, at, readings={image.digest: reading})]


def refusals(checks: list[Check]) -> list[str]:
    return [one.kind for one in checks if one.verdict is Verdict.REFUSE]


@pytest.mark.parametrize(("kind", "place", "name"), [(Kind.FIRMWARE, "radio", "radio"), (Kind.FILE, "a-b", "file/a-b")])
def test_a_component_has_one_name(kind: Kind, place: str, name: str) -> None:
    assert component_name(kind, place) == name and kind_of(name) is kind
    assert place_of(name) == (None if kind is Kind.FIRMWARE else place)


def test_a_manifest_carries_kind_place_base_and_restart() -> None:
    settings = placed_bytes(Kind.SETTINGS, "main", BELONGS, DAY)
    chain = placed_bytes(Kind.CERTIFICATE, "uplink", BELONGS, pem(LEAF, MIDDLE))
    base = "ab" * 32
    made = describe(
        [make_image("2.5.0"), settings, chain],
        DOMAIN,
        after={"settings/main": ["app"]},
        bases={"settings/main": base},
        restart=True,
    )
    read = read_manifest(encode_manifest(made))
    assert read == made
    one = next(one for one in read.components if one.name == "settings/main")
    assert (one.kind, one.base, one.after) == (Kind.SETTINGS, base, ("app",)) and read.restart
    assert read_manifest(encode_manifest(describe([settings], DOMAIN, version="1.0.0"))).restarts is False


def test_ten_parts_are_one_manifest() -> None:
    images = [make_image("2.5.0", component="app" if n == 0 else f"part-{n}", fill=bytes([n, 7])) for n in range(6)]
    images += [placed_bytes(Kind.FILE, f"file-{n}", BELONGS, bytes([n]) * 99) for n in range(4)]
    made = describe(images, DOMAIN, after={f"part-{n}": [f"part-{n - 1}"] for n in range(2, 6)})
    assert read_manifest(encode_manifest(made)) == made and len(made.components) == 10


@pytest.mark.parametrize("name", ["file/", "files/x", "file/a/b", "settings/../etc", "certificate/x y"])
def test_a_manifest_with_another_kind_of_place_is_refused(name: str) -> None:
    good = describe([placed_bytes(Kind.FILE, "x", BELONGS, b"1")], DOMAIN, version="1.0.0")
    bad = Manifest(
        good.vendor_domain,
        good.line,
        good.board,
        good.version,
        4,
        (type(good.components[0])(name, "1.0.0", "ab" * 32, 1),),
    )
    with pytest.raises(Refused):
        read_manifest(encode_manifest(bad))


def test_settings_have_one_form_whoever_wrote_them() -> None:
    assert canonical(read_settings(b'{ "b": 1,\n "a": {"y": [1, 2.5], "x": "\xc3\xa4"} }')) == (
        '{"a":{"x":"ä","y":[1,2.5]},"b":1}'.encode()
    )
    for bad in (b"[1]", b"{", b"\xff", b'{"a": NaN}', b'{"a":1}' + b" " * 70_000):
        with pytest.raises(Refused):
            read_settings(bad)


json_values = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**40), 2**40) | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=5), inner, max_size=3),
    max_leaves=8,
)
documents = st.dictionaries(st.text(max_size=5), json_values, max_size=4)


@given(documents)
def test_the_one_form_reads_back_and_stays(document: dict[str, Any]) -> None:
    assert read_settings(canonical(document)) == document
    assert canonical(read_settings(canonical(document))) == canonical(document)


@given(documents, documents)
def test_two_documents_differ_where_it_is_told_and_only_then(one: dict[str, Any], other: dict[str, Any]) -> None:
    assert bool(differences(one, other)) == (canonical(one) != canonical(other))


def test_a_difference_says_what_was_and_what_comes() -> None:
    before, after = {"a": {"x": 1, "y": 2}, "b": True}, {"a": {"x": 1, "y": 3}, "c": "new", "b": 1}
    assert differences(before, after) == ["a.y: 2 → 3", "b: true → 1", 'c: (not there) → "new"']


def test_settings_that_break_the_schema_are_refused_with_the_place() -> None:
    assert refusals(looked_at(Kind.SETTINGS, "main", DAY)) == []
    checks = looked_at(Kind.SETTINGS, "main", b'{"every_s": 1, "colour": "red"}')
    assert refusals(checks) == ["breaks-schema"]
    assert "minimum of 10" in next(one.detail for one in checks if one.kind == "breaks-schema") or "And 1 more" in str(
        checks
    )
    assert breaks({"every_s": "often"}, SCHEMA) == ["every_s: 'often' is not of type 'integer'"]


def test_a_schema_never_goes_to_the_network() -> None:
    far = {"$ref": "https://elsewhere.example/schema.json"}
    check_schema(far)
    assert "which the board's file does not hold" in breaks({"a": 1}, far)[0]
    with pytest.raises(Refused, match="the JSON Schema is wrong at type"):
        check_schema({"type": "nonsense"})


def test_settings_without_a_base_are_warned_about() -> None:
    (warned,) = [one for one in looked_at(Kind.SETTINGS, "main", DAY) if one.name == "base"]
    assert warned.verdict is Verdict.WARN and "--base" in warned.mend
    (passed,) = [
        one for one in looked_at(Kind.SETTINGS, "main", DAY, bases={"settings/main": "ab" * 32}) if one.name == "base"
    ]
    assert passed.verdict is Verdict.PASS


@pytest.mark.parametrize(
    ("chain", "at", "kinds"),
    [
        ((LEAF, MIDDLE), NOW, []),
        ((LEAF, MIDDLE, ROOT), NOW, []),
        ((LEAF,), NOW, ["chain-broken"]),
        ((MIDDLE, LEAF), NOW, ["chain-broken"]),
        ((STRANGER,), NOW, ["chain-broken"]),
        ((LEAF, MIDDLE), NOW + timedelta(days=91), ["certificate-over"]),
        ((LEAF, MIDDLE), NOW - timedelta(days=101), ["certificate-not-yet"]),
    ],
)
def test_a_chain_is_looked_at_to_its_end(chain: tuple[x509.Certificate, ...], at: datetime, kinds: list[str]) -> None:
    assert refusals(looked_at(Kind.CERTIFICATE, "uplink", pem(*chain), at)) == kinds


def test_a_certificate_that_is_over_soon_is_warned_about() -> None:
    checks = looked_at(Kind.CERTIFICATE, "uplink", pem(LEAF, MIDDLE), NOW + timedelta(days=80))
    assert [one.verdict for one in checks if one.name == "certificate"] == [Verdict.WARN]


def test_one_that_may_not_issue_ends_no_chain() -> None:
    below = certificate("below", KEYS[3], LEAF, KEYS[2])
    assert "may not issue others" in str(ends_at(read_chain(pem(below, LEAF, MIDDLE)), [ROOT]))


def test_a_private_key_is_never_taken_for_a_certificate() -> None:
    key = KEYS[2].private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    with pytest.raises(Refused) as refused:
        placed_bytes(Kind.CERTIFICATE, "uplink", BELONGS, pem(LEAF) + key)
    assert refused.value.kind == "private-key"
    for bad in (b"", b"hello", b"-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n"):
        with pytest.raises(Refused):
            read_chain(bad)


def test_an_unknown_place_is_refused_with_the_nearest() -> None:
    checks = looked_at(Kind.FILE, "sound", b"hum")
    assert refusals(checks) == ["unknown-place"]
    assert "did you mean file/sounds?" in next(one.mend for one in checks if one.kind == "unknown-place")
    assert refusals(looked_at(Kind.FILE, "sounds", b"hum" * 2000)) == ["too-large-for-place"]


def test_no_image_covers_what_is_kept_at_a_place() -> None:
    kept = BoardComponent("file/calibration", size=0x1000, address=0x9000)
    release = describe([make_image("2.5.0", size=20_000)], DOMAIN)
    checks = check_release(release, board(kept), None, NOW)
    assert "covers-place" in refusals([*checks])
    far = BoardComponent("file/calibration", size=0x1000, address=0x80000)
    assert "covers-place" not in refusals([*check_release(release, board(far), None, NOW)])


def test_files_alone_have_versions_beside_those_of_the_firmware() -> None:
    image = placed_bytes(Kind.FILE, "sounds", BELONGS, b"hum")
    release = describe([image], DOMAIN, version="1.0.0")
    firmware = describe([make_image("2.5.0")], DOMAIN)
    earlier = [Earlier("2.5.0", 4, False, firmware.components)]
    readings = {image.digest: Reading(None)}
    assert refusals([*check_release(release, board(), earlier, NOW, readings=readings)]) == []
    before = [*earlier, Earlier("1.1.0", 4, False, describe([image], DOMAIN, version="1.1.0").components)]
    assert refusals([*check_release(release, board(), before, NOW, readings=readings)]) == ["version-not-higher"]


def test_how_firmware_is_stored_is_said_or_shown_by_its_slots() -> None:
    slots = (
        BoardSlot("a", 1),
        BoardSlot("b", 1),
        BoardSlot("p", 1, component="pump"),
        BoardSlot("r", 1, component="radio"),
    )
    facts = BoardFacts("x", DOMAIN, (LINE,), (1,), slots, components=(BoardComponent("pump", Storage.STREAMED),))
    assert [facts.storage_of(name) for name in ("app", "pump", "radio")] == [
        Storage.TWO_SLOTS,
        Storage.STREAMED,
        Storage.IN_PLACE,
    ]
    assert facts.in_place == {"radio"}
