import time
import tracemalloc
from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mellow_herald.core import cbor, suit
from mellow_herald.core.diagnostic import diagnose
from mellow_herald.core.envelope import EnvelopeReader, Opened
from mellow_herald.core.firmware import for_slot
from mellow_herald.core.manifest import join_envelope, sign_manifest, verify, verify_envelope
from mellow_herald.core.refusal import Refused
from mellow_herald.core.seal import describe, seal
from mellow_herald.core.suit import Component, Manifest, encode_manifest, read_manifest, switch_order
from tests.harness.firmware import DOMAIN, Publisher, make_image
from tests.harness.some import some

PUBLISHER = Publisher()
TRUSTED = PUBLISHER.trusted()
APP = Component("app", "2.5.0", "a" * 64, 20_000)
RELEASE = Manifest(DOMAIN, "hive-scale", "comb-s1", "2.5.0", 4, (APP,))


def envelope(manifest: Manifest) -> bytes:
    body = encode_manifest(manifest)
    return join_envelope(sign_manifest(body, PUBLISHER.key), body)


words = st.text("abcdefghijklmnopqrstuvwxyz0123456789-_.", min_size=1, max_size=20).filter(
    lambda word: word[0].isalnum()
)
numbers = st.integers(0, 2**53 - 1)
versions = st.builds(
    lambda a, b, c, more: f"{a}.{b}.{c}{more}", *[st.integers(0, 999)] * 3, st.sampled_from(["", "-rc.1", "+ta"])
)
digests = st.text("0123456789abcdef", min_size=64, max_size=64)


@st.composite
def manifests(draw: Any) -> Manifest:
    """Releases of any shape: several components, each for any slot or for each one, in any order that can be."""
    names = draw(st.lists(words, min_size=1, max_size=4, unique=True))
    components = []
    for position, name in enumerate(names):
        after = tuple(draw(st.lists(st.sampled_from(names[:position]), unique=True))) if position else ()
        slots = draw(st.sampled_from([(None,), (0, 1), (1,)]))
        shared = dict(
            name=name,
            version=draw(versions),
            updater=draw(st.integers(0, 65535)),
            build_id=draw(words),
            build_time=draw(numbers),
            after=after,
        )
        for slot in slots:
            own = dict(digest=draw(digests), size=draw(numbers), slot=slot, address=draw(st.none() | numbers))
            components.append(Component(**shared, **own))
    needs = draw(st.dictionaries(words, st.sampled_from(["1.0.0", "2.3.4", "0.0.999"]), max_size=3))
    return Manifest(
        draw(words) + ".example",
        draw(words),
        draw(words),
        draw(versions),
        draw(numbers),
        tuple(components),
        draw(st.integers(0, 9)),
        draw(st.integers(9, 65535)),
        draw(st.text(max_size=200)).replace("\0", ""),
        tuple(needs.items()),
        draw(st.booleans()),
    )


@given(manifest=manifests())
@settings(max_examples=200)
def test_every_release_comes_back_as_it_was_described(manifest: Manifest) -> None:
    read = read_manifest(encode_manifest(manifest))
    assert replace(read, needs=()) == replace(manifest, needs=())
    assert dict(read.needs) == dict(manifest.needs)
    shown = diagnose(join_envelope(b"\x80", encode_manifest(manifest)))
    for component in manifest.components:
        assert component.digest in shown


@given(manifest=manifests())
@settings(max_examples=100)
def test_the_encoding_is_deterministic(manifest: Manifest) -> None:
    data = encode_manifest(manifest)
    assert encode_manifest(read_manifest(data)) == data
    cbor.decode(data)  # refuses whatever is not deterministic


def test_conditions_are_those_of_the_standard() -> None:
    manifest = replace(RELEASE, needs=(("app", "2.3.0"), ("radio", "1.2.0")), hw_rev_min=2, hw_rev_max=3)
    body = cbor.decode(encode_manifest(manifest))
    common = cbor.decode(body[suit.COMMON])
    assert [list(parts) for parts in common[suit.COMPONENTS]] == [[b"app"], [b"radio"]]
    shared = cbor.decode(common[suit.SHARED_SEQUENCE])
    pairs = list(zip(shared[::2], shared[1::2], strict=True))
    versions_asked = [cbor.decode(argument[28]) for command, argument in pairs if command == 20 and 28 in argument]
    assert [[v if isinstance(v, int) else list(v) for v in one] for one in versions_asked] == [
        [2, [2, 3, 0]],
        [2, [1, 2, 0]],
    ]
    assert [command for command, _ in pairs].count(28) == 2, "the version condition"
    assert (-1, 15) in pairs, "the revision condition"
    assert body[suit.SEQUENCE] == manifest.floor


def test_an_image_for_each_slot_is_tried_in_turn() -> None:
    images = [for_slot(make_image(fill=fill), slot) for slot, fill in ((0, b"ab"), (1, b"cd"))]
    manifest = describe(images, DOMAIN)
    read = verify_envelope(envelope(manifest), TRUSTED).manifest
    assert read == manifest
    assert [read.for_slot("app", slot).digest for slot in (0, 1)] == [image.digest for image in images]  # type: ignore[union-attr]
    assert read.for_slot("app", 2) is None
    _, portions = seal(images, manifest, PUBLISHER.key)
    whole = b"".join(portions)
    assert all(image.data in whole for image in some(images))


def test_switching_waits_for_what_comes_before() -> None:
    def one(name: str, *after: str) -> Component:
        return replace(APP, name=name, after=after)

    assert switch_order((one("app", "radio"), one("radio"), one("assets"))) == (("radio", "assets"), ("app",))
    assert switch_order((one("a", "b"), one("b", "c"), one("c"))) == (("c",), ("b",), ("a",))
    with pytest.raises(Refused, match="wait for each other"):
        switch_order((one("a", "b"), one("b", "a"), one("c")))
    with pytest.raises(Refused, match="does not carry"):
        switch_order((one("a", "boot"),))


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"line": "a b"}, "not a name"),
        ({"board": ""}, "not a name"),
        ({"vendor_domain": "a\0b"}, "not text"),
        ({"description": "a\0b"}, "not text"),
        ({"floor": 2**60}, "whole number"),
        ({"hw_rev_max": 2**20}, "whole number"),
        ({"version": "two"}, "not a version"),
        ({"components": (replace(APP, name="ap p"),)}, "not a name"),
        ({"components": (replace(APP, build_id="\0"),)}, "not text"),
        ({"components": (replace(APP, size=2**60),)}, "whole number"),
        ({"components": (replace(APP, slot=0), replace(APP, slot=0))}, "two images for one slot"),
        ({"components": (replace(APP, after=("app",)),)}, "wait for each other"),
        ({"components": tuple(replace(APP, name=f"c{n}") for n in range(40))}, "at most 32"),
        ({"components": ()}, "each component once"),
    ],
)
def test_a_publishers_own_slip_is_refused(change: dict[str, Any], said: str) -> None:
    with pytest.raises(Refused, match=said):
        verify_envelope(envelope(replace(RELEASE, **change)), TRUSTED)


def test_try_each_within_try_each_goes_no_deeper() -> None:
    inner = cbor.encode([suit.OVERRIDE, {suit.SLOT: 0}])
    for _ in range(5000):
        inner = cbor.encode([suit.TRY_EACH, [inner]])
    body = cbor.decode(encode_manifest(RELEASE))
    common = {**cbor.decode(body[suit.COMMON]), suit.SHARED_SEQUENCE: inner}
    data = cbor.encode({**body, suit.COMMON: cbor.encode(common)})
    with pytest.raises(Refused):
        read_manifest(data)


VALUES = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**63), 2**63) | st.binary(max_size=20) | st.text(max_size=20),
    lambda inner: (
        st.lists(inner, max_size=4) | st.dictionaries(st.integers(-5, 30) | st.text(max_size=3), inner, max_size=4)
    ),
    max_leaves=12,
)


@given(data=st.data())
@settings(max_examples=400)
def test_a_signed_manifest_of_any_content_ends_in_a_typed_refusal(data: st.DataObject) -> None:
    """Mutates what is inside before it is signed: the signature is good, so the reader itself must hold."""
    body = cbor.decode(encode_manifest(replace(RELEASE, needs=(("radio", "1.0.0"),))))
    key = data.draw(st.sampled_from(sorted(body)))
    change = data.draw(VALUES)
    depth = data.draw(st.integers(0, 2))
    if depth and isinstance(body[key], bytes):
        inner = cbor.decode(body[key])
        if isinstance(inner, dict):
            inner[data.draw(st.sampled_from(sorted(inner, key=str)))] = change
        else:
            inner = list(inner)
            inner[data.draw(st.integers(0, len(inner) - 1))] = change
        body[key] = cbor.encode(inner)
    else:
        body[key] = change
    encoded = cbor.encode(body)
    signed = join_envelope(sign_manifest(encoded, PUBLISHER.key), encoded)
    try:
        verify_envelope(signed, TRUSTED)
    except Refused:
        pass


@given(data=st.data())
@settings(max_examples=300)
def test_a_mutated_release_file_ends_in_a_typed_refusal_with_bounded_memory(data: st.DataObject) -> None:
    good = PUBLISHER.release_file(size=3000)
    mutated = bytearray(good)
    for _ in range(data.draw(st.integers(1, 3))):
        at = data.draw(st.integers(0, len(mutated) - 1))
        what = data.draw(st.sampled_from(["flip", "cut", "insert", "length"]))
        if what == "flip":
            mutated[at] ^= 1 << data.draw(st.integers(0, 7))
        elif what == "cut":
            del mutated[at : at + data.draw(st.integers(1, 50))]
        elif what == "insert":
            mutated[at:at] = data.draw(st.binary(min_size=1, max_size=30))
        else:
            mutated[at : at + 9] = b"\x5b" + data.draw(st.integers(0, 2**63)).to_bytes(8, "big")
        if not mutated:
            break
    reader = EnvelopeReader()
    began = time.process_time()
    tracemalloc.start()
    try:
        for at in range(0, len(mutated), 700):
            for event in reader.feed(bytes(mutated[at : at + 700])):
                if isinstance(event, Opened):
                    verify(event.authentication, event.manifest, TRUSTED, new_release=True)
        reader.close()
    except Refused:
        pass
    finally:
        peak = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
    assert peak < 2_000_000
    assert time.process_time() - began < 5


def test_an_order_and_independence_survive_the_signature() -> None:
    radio = make_image("1.3.0", component="radio", fill=b"ra")
    manifest = describe([make_image(), radio], DOMAIN, after={"radio": ["app"]}, independent=True)
    read = verify_envelope(envelope(manifest), TRUSTED).manifest
    assert read.independent and read.images_of("radio")[0].after == ("app",)
    assert switch_order(read.components) == (("app",), ("radio",))


def test_what_the_release_brings_is_not_asked_of_the_device() -> None:
    wanting = make_image(needs=(("radio", "1.2.0"), ("app", "2.3.0"), ("boot", "1.0.0")))
    radio = make_image("1.3.0", component="radio", fill=b"ra")
    assert dict(describe([wanting, radio], DOMAIN).needs) == {"app": "2.3.0", "boot": "1.0.0"}
    older = make_image("1.1.0", component="radio", fill=b"ro")
    with pytest.raises(Refused, match=r"needs radio 1\.2\.0 or later; the release brings radio 1\.1\.0"):
        describe([wanting, older], DOMAIN)


def test_a_release_without_app_must_say_its_version() -> None:
    assets = make_image("1.4.0", component="assets", updater=0)
    with pytest.raises(Refused, match="--release-version"):
        describe([assets], DOMAIN)
    assert describe([assets], DOMAIN, version="2.5.1").version == "2.5.1"


@pytest.mark.parametrize(
    ("images", "said"),
    [
        ([make_image(), make_image("2.5.1")], "two images|2 images"),
        ([for_slot(make_image(), 0), make_image(fill=b"xy")], "2 images"),
        ([for_slot(make_image(), 0), for_slot(make_image("2.5.1"), 1)], "same nameplate"),
        ([make_image(hw_rev_max=1), make_image("1.0.0", component="radio", hw_rev_min=2)], "no hardware revision"),
    ],
)
def test_images_that_do_not_belong_together(images: list[Any], said: str) -> None:
    with pytest.raises(Refused, match=said):
        describe(images, DOMAIN)
