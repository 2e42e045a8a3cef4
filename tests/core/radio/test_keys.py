import pytest
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.radio.keys import GroupSession, block_mic, group_key_key, group_root_key, unwrap, wrap

# FIPS 197, appendix C.1.
KEY = bytes(range(16))
PLAIN, CRYPT = bytes.fromhex("00112233445566778899aabbccddeeff"), bytes.fromhex("69c4e0d86a7b0430d8cdb78070b4c55a")


def aes(key: bytes, block: bytes) -> bytes:
    return Cipher(algorithms.AES(key), modes.ECB()).encryptor().update(block)


def test_a_group_key_comes_out_as_it_went_in_by_the_standards_vector() -> None:
    assert unwrap(PLAIN, KEY) == CRYPT and wrap(CRYPT, KEY) == PLAIN


def test_keys_are_derived_as_the_standard_says() -> None:
    assert group_root_key(KEY) == aes(KEY, bytes(16))
    assert group_root_key(KEY, lorawan_1_1=True) == aes(KEY, b"\x20" + bytes(15))
    assert group_key_key(KEY) == aes(group_root_key(KEY), bytes(16)) != group_key_key(KEY, lorawan_1_1=True)
    session = GroupSession.derive(KEY, 0x11223344)
    assert session.app == aes(KEY, bytes.fromhex("0144332211") + bytes(11))
    assert session.network == aes(KEY, bytes.fromhex("0244332211") + bytes(11))


@given(st.binary(max_size=222), st.integers(0, 2**32 - 1), st.integers(1, 223))
def test_a_frame_is_opened_once_by_members_only(payload: bytes, counter: int, port: int) -> None:
    session = GroupSession.derive(KEY, 0x01020304)
    frame = session.frame(counter, port, payload)
    assert len(frame) == len(payload) + 13
    assert session.open(frame, counter - 1) == (counter, port, payload)
    assert session.open(frame, max(-1, counter - 500)) == (counter, port, payload)
    assert session.open(frame, counter) is None, "heard before"
    other = GroupSession.derive(bytes(16), 0x01020304)
    assert other.open(frame, counter - 1) is None
    assert GroupSession.derive(KEY, 0x01020305).open(frame, counter - 1) is None
    if payload:
        assert payload not in frame or len(payload) < 4


@pytest.mark.parametrize("at", range(17))
def test_a_frame_with_one_bit_changed_is_not_opened(at: int) -> None:
    session = GroupSession.derive(KEY, 7)
    frame = bytearray(session.frame(9, 201, b"abcd"))
    frame[at] ^= 0x10
    assert session.open(bytes(frame), 8) is None
    assert session.open(bytes(frame[:12]), 8) is None


def test_counters_run_beyond_sixteen_bits() -> None:
    session = GroupSession.derive(KEY, 7)
    assert session.open(session.frame(0x1FFFF, 1, b"x"), 0x1FFF0) == (0x1FFFF, 1, b"x")
    assert session.open(session.frame(0x20000, 1, b"y"), 0x1FFFF) == (0x20000, 1, b"y")
    assert session.open(session.frame(0x20000, 1, b"y"), 0x20000) is None


def test_the_mic_of_a_block_hangs_on_all_that_it_is_of() -> None:
    stated = (KEY, 1, 0, b"\x01\x02\x03\x04", b"block")
    changed = [
        (bytes(16), *stated[1:]),
        (KEY, 2, *stated[2:]),
        (*stated[:2], 1, *stated[3:]),
        (*stated[:3], bytes(4), b"block"),
        (*stated[:4], b"block\0"),
    ]
    mics = {block_mic(*one) for one in [stated, *changed]}  # type: ignore[arg-type]
    assert len(mics) == 6 and all(len(mic) == 4 for mic in mics)
