import gzip
import io
import random
import tarfile
import zipfile

import pytest

from mellow_herald.core.appearance import HEAD, Kind, appearance_of
from mellow_herald.core.firmware import scan
from mellow_herald.core.keys import private_to_pem
from tests.harness.firmware import Publisher, make_bytes

CODE = random.Random(5).randbytes(70_000)


def archives() -> dict[str, bytes]:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as file:
        file.writestr("firmware.bin", CODE)
    rolled = io.BytesIO()
    with tarfile.open(fileobj=rolled, mode="w") as file:
        info = tarfile.TarInfo("firmware.bin")
        info.size = len(CODE)
        file.addfile(info, io.BytesIO(CODE))
    return {"gzip": gzip.compress(CODE), "zip": packed.getvalue(), "tar": rolled.getvalue()}


def placed(size: int, *pieces: tuple[int, bytes]) -> bytes:
    """``size`` bytes of made-up code with these pieces in it."""
    data = bytearray((CODE * (size // len(CODE) + 1))[:size])
    for at, piece in pieces:
        data[at : at + len(piece)] = piece
    return bytes(data)


MBR = (446, b"\x80\0\0\0\x83\0\0\0\0\x08\0\0\0\0\x01\0" + bytes(48) + b"\x55\xaa")
MICRO = b"\xaa\x50\x01\x02" + bytes(28) + b"\xaa\x50\x00\x10" + bytes(28)
EXT = (0x438, b"\x53\xef\x01\0" + bytes(16) + bytes(4))


@pytest.mark.parametrize(
    ("data", "kind"),
    [
        *[(data, Kind.ARCHIVE) for data in archives().values()],
        (placed(4096, (0, b"hsqs")), Kind.FILE_SYSTEM),
        (placed(4096, (8, b"littlefs")), Kind.FILE_SYSTEM),
        (placed(8192, EXT), Kind.FILE_SYSTEM),
        (placed(512, MBR), Kind.PARTITION_TABLE),
        (placed(1 << 20, MBR), Kind.WHOLE_FLASH),
        (placed(4096, (512, b"EFI PART")), Kind.WHOLE_FLASH),
        (placed(3072, (0, MICRO)), Kind.PARTITION_TABLE),
        (placed(1 << 20, (0x8000, MICRO)), Kind.WHOLE_FLASH),
        (placed(2048, (0, b"UF2\n\x57\x51\x5d\x9e")), Kind.FLASHING_BLOCKS),
        (b"Archive member included to satisfy reference by file\n\n.text  0x0800\n" * 10, Kind.TEXT),
        (private_to_pem(Publisher().key), Kind.PRIVATE_KEY),
        (Publisher().release_file(), Kind.RELEASE_FILE),
        (b"", Kind.EMPTY),
    ],
)
def test_the_usual_wrong_files_are_recognised(data: bytes, kind: Kind) -> None:
    seems = appearance_of(data[:HEAD], len(data))
    assert seems is not None and seems.kind is kind
    assert seems.words and seems.mend
    assert seems.never == (kind in (Kind.PRIVATE_KEY, Kind.RELEASE_FILE, Kind.EMPTY))


def test_a_dump_is_known_by_its_size_where_the_slot_is_known() -> None:
    assert appearance_of(CODE, 4 << 20) is None
    seems = appearance_of(CODE, 4 << 20, room=512 * 1024)
    assert seems is not None and seems.kind is Kind.WHOLE_FLASH and "4194304" in seems.words
    assert appearance_of(CODE, 600_000, room=512 * 1024) is None


def read_out(size: int, *at: int, blank: bytes = b"\xff") -> bytes:
    """A chip of ``size`` bytes with the same image at these offsets."""
    chip = bytearray(blank * size)
    for offset in at:
        chip[offset : offset + 20_000] = make_bytes(fill=b"\x5a\xa5")
    return bytes(chip)


@pytest.mark.parametrize(
    ("data", "seems"),
    [
        (read_out(1 << 20, 0, 0x8_0000), "the same nameplate stands in it 2 times"),
        (read_out(0xC_0000, 0x1_0000, 0x7_0000), "the same nameplate stands in it 2 times"),
        (CODE[:8000] + read_out((1 << 20) - 8000, 0x2_0000 - 8000), "a whole flash: 1048576 bytes"),
        (read_out(1 << 20, 0), None),
        (read_out(600_000, 0)[:-20_000] + CODE[:20_000], None),
        (read_out(1 << 20, 0, blank=b"\0")[:-20_000] + CODE[:20_000], None),
        (read_out(1 << 16, 0)[:-8000] + CODE[:8000], None),
    ],
    ids=["both-slots", "two-slots-cut-out", "boot-loader-and-slot", "padded", "no-chip", "zeros", "no-chip-so-small"],
)
@pytest.mark.parametrize("piece", [1000, 4096, 1 << 20])
def test_a_dump_with_the_image_in_it_is_known_by_its_gaps_and_copies(
    data: bytes, seems: str | None, piece: int
) -> None:
    found = scan(data[at : at + piece] for at in range(0, len(data), piece)).appearance
    assert (found is None) == (seems is None)
    assert found is None or (found.kind is Kind.WHOLE_FLASH and str(seems) in found.words)


def test_firmware_is_taken_for_firmware() -> None:
    assert appearance_of(make_bytes(), 20_000) is None
    assert appearance_of(make_bytes() + private_to_pem(Publisher().key), 21_000) is None, "a key inside is found apart"
    rng = random.Random(11)
    for _ in range(3000):
        data = rng.randbytes(rng.choice((64, 600, 2048)))
        assert appearance_of(data, len(data)) is None
