import zlib

import pytest

from mellow_herald.core.firmware import load_image
from mellow_herald.core.nameplate import MAGIC, Nameplate, encode_nameplate, find_nameplate
from mellow_herald.core.refusal import Refused
from tests.harness.firmware import make_bytes

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
    with pytest.raises(Refused, match="board, version, floor was not stated"):
        load_image(b"plain code", line="hive-scale")
    image = load_image(b"plain code", line="hive-scale", board="comb-s1", version="1.0.0", floor=1)
    assert not image.read
    assert image.nameplate.component == "app"


@pytest.mark.parametrize(("data", "said"), [(b"", "empty"), (b"\xff" * 64, "blank"), (b"\x00" * 64, "blank")])
def test_empty_and_blank_files_are_refused(data: bytes, said: str) -> None:
    with pytest.raises(Refused, match=said):
        load_image(data)
