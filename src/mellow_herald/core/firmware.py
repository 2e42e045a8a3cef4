"""Firmware: from what a build left on disk to the image that will stand in a slot, known by its bytes.

An image's bytes may be large, so they are never held here: ``Image.pieces`` gives them again as often as asked, and
``Scan`` takes them piece by piece.
"""

import hashlib
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace
from typing import Any

from mellow_herald.core.appearance import ERASE_SECTOR, HEAD, Appearance, appearance_of, dump_of
from mellow_herald.core.formats import Format
from mellow_herald.core.leaks import Leak, LeakFinder
from mellow_herald.core.nameplate import Nameplate, NameplateFinder, check_nameplate
from mellow_herald.core.refusal import Refused

PORTION = 256 * 1024
BLANK_SECTOR = b"\xff" * ERASE_SECTOR
APP = "app"
MUST_BE_KNOWN = ("line", "board", "version", "floor")


@dataclass(frozen=True, slots=True)
class Scanned:
    """What a pass over an image's bytes showed. ``blank`` is the share of bytes (0 to 1) that are 0xFF or 0x00,
    whichever there are more of. ``fault`` is what is wrong with the nameplate, if one is; ``leaks`` is what has the
    shape of a secret."""

    size: int
    digest: str
    blank: float
    plate: Nameplate | None
    plate_at: int | None
    fault: Refused | None
    appearance: Appearance | None
    leaks: tuple[Leak, ...] = ()


class Scan:
    """One pass over an image: ``feed`` its bytes in pieces, then ``close``. Memory does not grow with the image."""

    def __init__(self) -> None:
        self._hash = hashlib.sha256()
        self._finder = NameplateFinder()
        self._leaks = LeakFinder()
        self._sectors = BlankSectors()
        self._head = bytearray()
        self._size = 0
        self._blank = {0xFF: 0, 0x00: 0}
        self._fault: Refused | None = None

    def feed(self, piece: bytes) -> None:
        """Takes the next bytes."""
        self._hash.update(piece)
        self._size += len(piece)
        for byte in self._blank:
            self._blank[byte] += piece.count(byte)
        self._leaks.feed(piece)
        self._sectors.feed(piece)
        if len(self._head) < HEAD:
            self._head += piece[: HEAD - len(self._head)]
        if self._fault is None:
            try:
                self._finder.feed(piece)
            except Refused as refused:
                self._fault = refused

    def close(self) -> Scanned:
        """What was seen."""
        plate = None
        if self._fault is None:
            try:
                plate = self._finder.close()
            except Refused as refused:
                self._fault = refused
        blank = max(self._blank.values()) / self._size if self._size else 1.0
        seems = appearance_of(bytes(self._head), self._size)
        seems = seems or dump_of(self._size, self._finder.copies, self._sectors.gap_at)
        at = self._finder.at if plate else None
        return Scanned(self._size, self._hash.hexdigest(), blank, plate, at, self._fault, seems, self._leaks.close())


class BlankSectors:
    """Finds the first erased sector that has something behind it; ``gap_at`` is its offset, None if there is none."""

    def __init__(self) -> None:
        self._rest = b""
        self._offset = 0
        self._blank_from: int | None = None
        self.gap_at: int | None = None

    def feed(self, piece: bytes) -> None:
        """Takes the next bytes."""
        if self.gap_at is not None:
            return
        data = self._rest + piece
        whole = len(data) - len(data) % ERASE_SECTOR
        for at in range(0, whole, ERASE_SECTOR):
            if data[at : at + ERASE_SECTOR] == BLANK_SECTOR:
                if self._blank_from is None and self._offset + at:
                    self._blank_from = self._offset + at
            elif self._blank_from is not None:
                self.gap_at = self._blank_from
                return
        self._rest, self._offset = data[whole:], self._offset + whole


def scan(pieces: Iterable[bytes]) -> Scanned:
    """Scans bytes that come in pieces."""
    passing = Scan()
    for piece in pieces:
        passing.feed(piece)
    return passing.close()


@dataclass(frozen=True, slots=True)
class Image:
    """One component's firmware. ``read`` tells whether the nameplate stood in the image (read) or was given by the
    engineer (stated); ``base`` is the address it is linked for, if the file said; ``slot`` is the board's slot (from
    0) it is linked for, None where it may stand in any."""

    pieces: Callable[[], Iterator[bytes]]
    digest: str
    size: int
    nameplate: Nameplate
    read: bool
    scanned: Scanned
    format: Format = Format.RAW
    base: int | None = None
    slot: int | None = None

    @property
    def data(self) -> bytes:
        """All bytes, in memory."""
        return b"".join(self.pieces())


def portions(data: bytes) -> Iterator[bytes]:
    """``data`` in portions of at most 256 KiB."""
    for at in range(0, len(data), PORTION):
        yield data[at : at + PORTION]


def name_image(
    scanned: Scanned,
    pieces: Callable[[], Iterator[bytes]],
    format_: Format = Format.RAW,
    base: int | None = None,
    slot: int | None = None,
    **stated: Any,
) -> Image:
    """Makes an image of scanned bytes; ``stated`` are nameplate values given by the engineer (None: not given).

    Raises ``Refused`` for an empty or blank file, for a damaged nameplate, for values that are missing, and for values
    that contradict the nameplate in the file.
    """
    if not scanned.size:
        raise Refused("empty-image", "the file is empty.", "Check that the build finished and pass its output.")
    if scanned.blank == 1.0:
        raise Refused(
            "blank-image", f"all {scanned.size} bytes of the file are blank.", "Pass the output of the build."
        )
    if scanned.appearance is not None and scanned.appearance.never:
        seems = scanned.appearance
        raise Refused(seems.kind.value, f"the file is {seems.words}.", seems.mend)
    if scanned.fault is not None:
        raise scanned.fault
    given = {name: value for name, value in stated.items() if value is not None}
    plate = scanned.plate
    if plate is not None:
        for name, value in given.items():
            if getattr(plate, name) != value:
                raise Refused(
                    "nameplate-contradicts",
                    f"{name} was stated as {value!r}, the nameplate in the file says {getattr(plate, name)!r}.",
                    "One of the two is wrong: build the file you mean, or leave the option out.",
                )
        return Image(pieces, scanned.digest, scanned.size, plate, True, scanned, format_, base, slot)
    missing = [name for name in MUST_BE_KNOWN if name not in given]
    if missing and scanned.appearance is not None:
        seems = scanned.appearance
        raise Refused(
            seems.kind.value,
            f"the file seems to be {seems.words}, and holds no nameplate.",
            f"{seems.mend} If it is what the device boots, state {', '.join(missing)} and say --as-is.",
        )
    if missing:
        raise Refused(
            "no-nameplate",
            f"the file holds no nameplate, and {', '.join(missing)} was not stated.",
            "Link a nameplate into the firmware (`herald nameplate make`), or state the values with options.",
        )
    plate = check_nameplate(Nameplate(**{"component": APP, **given}))
    return Image(pieces, scanned.digest, scanned.size, plate, False, scanned, format_, base, slot)


def for_slot(image: Image, slot: int) -> Image:
    """The same image, meant for one slot of the board only."""
    return replace(image, slot=slot)
