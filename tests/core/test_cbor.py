import contextlib

import cbor2
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core import cbor
from mellow_herald.core.refusal import Refused

scalars = st.none() | st.booleans() | st.integers(-(2**63), 2**63) | st.binary(max_size=40) | st.text(max_size=20)
values = st.recursive(
    scalars,
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.integers(-99, 999) | st.text(max_size=6), inner),
    max_leaves=20,
)


def plain(value: object) -> object:
    """Lists for tuples and dicts for other mappings, as a decoder may give either."""
    if isinstance(value, list | tuple):
        return [plain(one) for one in value]
    if hasattr(value, "items"):
        return {key: plain(one) for key, one in value.items()}
    return value


@given(values)
def test_what_is_encoded_is_read_back_and_any_decoder_agrees(value: object) -> None:
    data = cbor.encode(value)
    assert plain(cbor.decode(data)) == value
    assert plain(cbor2.loads(data)) == value


def test_keys_are_sorted_bytewise_not_by_length_first() -> None:
    # RFC 8949 section 4.2.1 gives this very order; its older rule would put -1 before 100.
    assert list(cbor.decode(cbor.encode({-1: 0, 100: 0, 10: 0, "z": 0, "aa": 0, False: 0}))) == [
        10,
        100,
        -1,
        "z",
        "aa",
        False,
    ]


@pytest.mark.parametrize(
    ("data", "said"),
    [
        ("", "ends at byte 0"),
        ("01 02", "1 bytes follow"),
        ("18 01", "shortest form"),
        ("19 00ff", "shortest form"),
        ("5f 41 61 ff", "indefinite"),
        ("5b 7fffffffffffffff", "claims 9223372036854775807 bytes"),
        ("9b 7fffffffffffffff", "more than there are bytes"),
        ("a2 01 00 01 00", "not deterministic"),
        ("a2 02 00 01 00", "not deterministic"),
        ("c0 60", "tag 0 is not expected"),
        ("f9 3c00", "only true, false and null"),
        ("f6" * 2, "follow the end"),
        ("81" * 40 + "00", "nested deeper"),
        ("61 ff", "cannot be read"),
    ],
)
def test_what_is_not_deterministic_cbor_is_refused(data: str, said: str) -> None:
    with pytest.raises(Refused, match=said):
        cbor.decode(bytes.fromhex(data))


@given(st.binary(max_size=200))
def test_any_bytes_end_in_a_value_or_a_refusal(data: bytes) -> None:
    with contextlib.suppress(Refused):
        assert cbor.encode(cbor.decode(data)) == data


def test_floats_have_no_place() -> None:
    with pytest.raises(TypeError, match="floats"):
        cbor.encode({"share": 0.5})
