import cbor2
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.coap.values import Format, read_bytes, read_numbers, read_text
from mellow_herald.core.refusal import Refused

SENML_CBOR = cbor2.dumps([{-2: "/5/0/", 0: "3", 2: 2}])
SEVERAL_JSON = b'[{"bn":"/5/0/8/","n":"0","v":0},{"n":"1","v":2}]'
# By hand: a resource with an 8-bit ID and one byte; several instances (two, of one byte each) of resource 8; a resource
# whose length is in a byte of its own; one whose value has two bytes.
TLV_STATE = bytes([0b1100_0001, 3, 2])
TLV_SEVERAL = bytes([0b1000_0110, 8, 0b0100_0001, 0, 0, 0b0100_0001, 1, 2])
TLV_TEXT = bytes([0b1100_1000, 3, 11]) + b"1.2.3+build"
TLV_WIDE = bytes([0b1100_0010, 9, 0x01, 0x00])


@pytest.mark.parametrize(
    ("content_format", "payload", "resource", "numbers"),
    [
        (Format.TEXT, b"2", 3, [2]),
        (None, b" -1 ", 3, [-1]),
        (Format.CBOR, cbor2.dumps(3), 3, [3]),
        (Format.SENML_CBOR, SENML_CBOR, 3, [2]),
        (Format.SENML_JSON, b'[{"bn":"/5/0/3","v":1}]', 3, [1]),
        (Format.SENML_JSON, SEVERAL_JSON, 8, [0, 2]),
        (Format.TLV, TLV_STATE, 3, [2]),
        (Format.TLV, TLV_SEVERAL, 8, [0, 2]),
        (Format.TLV, TLV_WIDE, 9, [256]),
        # The same inside of an object instance.
        (Format.TLV, bytes([0b0000_0011, 0]) + TLV_STATE, 3, [2]),
        (Format.TLV, TLV_STATE, 5, []),
    ],
)
def test_numbers_by_hand(content_format: int | None, payload: bytes, resource: int, numbers: list[int]) -> None:
    assert read_numbers(content_format, payload, resource) == numbers


def test_text_and_bytes_by_hand() -> None:
    assert read_text(Format.TLV, TLV_TEXT, 3) == "1.2.3+build"
    assert read_text(Format.TEXT, b"2.5.0", 3) == "2.5.0"
    assert read_text(Format.SENML_CBOR, cbor2.dumps([{-2: "/3/0/3", 3: "2.5.0"}]), 3) == "2.5.0"
    assert read_bytes(Format.OPAQUE, b"\x00\xff", 0) == b"\x00\xff"
    assert read_bytes(Format.SENML_CBOR, cbor2.dumps([{-2: "/26270/0/0", 8: b"\x01"}]), 0) == b"\x01"
    assert read_bytes(Format.TLV, bytes([0b1100_0010, 0, 1, 2]), 0) == b"\x01\x02"


@pytest.mark.parametrize(
    ("content_format", "payload"),
    [
        (Format.TEXT, b"soon"),
        (Format.TEXT, b"\xff"),
        (Format.CBOR, b"\xff"),
        (Format.CBOR, cbor2.dumps(True)),
        (Format.SENML_JSON, b"{}"),
        (Format.SENML_JSON, b"[3]"),
        (Format.TLV, b"\xc8\x03\x0b1.2"),
        (60_000, b"2"),
    ],
)
def test_what_is_no_number_is_refused(content_format: int, payload: bytes) -> None:
    with pytest.raises(Refused):
        read_numbers(content_format, payload, 3)


@given(st.sampled_from([*Format, None, 7]), st.binary(max_size=60), st.integers(0, 30))
def test_whatever_bytes_come_they_are_read_or_refused(
    content_format: int | None, payload: bytes, resource: int
) -> None:
    for read in (read_numbers, read_text, read_bytes):
        try:
            read(content_format, payload, resource)
        except Refused:
            continue
