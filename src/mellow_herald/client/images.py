"""Firmware files on the engineer's own machine: opened, scanned, and said what they are.

Raw binaries are read as a stream, every time anew, so that their size does not matter. The other formats are decoded in
memory and therefore bounded.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from mellow_herald.core.firmware import PORTION, Image, Scanned, name_image, portions, scan
from mellow_herald.core.formats import LARGEST_SPAN, Format, format_of, read_build_output
from mellow_herald.core.refusal import Refused

# Three characters and more for every byte in the text formats; debugging information in ELF.
LARGEST_DECODED = 4 * LARGEST_SPAN


@dataclass(frozen=True, slots=True)
class Opened:
    """A firmware file as it was read: format, link address (None: the format does not say), bytes filled into gaps,
    and what its bytes showed."""

    path: Path
    format: Format
    base: int | None
    filled: int
    scanned: Scanned
    _data: bytes | None

    def pieces(self) -> Iterator[bytes]:
        """The loadable bytes, from the start, in portions."""
        return _read(self.path) if self._data is None else portions(self._data)

    def image(self, *, slot: int | None = None, **stated: Any) -> Image:
        """The image in it; see ``core.firmware.name_image`` for what is refused."""
        try:
            return name_image(self.scanned, self.pieces, self.format, self.base, slot, **stated)
        except Refused as refused:
            raise Refused(refused.kind, f"{self.path.name}: {refused.detail}", refused.mend) from None


def open_firmware(path: Path) -> Opened:
    """Reads a firmware file; raises ``Refused`` if it cannot be read or is damaged."""
    try:
        size = path.stat().st_size
        with path.open("rb") as file:
            format_ = format_of(file.read(64))
        if format_ is Format.RAW:
            return Opened(path, format_, None, 0, scan(_read(path)), None)
        if size > LARGEST_DECODED:
            raise Refused(
                "oversized-file",
                f"{path.name} is {format_} of {size} bytes; at most {LARGEST_DECODED} are decoded.",
                "Convert it to raw binary and pass that.",
            )
        data = path.read_bytes()
    except OSError as error:
        raise Refused("no-file", f"the firmware file {path} cannot be read ({error.strerror}).") from None
    try:
        loadable = read_build_output(data)
    except Refused as refused:
        raise Refused(refused.kind, f"{path.name}: {refused.detail}", refused.mend) from None
    scanned = scan(portions(loadable.data))
    return Opened(path, format_, loadable.base, loadable.filled, scanned, loadable.data)


def _read(path: Path) -> Iterator[bytes]:
    with path.open("rb") as file:
        while piece := file.read(PORTION):
            yield piece
