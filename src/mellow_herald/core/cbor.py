"""Deterministic CBOR (RFC 8949 section 4.2.1): encoding, and decoding of bytes nobody vouches for.

``cbor2`` decodes. Around it stand the two things this project must be sure of: map keys are sorted bytewise by their
encoding, and nothing is decoded before a walk over the heads has shown that every length fits the input, that the
nesting is bounded and that only expected tags occur.
"""

from collections.abc import Mapping
from typing import Any

import cbor2

from mellow_herald.core.refusal import Refused

MAX_DEPTH = 16
SIMPLE = {False: b"\xf4", True: b"\xf5", None: b"\xf6"}


def encode(value: Any) -> bytes:
    """Encodes ``value`` deterministically: maps, arrays, strings, integers of 64 bits, true, false, null and tags.

    Raises ``TypeError`` for anything else (floats are not used in any of our formats), ``OverflowError`` for larger
    integers. Single values are put together here: an encoder made for each takes longer than all the rest.
    """
    if isinstance(value, str):
        text = value.encode()
        return head(3, len(text)) + text
    if isinstance(value, bytes | bytearray | memoryview):
        return head(2, len(value)) + value
    if value is None or isinstance(value, bool):
        return SIMPLE[value]
    if isinstance(value, int):
        return head(0, value) if value >= 0 else head(1, -1 - value)
    if isinstance(value, Mapping):
        pairs = sorted((encode(k), encode(v)) for k, v in value.items())
        return head(5, len(pairs)) + b"".join(k + v for k, v in pairs)
    if isinstance(value, list | tuple):
        return head(4, len(value)) + b"".join(encode(item) for item in value)
    if isinstance(value, cbor2.CBORTag):
        return head(6, value.tag) + encode(value.value)
    if isinstance(value, float):
        raise TypeError("floats have no place in a deterministic record; use an integer unit")
    raise TypeError(f"a {type(value).__name__} has no place in a deterministic record")


def head(major: int, argument: int) -> bytes:
    """The shortest head of a data item: ``major`` type 0–7 and its ``argument`` (length, count, value or tag)."""
    if argument < 24:
        return bytes([major << 5 | argument])
    for info, size in ((24, 1), (25, 2), (26, 4), (27, 8)):
        if argument < 1 << 8 * size:
            return bytes([major << 5 | info]) + argument.to_bytes(size, "big")
    raise OverflowError(f"{argument} does not fit a CBOR head")


def read_head(data: bytes | bytearray | memoryview, at: int) -> tuple[int, int, int] | None:
    """Reads the head at offset ``at``: (major type, argument, offset after it), or None if bytes are missing.

    Refuses indefinite lengths, reserved values and arguments that are not in their shortest form.
    """
    if at >= len(data):
        return None
    first = data[at]
    major, info = first >> 5, first & 31
    if info < 24:
        return major, info, at + 1
    if info > 27:
        raise Refused("bad-cbor", f"byte {at}: indefinite lengths and reserved heads are not accepted.")
    size = 1 << (info - 24)
    if at + 1 + size > len(data):
        return None
    argument = int.from_bytes(data[at + 1 : at + 1 + size], "big")
    shortest = 24 if size == 1 else 1 << 8 * (size // 2)
    if argument < shortest and major != 7:
        raise Refused("bad-cbor", f"byte {at}: the length or value is not in its shortest form.")
    return major, argument, at + 1 + size


def check(data: bytes, tags: frozenset[int] = frozenset(), max_depth: int = MAX_DEPTH) -> None:
    """Walks the heads of one data item that must fill ``data`` exactly; allocates nothing in proportion to a claim.

    Raises ``Refused`` for truncation, trailing bytes, deep nesting, tags not in ``tags``, and floats.
    """
    open_items = [1]
    at = 0
    while open_items:
        if open_items[-1] == 0:
            open_items.pop()
            continue
        open_items[-1] -= 1
        seen = read_head(data, at)
        if seen is None:
            raise Refused("bad-cbor", f"the data ends at byte {len(data)} in the middle of an item.")
        major, argument, at = seen
        if major in (2, 3):
            if argument > len(data) - at:
                raise Refused("bad-cbor", f"byte {at}: a string claims {argument} bytes, {len(data) - at} are left.")
            at += argument
        elif major in (4, 5, 6):
            count = {4: argument, 5: 2 * argument, 6: 1}[major]
            if count > len(data) - at:
                raise Refused("bad-cbor", f"byte {at}: a container claims {argument} items, more than there are bytes.")
            if major == 6 and argument not in tags:
                raise Refused("bad-cbor", f"byte {at}: tag {argument} is not expected here.")
            if len(open_items) > max_depth:
                raise Refused("bad-cbor", f"byte {at}: nested deeper than {max_depth} levels.")
            open_items.append(count)
        elif major == 7 and argument not in (20, 21, 22):
            raise Refused("bad-cbor", f"byte {at}: only true, false and null are accepted here.")
    if at != len(data):
        raise Refused("bad-cbor", f"{len(data) - at} bytes follow the end of the data item.")


def decode(data: bytes, tags: frozenset[int] = frozenset()) -> Any:
    """Decodes one deterministic data item; raises ``Refused`` for anything else, never another exception."""
    check(data, tags)
    try:
        value = cbor2.loads(data)
        again = encode(value)
    except (cbor2.CBORError, ValueError, TypeError, OverflowError, RecursionError) as error:
        raise Refused("bad-cbor", f"the data cannot be read: {error}.") from None
    if again != data:
        raise Refused("bad-cbor", "the encoding is not deterministic (key order or duplicate keys).")
    return value
