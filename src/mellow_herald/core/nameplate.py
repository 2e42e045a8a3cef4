"""The nameplate: a small record inside an image that says what the image is.

Layout, anywhere in the image: 8 bytes magic, 2 bytes length of the map (little endian), a deterministic CBOR map,
4 bytes CRC-32 (IEEE 802.3, little endian) of length and map.
"""

import re
import zlib
from dataclasses import dataclass
from typing import Any

from mellow_herald.core import cbor
from mellow_herald.core.limits import LARGEST_INTEGER, LARGEST_REVISION
from mellow_herald.core.refusal import Refused
from mellow_herald.core.version import parse_version

# Not text, so that a source file or a log that mentions it cannot be mistaken for one.
MAGIC = bytes.fromhex("8e4d48504c9a0d01")
LENGTH_BYTES, CRC_BYTES = 2, 4
LARGEST_MAP = 2048
KEYS = {
    1: "line",
    2: "board",
    3: "component",
    4: "version",
    5: "floor",
    6: "build_id",
    7: "build_time",
    8: "hw_rev_min",
    9: "hw_rev_max",
    10: "updater",
    11: "needs",
}
NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,62}")
# The largest whole number that databases and JSON readers both keep exact.


@dataclass(frozen=True, slots=True)
class Nameplate:
    """What an image says of itself. ``updater`` is the protocol number its updater speaks, 0 for none;
    ``build_time`` is seconds since 1970 (UTC), 0 if not known; ``hw_rev_min`` … ``hw_rev_max`` are the revisions it
    runs on; ``needs`` names components and the least version of each that a device
    must run (of ``app`` itself, too)."""

    line: str
    board: str
    component: str
    version: str
    floor: int
    updater: int = 1
    build_id: str = ""
    build_time: int = 0
    hw_rev_min: int = 0
    hw_rev_max: int = LARGEST_REVISION
    needs: tuple[tuple[str, str], ...] = ()


def check_nameplate(plate: Nameplate) -> Nameplate:
    """Returns ``plate`` if its values can stand; raises ``Refused`` with the value at fault."""
    for what in ("line", "board", "component"):
        _check_name(what, getattr(plate, what))
    parse_version(plate.version)
    for component, least in plate.needs:
        _check_name("the component in needs", component)
        if parse_version(least).prerelease or parse_version(least).build:
            raise Refused(
                "bad-nameplate",
                f"needs asks for {component} {least}; only whole releases can be asked for.",
                "Write the least version as MAJOR.MINOR.PATCH.",
            )
    for what, most in (("floor", LARGEST_INTEGER), ("updater", LARGEST_REVISION), ("build_time", LARGEST_INTEGER)):
        _check_number(what, getattr(plate, what), most)
    for what in ("hw_rev_min", "hw_rev_max"):
        _check_number(what, getattr(plate, what), LARGEST_REVISION)
    if plate.hw_rev_min > plate.hw_rev_max:
        raise Refused(
            "bad-nameplate",
            f"hw_rev goes from {plate.hw_rev_min} to {plate.hw_rev_max}: no revision is meant.",
            "Put the lower one first.",
        )
    if not plate.build_id.isprintable() or len(plate.build_id) > 100:
        raise Refused("bad-nameplate", "the build id must be printable text of at most 100 characters.")
    return plate


def encode_nameplate(plate: Nameplate) -> bytes:
    """The bytes to link into an image; raises ``Refused`` for values that cannot stand."""
    values = {key: getattr(check_nameplate(plate), name) for key, name in KEYS.items()}
    needs = dict(values.pop(11))
    body = cbor.encode({**values, **({11: needs} if needs else {})})
    if len(body) > LARGEST_MAP:
        raise Refused("bad-nameplate", f"the nameplate's map has {len(body)} bytes; at most {LARGEST_MAP} are allowed.")
    framed = len(body).to_bytes(LENGTH_BYTES, "little") + body
    return MAGIC + framed + zlib.crc32(framed).to_bytes(CRC_BYTES, "little")


def nameplate_source(plate: Nameplate) -> str:
    """C source that places the nameplate in section ``.nameplate``; the linker script must keep that section."""
    data = encode_nameplate(plate)
    rows = [", ".join(f"0x{byte:02x}" for byte in data[at : at + 12]) for at in range(0, len(data), 12)]
    body = ",\n    ".join(rows)
    return f"""\
/* Nameplate of {plate.component} {plate.version} for {plate.line} on {plate.board}, floor number {plate.floor}.
   Made by `herald nameplate make`; make it anew for every build. In the linker script: KEEP(*(.nameplate)) */
__attribute__((section(".nameplate"), used, aligned(4)))
const unsigned char herald_nameplate[{len(data)}] = {{
    {body}
}};
"""


def find_nameplate(image: bytes) -> Nameplate | None:
    """The nameplate in ``image``, or None if there is none; see ``NameplateFinder``."""
    finder = NameplateFinder()
    finder.feed(image)
    return finder.close()


class NameplateFinder:
    """Finds the nameplate in an image that comes in pieces of any size; keeps no more than one nameplate's bytes.

    ``feed`` the pieces, then ``close`` tells what was found. Both raise ``Refused`` if a nameplate is damaged or two
    differ. ``at`` is the offset of the first one; ``copies`` counts how often the same stands in the image.
    """

    def __init__(self) -> None:
        self._kept = b""
        self._offset = 0  # of the first kept byte
        self._found: Nameplate | None = None
        self.at: int | None = None
        self.copies = 0

    def feed(self, piece: bytes) -> None:
        """Takes the next bytes."""
        self._search(self._kept + piece, ended=False)

    def close(self) -> Nameplate | None:
        """The nameplate, once all bytes are in; None if there is none."""
        self._search(self._kept, ended=True)
        return self._found

    def _search(self, data: bytes, *, ended: bool) -> None:
        at = data.find(MAGIC)
        while at >= 0:
            framed = at + len(MAGIC)
            whole = framed + LENGTH_BYTES + int.from_bytes(data[framed : framed + LENGTH_BYTES], "little") + CRC_BYTES
            if not ended and len(data) < min(whole, framed + LENGTH_BYTES + LARGEST_MAP + CRC_BYTES):
                break
            self._note(
                _decode(data[at : at + len(MAGIC) + LENGTH_BYTES + LARGEST_MAP + CRC_BYTES], self._offset + at), at
            )
            at = data.find(MAGIC, at + 1)
        keep_from = at if at >= 0 else max(0, len(data) - len(MAGIC) + 1)
        self._kept, self._offset = data[keep_from:], self._offset + keep_from

    def _note(self, plate: Nameplate, at: int) -> None:
        if self._found is not None and plate != self._found:
            raise Refused(
                "two-nameplates",
                f"the image holds two different nameplates: {_in_words(self._found)} at offset {self.at}, "
                f"{_in_words(plate)} at offset {self._offset + at}.",
                "Link one nameplate only; a stale object file, or a dump of several slots, is the usual cause.",
            )
        self.copies += 1
        if self._found is None:
            self._found, self.at = plate, self._offset + at


def _in_words(plate: Nameplate) -> str:
    return f"{plate.board}/{plate.line} {plate.component} {plate.version}"


def _decode(data: bytes, offset: int) -> Nameplate:
    start = len(MAGIC)
    length = int.from_bytes(data[start : start + LENGTH_BYTES], "little")
    end = start + LENGTH_BYTES + length
    framed, crc = data[start:end], data[end : end + CRC_BYTES]
    if len(crc) < CRC_BYTES or zlib.crc32(framed) != int.from_bytes(crc, "little"):
        raise Refused(
            "damaged-nameplate",
            f"the nameplate at offset {offset} is damaged (its CRC does not match).",
            "Build again; do not patch an image after linking. An updater that looks for nameplates must not hold "
            "the magic as it stands: keep it inverted.",
        )
    body: Any = cbor.decode(framed[LENGTH_BYTES:])
    try:
        fields = {name: body[key] for key, name in KEYS.items() if key in body}
        needs = tuple(sorted(fields.pop("needs", {}).items()))
        plate = Nameplate(**fields, needs=needs)
        for name, kind in Nameplate.__annotations__.items():
            if name in fields and type(fields[name]) is not kind:
                raise TypeError(name)
        if any(type(word) is not str for pair in needs for word in pair):
            raise TypeError("needs")
    except (TypeError, AttributeError) as error:
        raise Refused(
            "damaged-nameplate",
            f"the nameplate at offset {offset} lacks a value or has one of the wrong kind ({error}).",
            "Make it with `herald nameplate make`.",
        ) from None
    return check_nameplate(plate)


def _check_name(what: str, value: str) -> None:
    if NAME.fullmatch(value) is None:
        raise Refused(
            "bad-nameplate",
            f"{what} is {value!r}; a name has letters, digits, '.', '_' and '-', at most 63.",
            "Correct it in the build.",
        )


def _check_number(what: str, value: int, most: int) -> None:
    if not 0 <= value <= most:
        raise Refused(
            "bad-nameplate", f"{what} is {value}; it must lie between 0 and {most}.", "Correct it in the build."
        )
