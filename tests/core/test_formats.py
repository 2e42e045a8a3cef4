"""Build outputs as other tools write them: binutils and srecord make the inputs, nothing is committed."""

import random
import shutil
import subprocess
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mellow_herald.core.formats import LARGEST_SPAN, Format, format_of, read_build_output
from mellow_herald.core.nameplate import find_nameplate
from mellow_herald.core.refusal import Refused
from tests.harness.build import build_firmware
from tests.harness.patience import PATIENCE_S

BASE = 0x08020000
DATA = random.Random(7).randbytes(5000)


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return build_firmware(tmp_path_factory.mktemp("firmware"))


def srec_cat(folder: Path, data: bytes, *output: str, at: int = BASE) -> bytes:
    (folder / "in.bin").write_bytes(data)
    subprocess.run(
        ["srec_cat", "in.bin", "-binary", "-offset", hex(at), "-o", "out", *output], cwd=folder, check=True, timeout=20
    )
    return (folder / "out").read_bytes()


def refused(data: bytes) -> str:
    with pytest.raises(Refused) as caught:
        read_build_output(data)
    return str(caught.value)


@pytest.mark.parametrize(
    ("output", "format_", "base"),
    [
        (("-intel",), Format.IHEX, BASE),
        (("-intel", "-line-length=44"), Format.IHEX, BASE),
        (("-intel", "-address-length=3"), Format.IHEX, 0x20000),  # segment addresses reach 1 MiB
        (("-motorola",), Format.SREC, BASE),
        (("-motorola", "-address-length=3"), Format.SREC, 0x20000),
        (("-motorola", "-address-length=2"), Format.SREC, 0x2000),
        (("-motorola", "-line-length=46"), Format.SREC, BASE),
    ],
)
def test_files_of_srecord_are_read(tmp_path: Path, output: tuple[str, ...], format_: Format, base: int) -> None:
    loadable = read_build_output(srec_cat(tmp_path, DATA, *output, at=base))
    assert (loadable.format, loadable.base, loadable.data, loadable.filled) == (format_, base, DATA, 0)


def test_every_format_of_one_build_is_the_same_image(built: Path) -> None:
    found = {
        kind: read_build_output((built / f"hive-scale-a.{kind}").read_bytes()) for kind in ("elf", "hex", "srec", "bin")
    }
    assert [one.format for one in found.values()] == [Format.ELF, Format.IHEX, Format.SREC, Format.RAW]
    assert len({one.data for one in found.values()}) == 1
    assert [found[kind].base for kind in ("elf", "hex", "srec", "bin")] == [BASE, BASE, BASE, None]
    plate = find_nameplate(found["elf"].data)
    assert plate is not None and (plate.version, plate.line, plate.build_id) == ("2.6.0", "hive-scale", "ta-test")
    other = read_build_output((built / "hive-scale-b.elf").read_bytes())
    assert other.base == 0x080A0000


def test_gaps_are_filled_as_erased_flash_is(tmp_path: Path) -> None:
    (tmp_path / "a").write_bytes(b"\x01" * 16)
    (tmp_path / "b").write_bytes(b"\x02" * 16)
    command = ["srec_cat", "a", "-binary", "b", "-binary", "-offset", "0x40", "-o", "out", "-intel"]
    subprocess.run(command, cwd=tmp_path, check=True, timeout=PATIENCE_S)
    loadable = read_build_output((tmp_path / "out").read_bytes())
    assert loadable.data == b"\x01" * 16 + b"\xff" * 48 + b"\x02" * 16
    assert loadable.filled == 48


def test_a_damaged_line_is_named(tmp_path: Path) -> None:
    for output, line in ((("-intel",), 8), (("-motorola",), 8)):
        lines = srec_cat(tmp_path, DATA, *output).splitlines()
        spoiled = bytearray(lines[line - 1])
        spoiled[12] = ord("0") if spoiled[12] != ord("0") else ord("1")
        lines[line - 1] = bytes(spoiled)
        assert f"line {line} of the" in refused(b"\n".join(lines) + b"\n")


def test_a_cut_off_file_is_named(tmp_path: Path) -> None:
    for output in ("-intel", "-motorola"):
        lines = srec_cat(tmp_path, DATA, output).splitlines()
        assert "was cut off" in refused(b"\n".join(lines[:20]) + b"\n")
        assert "line 20 of the" in refused(b"\n".join(lines[:20])[:-3])


def test_data_records_that_were_lost_are_noticed(tmp_path: Path) -> None:
    lines = srec_cat(tmp_path, DATA, "-motorola").splitlines()
    assert any(line.startswith(b"S5") for line in lines)
    del lines[5]
    assert "data records came before it" in refused(b"\n".join(lines))


def test_two_files_joined_are_refused(tmp_path: Path) -> None:
    for output in ("-intel", "-motorola"):
        one = srec_cat(tmp_path, DATA, output)
        assert "follows its end record" in refused(one + srec_cat(tmp_path, DATA, output, at=BASE + 0x10000)) or output
        assert "line" in refused(one + one)


def test_overlapping_records_are_refused(tmp_path: Path) -> None:
    lines = srec_cat(tmp_path, DATA, "-intel").splitlines()
    data = [line for line in lines if line[7:9] == b"00"]
    lines.insert(lines.index(data[3]) + 1, data[3])
    assert f"line {lines.index(data[3]) + 2} of the" in refused(b"\n".join(lines))


def test_addresses_far_apart_are_refused_before_memory_is_taken(tmp_path: Path) -> None:
    (tmp_path / "a").write_bytes(b"\x01" * 16)
    command = ["srec_cat", "a", "-binary", "a", "-binary", "-offset", hex(LARGEST_SPAN * 4), "-o", "out", "-intel"]
    subprocess.run(command, cwd=tmp_path, check=True, timeout=PATIENCE_S)
    said = refused((tmp_path / "out").read_bytes())
    assert "The widest gap" in said and "begins at 0x10" in said


def test_the_elf_files_that_are_not_the_one_that_runs(built: Path, tmp_path: Path) -> None:
    assert "debug twin" in refused((built / "hive-scale-a.debug").read_bytes())
    source = tmp_path / "main.c"
    source.write_text("int main(void) { return 0; }\n")
    subprocess.run(["gcc", "-c", "main.c", "-o", "main.o"], cwd=tmp_path, check=True, timeout=PATIENCE_S)
    assert "not linked" in refused((tmp_path / "main.o").read_bytes())
    subprocess.run(["gcc", "main.c", "-o", "hosted"], cwd=tmp_path, check=True, timeout=PATIENCE_S)
    assert "program for an operating system" in refused((tmp_path / "hosted").read_bytes())


def test_a_truncated_elf_file_says_where_it_ends(built: Path) -> None:
    whole = (built / "hive-scale-a.elf").read_bytes()
    assert "ELF file" in refused(whole[: len(whole) // 2])
    assert "cannot be read" in refused(whole[:40])


@given(data=st.data())
@settings(max_examples=200)
def test_whatever_became_of_a_file_it_is_read_or_refused(data: st.DataObject, built: Path) -> None:
    kind = data.draw(st.sampled_from(["elf", "hex", "srec"]))
    whole = bytearray((built / f"hive-scale-a.{kind}").read_bytes())
    for _ in range(data.draw(st.integers(1, 4))):
        at = data.draw(st.integers(0, len(whole) - 1))
        whole[at] = data.draw(st.integers(0, 255))
    cut = data.draw(st.integers(1, len(whole)))
    try:
        read_build_output(bytes(whole[:cut]))
    except Refused:
        pass


@pytest.mark.parametrize(
    ("head", "format_"),
    [
        (b":10010000214601360121470136007EFE09D2190140", Format.IHEX),
        (b"\r\n:00000001FF", Format.IHEX),
        (b"S00F000068656C6C6F", Format.SREC),
        (b"\x7fELF\x01", Format.ELF),
        (b": not hex", Format.RAW),
        (b"Sam said", Format.RAW),
        (b"", Format.RAW),
    ],
)
def test_formats_are_known_by_how_they_begin(head: bytes, format_: Format) -> None:
    assert format_of(head) is format_


def test_the_tools_are_there() -> None:
    assert all(shutil.which(tool) for tool in ("gcc", "objcopy", "srec_cat", "make"))
