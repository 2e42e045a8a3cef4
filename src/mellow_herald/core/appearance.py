"""What a file seems to be that is not firmware for a slot: recognised by how it begins, and said in words."""

from dataclasses import dataclass
from enum import StrEnum

HEAD = 64 * 1024
TEXT_BYTES = bytes(range(0x20, 0x7F)) + b"\t\n\r\x0c"
SECTOR = 512
MICRO_TABLE_PLACES = (0, 0x8000, 0x9000)
MICRO_ENTRY = 32
ERASE_SECTOR = 4096
LEAST_CHIP = 128 * 1024


class Kind(StrEnum):
    """Kinds of file that end up in a publisher's hand by mistake."""

    EMPTY = "empty-image"
    PRIVATE_KEY = "private-key"
    RELEASE_FILE = "release-file"
    ARCHIVE = "archive"
    FILE_SYSTEM = "file-system"
    PARTITION_TABLE = "partition-table"
    WHOLE_FLASH = "whole-flash"
    FLASHING_BLOCKS = "flashing-blocks"
    PROGRAM = "hosted-program"
    TEXT = "text"


# Of these nothing is firmware for a slot, whatever nameplate was met inside: it stands in what they carry.
CARRIERS = frozenset({Kind.ARCHIVE, Kind.WHOLE_FLASH, Kind.PARTITION_TABLE, Kind.FLASHING_BLOCKS})


@dataclass(frozen=True, slots=True)
class Appearance:
    """What a file seems to be, in words, and what to pass instead. ``never`` is true for what must not be published
    whatever the engineer says."""

    kind: Kind
    words: str
    mend: str
    never: bool = False


_ARCHIVES = (
    (0, b"\x1f\x8b\x08", "a gzip file"),
    (0, b"PK\x03\x04", "a zip archive"),
    (0, b"\xfd7zXZ\x00", "an xz file"),
    (4, b"1AY&SY", "a bzip2 file"),
    (0, b"\x28\xb5\x2f\xfd", "a Zstandard file"),
    (0, b"7z\xbc\xaf\x27\x1c", "a 7-Zip archive"),
    (257, b"ustar", "a tar archive"),
    (0, b"!<arch>\n", "a library of object files"),
    (0, b"\x04\x22\x4d\x18", "an LZ4 file"),
)
_FILE_SYSTEMS = (
    (0, b"hsqs", "a SquashFS image"),
    (0, b"sqsh", "a SquashFS image"),
    (8, b"littlefs", "a littlefs image"),
    (0, b"-rom1fs-", "a romfs image"),
    (0, b"\x45\x3d\xcd\x28", "a cramfs image"),
    (0, b"UBI#", "a UBI image"),
    (0, b"\x31\x18\x10\x06", "a UBIFS image"),
    (0, b"\x85\x19\x03\x20", "a JFFS2 image"),
    (0, b"\x85\x19\x01\xe0", "a JFFS2 image"),
    (0, b"\x85\x19\x02\xe0", "a JFFS2 image"),
    (54, b"FAT12", "a FAT image"),
    (54, b"FAT16", "a FAT image"),
    (82, b"FAT32", "a FAT image"),
    (32769, b"CD001", "an ISO 9660 image"),
)


def appearance_of(head: bytes, size: int, room: int | None = None) -> Appearance | None:
    """What a file of ``size`` bytes that begins with ``head`` (up to 64 KiB) seems to be; None if it may be firmware.

    ``room`` is the size of the slot it is meant for, if that is known.
    """
    if not size:
        return Appearance(Kind.EMPTY, "nothing: the file is empty", "Check that the build finished.", True)
    # A key in the midst of firmware is found by its offset (core.leaks); here the file itself is one.
    if b"PRIVATE KEY-----" in head and not head.translate(None, TEXT_BYTES):
        return Appearance(
            Kind.PRIVATE_KEY,
            "a private key",
            "Publish the firmware, and keep the key where nobody else reads it.",
            True,
        )
    if head.startswith(b"\xd8\x6b"):
        return Appearance(
            Kind.RELEASE_FILE,
            "a release file, sealed already",
            "Publish it as it is: herald release publish FILE.suit.",
            True,
        )
    for at, magic, words in _ARCHIVES:
        if head[at : at + len(magic)] == magic:
            return Appearance(Kind.ARCHIVE, words, "Unpack it and pass the image inside.")
    table = _partition_table(head, size)
    if table is not None:
        return table
    file_system = _file_system(head)
    if file_system is not None:
        mend = "Pass the application's image; a file system is a component of its own, such as assets."
        return Appearance(Kind.FILE_SYSTEM, file_system, mend)
    if head.startswith(b"UF2\n") and head[4:8] == b"\x57\x51\x5d\x9e":
        return Appearance(
            Kind.FLASHING_BLOCKS,
            "a UF2 file: blocks for copying by USB",
            "Pass the binary, HEX or ELF file it was made from.",
        )
    if head.startswith((b"MZ", b"\xcf\xfa\xed\xfe", b"\xca\xfe\xba\xbe")) and b"PE\0\0" in head[:1024]:
        return Appearance(
            Kind.PROGRAM, "a program for a desktop computer", "Pass what the cross-compiler's linker made."
        )
    if head and not head.translate(None, TEXT_BYTES):
        return Appearance(Kind.TEXT, "a text file", "Pass the build's output, not a source, log or map file.")
    if room is not None and size > room and size & (size - 1) == 0 and size >= 1 << 20:
        return Appearance(
            Kind.WHOLE_FLASH,
            f"a dump of a whole flash of {size} bytes",
            "Pass the image of the one slot, as the linker made it.",
        )
    return None


def dump_of(size: int, plates: int, gap_at: int | None) -> Appearance | None:
    """Whether an image of ``size`` bytes seems to have been read out of a flash, by what a pass over it showed.

    ``plates`` is how often its nameplate stands in it: once for each slot that was read out. ``gap_at`` is the offset
    of the first blank stretch of a whole erase sector with something behind it, None if there is none; together with
    a chip's size (a power of two) it tells a dump from an image that was padded.
    """
    one_slot = "Pass the image of the one slot, as the linker made it."
    if plates > 1:
        words = f"a dump of a flash: the same nameplate stands in it {plates} times, as in several slots"
        return Appearance(Kind.WHOLE_FLASH, words, one_slot)
    if gap_at is not None and size >= LEAST_CHIP and size & (size - 1) == 0:
        words = f"a dump of a whole flash: {size} bytes, a chip's size, with blank sectors from {gap_at:#x} amid them"
        return Appearance(Kind.WHOLE_FLASH, words, one_slot)
    return None


def _file_system(head: bytes) -> str | None:
    for at, magic, words in _FILE_SYSTEMS:
        if head[at : at + len(magic)] == magic:
            return words
    # Two bytes of magic are met by chance; state and revision are not.
    state, revision = int.from_bytes(head[0x43A:0x43C], "little"), int.from_bytes(head[0x44C:0x450], "little")
    if head[0x438:0x43A] == b"\x53\xef" and state <= 7 and revision <= 1:
        return "an ext2/3/4 image"
    return None


def _partition_table(head: bytes, size: int) -> Appearance | None:
    """A disk's table (MBR, GPT), or a table of 32-byte entries as small flash chips have it."""
    one_slot = "Pass the image of the one slot, as the linker made it."
    if head[SECTOR : SECTOR + 8] == b"EFI PART":
        return Appearance(Kind.WHOLE_FLASH, "an image of a whole disk (GPT)", one_slot)
    entries = [head[at : at + 16] for at in range(446, 510, 16)]
    if head[510:512] == b"\x55\xaa" and b"FAT" not in head[:90]:
        used = [entry for entry in entries if any(entry)]
        if used and all(entry[0] in (0, 0x80) and entry[4] for entry in used):
            whole = size > SECTOR
            words = "an image of a whole disk (MBR)" if whole else "a partition table (MBR)"
            return Appearance(Kind.WHOLE_FLASH if whole else Kind.PARTITION_TABLE, words, one_slot)
    for at in MICRO_TABLE_PLACES:
        entry = head[at : at + 2 * MICRO_ENTRY]
        if entry[:2] == b"\xaa\x50" and entry[MICRO_ENTRY : MICRO_ENTRY + 2] in (b"\xaa\x50", b"\xeb\xeb", b"\xff\xff"):
            if at == 0:
                return Appearance(Kind.PARTITION_TABLE, "a partition table", one_slot)
            words = f"a dump of a whole flash: a partition table stands at {at:#x}"
            return Appearance(Kind.WHOLE_FLASH, words, one_slot)
    return None
