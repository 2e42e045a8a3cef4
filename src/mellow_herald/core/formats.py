"""What a build leaves on disk: raw binary, Intel HEX, Motorola S-record or ELF, read into loadable bytes.

``bincopy`` decodes; here stands what it does not look at: which line or offset is at fault, whether the file was cut
off, whether an ELF file is the one that runs. The text formats and ELF are decoded in memory, so they are bounded;
raw binaries of any size are read as a stream elsewhere (``core.firmware``). The decoders are imported where they are
needed: most commands never need them.
"""

import re
from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum
from io import BytesIO
from itertools import pairwise
from typing import TYPE_CHECKING

from mellow_herald.core.refusal import Refused

if TYPE_CHECKING:
    from bincopy import BinFile

# Decoded in memory: a microcontroller's image is far below, and the text of one this large is over 180 MB.
LARGEST_SPAN = 64 * 1024 * 1024
BLANK = b"\xff"
ELF_MAGIC = b"\x7fELF"
IHEX_START = re.compile(rb"\s*:[0-9A-Fa-f]{10}")
SREC_START = re.compile(rb"\s*S[0-9][0-9A-Fa-f]{6}")
IHEX_END = re.compile(r":00[0-9A-F]{4}01[0-9A-F]{2}", re.IGNORECASE)
REBUILD = "Build again, or copy the file again: it is damaged."


class Format(StrEnum):
    """How the bytes stand in the file."""

    RAW = "raw binary"
    IHEX = "Intel HEX"
    SREC = "Motorola S-record"
    ELF = "ELF"


@dataclass(frozen=True, slots=True)
class Loadable:
    """Bytes as they will stand in a slot. ``base`` is the address they are linked for, None where the format does
    not say; ``filled`` counts the bytes of gaps, which were filled with 0xFF."""

    format: Format
    data: bytes
    base: int | None = None
    filled: int = 0


def format_of(head: bytes) -> Format:
    """The format of a file that begins with ``head`` (32 bytes are enough)."""
    if head.startswith(ELF_MAGIC):
        return Format.ELF
    if IHEX_START.match(head):
        return Format.IHEX
    if SREC_START.match(head):
        return Format.SREC
    return Format.RAW


def read_build_output(data: bytes) -> Loadable:
    """Reads a whole file of any format; raises ``Refused`` with the line or offset at fault."""
    match format_of(data[:64]):
        case Format.IHEX:
            return _read_ihex(data)
        case Format.SREC:
            return _read_srec(data)
        case Format.ELF:
            return _read_elf(data)
    return Loadable(Format.RAW, data)


def _read_ihex(data: bytes) -> Loadable:
    lines = _lines(data, Format.IHEX)
    end = next((number for number, line in enumerate(lines) if IHEX_END.fullmatch(line.strip())), None)
    read = _records(Format.IHEX, lines, lambda file, text: file.add_ihex(text))
    if end is None:
        raise _cut_off(Format.IHEX, len(lines), "its end-of-file record is missing")
    _nothing_after(Format.IHEX, lines, end)
    return read


def _read_srec(data: bytes) -> Loadable:
    lines = _lines(data, Format.SREC)
    read = _records(Format.SREC, lines, lambda file, text: file.add_srec(text))
    records = [(number, line.strip()) for number, line in enumerate(lines) if line.strip()]
    data_records = 0
    for number, record in records:
        if record[1] in "123":
            data_records += 1
        elif record[1] in "56" and int(record[4:-2], 16) != data_records:
            raise Refused(
                "damaged-file",
                f"line {number + 1} says that {int(record[4:-2], 16)} data records came before it; "
                f"there are {data_records}.",
                REBUILD,
            )
        elif record[1] in "789":
            _nothing_after(Format.SREC, lines, number)
    # Where there is no start address, some tools end with the count (S5, S6) alone.
    if records[-1][1][1] not in "56789":
        raise _cut_off(Format.SREC, len(lines), "no termination record (S7, S8, S9) nor count (S5, S6) ends it")
    return read


def _lines(data: bytes, format_: Format) -> list[str]:
    try:
        return data.decode("ascii").splitlines()
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise Refused("damaged-file", f"line {line} of the {format_} file is not text.", REBUILD) from None


def _records(format_: Format, lines: list[str], add: Callable[["BinFile", str], None]) -> Loadable:
    import bincopy

    def trouble(count: int) -> str | None:
        try:
            add(bincopy.BinFile(), "\n".join(lines[:count]) + "\n")
        except (bincopy.Error, ValueError, IndexError) as error:
            return str(error) or type(error).__name__
        return None

    file = bincopy.BinFile()
    try:
        add(file, "\n".join(lines) + "\n")
    except (bincopy.Error, ValueError, IndexError):
        # The decoder does not say where: the shortest beginning of the file that it refuses does.
        low, high = 0, len(lines)
        while high - low > 1:
            middle = (low + high) // 2
            low, high = (low, middle) if trouble(middle) else (middle, high)
        detail = f"line {high} of the {format_} file is wrong: {trouble(high)}."
        raise Refused("damaged-file", detail, REBUILD) from None
    return _loadable(format_, file)


def _cut_off(format_: Format, lines: int, what: str) -> Refused:
    return Refused("damaged-file", f"the {format_} file ends at line {lines}, but {what}: it was cut off.", REBUILD)


def _nothing_after(format_: Format, lines: list[str], end: int) -> None:
    for number, line in enumerate(lines[end + 1 :], end + 2):
        if line.strip():
            raise Refused(
                "damaged-file",
                f"line {number} of the {format_} file follows its end record in line {end + 1}.",
                "Two files were joined into one: pass the one you mean.",
            )


def _read_elf(data: bytes) -> Loadable:
    from bincopy import BinFile
    from elftools.elf.constants import SH_FLAGS
    from elftools.elf.elffile import ELFFile

    try:
        elf = ELFFile(BytesIO(data))
        kind = elf.header["e_type"]
        sections = list(elf.iter_sections())
        segments = list(elf.iter_segments())
        loads = [segment for segment in segments if segment["p_type"] == "PT_LOAD"]
        ends = [(part["p_offset"] + part["p_filesz"], "a segment") for part in segments]
        ends += [(s["sh_offset"] + s["sh_size"], f"section {s.name}") for s in sections if s["sh_type"] != "SHT_NOBITS"]
        code = [
            s
            for s in sections
            if s["sh_flags"] & SH_FLAGS.SHF_ALLOC and s["sh_type"] not in ("SHT_NOBITS", "SHT_NOTE") and s["sh_size"]
        ]
        debug = any(s.name.startswith(".debug_") for s in sections)
        hosted = any(segment["p_type"] == "PT_INTERP" for segment in segments)
    except Exception as error:
        # The reader answers bytes nobody vouches for with exceptions of any kind.
        raise Refused(
            "damaged-file", f"the ELF file cannot be read ({type(error).__name__}: {error}).", REBUILD
        ) from None
    for end, what in ends:
        if end > len(data):
            raise Refused("damaged-file", f"the ELF file ends at byte {len(data)}; {what} goes on to {end}.", REBUILD)
    if kind == "ET_REL":
        raise Refused("object-file", "this is an object file that was not linked yet.", "Pass what the linker made.")
    if not code:
        if debug:
            raise Refused(
                "debug-twin",
                "this is the ELF file's debug twin: debugging information without the code.",
                "Pass the ELF file that runs; the twin was split off it.",
            )
        raise Refused("empty-image", "the ELF file holds no bytes to load.", "Pass what the linker made.")
    if hosted:
        raise Refused(
            "hosted-program",
            "this is a program for an operating system: it asks for a program loader.",
            "Link it for the board: no shared libraries, with the board's linker script.",
        )
    spans = [(segment["p_paddr"], segment["p_paddr"] + segment["p_filesz"]) for segment in loads if segment["p_filesz"]]
    if spans:
        _check_span(Format.ELF, sorted(spans))
    file = BinFile()
    try:
        file.add_elf(data)
    except Exception as error:
        raise Refused("damaged-file", f"the ELF file cannot be read ({error}).", REBUILD) from None
    return _loadable(Format.ELF, file)


def _loadable(format_: Format, file: "BinFile") -> Loadable:
    parts = [(segment.minimum_address, segment.maximum_address) for segment in file.segments]
    if not parts:
        raise Refused("empty-image", f"the {format_} file holds no bytes to load.", "Pass what the linker made.")
    _check_span(format_, parts)
    data = bytes(file.as_binary(padding=BLANK))
    return Loadable(format_, data, parts[0][0], len(data) - sum(end - start for start, end in parts))


def _check_span(format_: Format, parts: list[tuple[int, int]]) -> None:
    span = parts[-1][1] - parts[0][0]
    if span <= LARGEST_SPAN:
        return
    if len(parts) > 1:
        gap, at = max((after[0] - before[1], before[1]) for before, after in pairwise(parts))
        where = f" The widest gap, {gap} bytes, begins at {at:#x}."
    else:
        where = ""
    raise Refused(
        "oversized-file",
        f"the {format_} file reaches from {parts[0][0]:#x} to {parts[-1][1]:#x}, {span} bytes.{where}",
        "Two memories in one file? Leave the other out, or make an image of each. "
        f"One image above {LARGEST_SPAN} bytes: pass it as raw binary.",
    )
