import re
import tracemalloc
import zlib
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core import cbor
from mellow_herald.core.firmware import scan
from mellow_herald.core.nameplate import (
    MAGIC,
    Nameplate,
    NameplateFinder,
    encode_nameplate,
    find_nameplate,
    nameplate_source,
)
from mellow_herald.core.refusal import Refused
from tests.harness.firmware import load_image, make_bytes

PLATE = Nameplate("hive-scale", "comb-s1", "app", "2.5.0", 4, build_id="ta-0001", hw_rev_min=1, hw_rev_max=3)


@pytest.mark.parametrize("before", [b"", b"\x00", b"code" * 1000, MAGIC[:-1]])
def test_a_nameplate_is_found_wherever_it_stands(before: bytes) -> None:
    assert find_nameplate(before + encode_nameplate(PLATE) + b"more code") == PLATE


def test_none_is_none() -> None:
    assert find_nameplate(b"just code") is None


def test_the_layout_is_as_documented() -> None:
    data = encode_nameplate(PLATE)
    length = int.from_bytes(data[8:10], "little")
    assert data[:8] == MAGIC
    assert len(data) == 8 + 2 + length + 4
    assert int.from_bytes(data[-4:], "little") == zlib.crc32(data[8:-4])


def test_two_equal_nameplates_count_as_one_two_different_are_refused() -> None:
    assert find_nameplate(encode_nameplate(PLATE) * 2) == PLATE
    other = Nameplate("hive-scale", "comb-s1", "app", "2.4.0", 4)
    with pytest.raises(Refused, match=r"2\.5\.0 at offset 0, .* 2\.4\.0 at offset"):
        find_nameplate(encode_nameplate(PLATE) + encode_nameplate(other))


@pytest.mark.parametrize("at", [9, 12, -1])
def test_a_damaged_nameplate_is_refused(at: int) -> None:
    data = bytearray(encode_nameplate(PLATE))
    data[at] ^= 0x10
    with pytest.raises(Refused, match="offset 0 is damaged"):
        find_nameplate(bytes(data))


def test_a_truncated_nameplate_is_refused() -> None:
    with pytest.raises(Refused, match="damaged"):
        find_nameplate(encode_nameplate(PLATE)[:-2])


def test_values_are_read_from_the_file() -> None:
    image = load_image(make_bytes("2.5.0"))
    assert image.read
    assert (image.nameplate.board, image.nameplate.version, image.size) == ("comb-s1", "2.5.0", len(image.data))


def test_a_contradiction_shows_both_values() -> None:
    with pytest.raises(Refused, match=r"'9\.9\.9'.*'2\.5\.0'"):
        load_image(make_bytes("2.5.0"), version="9.9.9")


def test_without_a_nameplate_values_must_be_stated_and_are_marked() -> None:
    with pytest.raises(Refused, match="board, version, floor and say --as-is"):
        load_image(b"plain code", line="hive-scale")
    image = load_image(b"plain code", line="hive-scale", board="comb-s1", version="1.0.0", floor=1)
    assert not image.read
    assert image.nameplate.component == "app"


@pytest.mark.parametrize(("data", "said"), [(b"", "empty"), (b"\xff" * 64, "blank"), (b"\x00" * 64, "blank")])
def test_empty_and_blank_files_are_refused(data: bytes, said: str) -> None:
    with pytest.raises(Refused, match=said):
        load_image(data)


@given(cuts=st.lists(st.integers(1, 3000), min_size=1, max_size=12), at=st.integers(0, 5000))
def test_a_nameplate_is_found_in_pieces_of_any_size(cuts: list[int], at: int) -> None:
    data = b"\x11" * at + encode_nameplate(PLATE) + b"\x22" * 700
    finder = NameplateFinder()
    for cut in cuts:
        finder.feed(data[:cut])
        data = data[cut:]
    finder.feed(data)
    assert finder.close() == PLATE
    assert finder.at == at


def test_two_nameplates_in_different_pieces_are_refused_with_both_offsets() -> None:
    finder = NameplateFinder()
    finder.feed(b"\0" * 100 + encode_nameplate(PLATE) + b"\0" * 5000)
    other = encode_nameplate(Nameplate("hive-scale", "comb-s1", "app", "2.4.0", 4))
    with pytest.raises(Refused, match="offset 100, .*offset 90000"):
        finder.feed(b"\0" * (90_000 - 5100 - len(encode_nameplate(PLATE))) + other + b"\0" * 4000)


def test_what_an_image_needs_stands_on_its_nameplate() -> None:
    plate = replace(PLATE, needs=(("app", "2.3.0"), ("radio", "1.2.0")))
    assert find_nameplate(encode_nameplate(plate)) == plate
    assert len(encode_nameplate(PLATE)) < len(encode_nameplate(plate)), "nothing needed takes no room"


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"board": "comb s1"}, "board is 'comb s1'"),
        ({"line": ""}, "line is ''"),
        ({"version": "2.5"}, "'2.5' is not a version"),
        ({"floor": -1}, "floor is -1"),
        ({"floor": 2**60}, "must lie between"),
        ({"hw_rev_min": 3, "hw_rev_max": 1}, "no revision is meant"),
        ({"updater": 70_000}, "updater is 70000"),
        ({"build_id": "a\0b"}, "printable"),
        ({"needs": (("radio", "1.2.0-rc.1"),)}, "only whole releases"),
        ({"needs": (("ra dio", "1.2.0"),)}, "the component in needs"),
        ({"needs": tuple((f"c{n}" * 20, "1.0.0") for n in range(60))}, "at most 2048"),
    ],
)
def test_values_that_cannot_stand_are_refused(change: dict[str, Any], said: str) -> None:
    with pytest.raises(Refused, match=said):
        encode_nameplate(replace(PLATE, **change))


def test_a_map_with_values_of_the_wrong_kind_is_refused() -> None:
    for body in (
        {1: "hive-scale"},
        {1: 5, 2: "b", 3: "app", 4: "1.0.0", 5: 1},
        {**GOOD, 11: {"radio": 5}},
        {**GOOD, 11: 5},
    ):
        encoded = cbor.encode(body)
        framed = len(encoded).to_bytes(2, "little") + encoded
        with pytest.raises(Refused, match="lacks a value or has one of the wrong kind"):
            find_nameplate(MAGIC + framed + zlib.crc32(framed).to_bytes(4, "little"))


GOOD: dict[int, Any] = {1: "hive-scale", 2: "comb-s1", 3: "app", 4: "1.0.0", 5: 1}


def test_the_worked_example_of_the_handbook() -> None:
    page = Path(__file__).parents[2].joinpath("docs/nameplate.md").read_text()
    hexed = page.partition("<!-- example -->")[2].partition("```")[2].partition("```")[0].partition("\n")[2]
    data = bytes.fromhex("".join(line.partition("|")[0] for line in hexed.splitlines()))
    assert data == encode_nameplate(
        Nameplate("hive-scale", "comb-s1", "app", "2.6.0", 4, 1, "ta-0001", 1795000000, 1, 3)
    )


def test_c_source_holds_the_very_bytes() -> None:
    source = nameplate_source(PLATE)
    numbers = re.findall(r"0x([0-9a-f]{2})", source.partition("{\n")[2])
    assert bytes.fromhex("".join(numbers)) == encode_nameplate(PLATE)
    assert f"[{len(numbers)}]" in source and ".nameplate" in source


def test_a_scan_takes_no_more_memory_for_a_larger_image() -> None:
    def grown(megabytes: int) -> int:
        piece = bytes(range(256)) * 4096
        tracemalloc.start()
        scan(piece for _ in range(megabytes))
        peak = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        return peak

    assert grown(48) < grown(8) + 1_000_000


def test_what_must_never_be_published_is_not(tmp_path: Path) -> None:
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

    from mellow_herald.core.keys import private_to_pem

    pem = private_to_pem(Ed25519PrivateKey.generate(), "a passphrase")
    with pytest.raises(Refused, match="a private key"):
        load_image(pem, line="hive-scale", board="comb-s1", version="1.0.0", floor=1)
