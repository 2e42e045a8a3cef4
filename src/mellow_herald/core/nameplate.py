"""The nameplate: a small record inside an image that says what the image is.

Layout, anywhere in the image: 8 bytes magic, 2 bytes length of the map (little endian), a deterministic CBOR map,
4 bytes CRC-32 (IEEE 802.3, little endian) of length and map.
"""

import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from mellow_herald.core import cbor
from mellow_herald.core.refusal import Refused
from mellow_herald.core.version import parse_version

# Not text, so that a source file or a log that mentions it cannot be mistaken for one.
MAGIC = bytes.fromhex("8e4d48504c9a0d01")
LENGTH_BYTES, CRC_BYTES = 2, 4
KEYS = {
    1: "line", 2: "board", 3: "component", 4: "version", 5: "floor", 6: "build_id", 7: "build_time",
    8: "hw_rev_min", 9: "hw_rev_max", 10: "updater",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Nameplate:
    """What an image says of itself. ``updater`` is the protocol number its updater speaks, 0 for none;
    ``build_time`` is seconds since 1970 (UTC); ``hw_rev_min`` … ``hw_rev_max`` are the revisions it runs on."""

    line: str
    board: str
    component: str
    version: str
    floor: int
    updater: int = 1
    build_id: str = ""
    build_time: int = 0
    hw_rev_min: int = 0
    hw_rev_max: int = 65535


def encode_nameplate(plate: Nameplate) -> bytes:
    """The bytes to link into an image."""
    body = cbor.encode({key: getattr(plate, name) for key, name in KEYS.items()})
    framed = len(body).to_bytes(LENGTH_BYTES, "little") + body
    return MAGIC + framed + zlib.crc32(framed).to_bytes(CRC_BYTES, "little")


def find_nameplate(image: bytes) -> Nameplate | None:
    """The nameplate in ``image``, or None if there is none.

    Raises ``Refused`` if one is damaged or if two differ; identical copies count as one.
    """
    found: Nameplate | None = None
    for at in _places(image):
        plate = _decode(image, at)
        if found is not None and plate != found:
            raise Refused(
                "two-nameplates",
                f"the image holds two different nameplates ({found.version} and {plate.version}).",
                "Link one nameplate only; a stale object file is the usual cause.",
            )
        found = plate
    return found


def _places(image: bytes) -> Iterator[int]:
    at = image.find(MAGIC)
    while at >= 0:
        yield at
        at = image.find(MAGIC, at + 1)


def _decode(image: bytes, at: int) -> Nameplate:
    start = at + len(MAGIC)
    length = int.from_bytes(image[start : start + LENGTH_BYTES], "little")
    end = start + LENGTH_BYTES + length
    framed, crc = image[start:end], image[end : end + CRC_BYTES]
    if len(crc) < CRC_BYTES or zlib.crc32(framed) != int.from_bytes(crc, "little"):
        raise Refused(
            "damaged-nameplate",
            f"the nameplate at offset {at} is damaged (its CRC does not match).",
            "Build again; do not patch an image after linking.",
        )
    body: Any = cbor.decode(framed[LENGTH_BYTES:])
    try:
        fields = {name: body[key] for key, name in KEYS.items() if key in body}
        plate = Nameplate(**fields)
        for name, kind in Nameplate.__annotations__.items():
            if type(getattr(plate, name)) is not kind:
                raise TypeError(name)
    except TypeError as error:
        raise Refused(
            "damaged-nameplate",
            f"the nameplate at offset {at} lacks a value or has one of the wrong kind ({error}).",
            "Make it with `herald nameplate make`.",
        ) from None
    parse_version(plate.version)
    return plate
