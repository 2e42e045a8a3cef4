"""Sealing on the engineer's own machine: files of every format, several components, release sheets."""

import asyncio
from pathlib import Path
from typing import Any

import pytest

from mellow_herald.client import AsyncHerald, Herald
from mellow_herald.client.images import open_firmware
from mellow_herald.client.looking import look
from mellow_herald.client.sealing import is_release_file, open_release_file, seal_files
from mellow_herald.core.envelope import EnvelopeReader, PayloadPiece
from mellow_herald.core.formats import Format
from mellow_herald.core.manifest import verify_envelope
from mellow_herald.core.refusal import Refused
from mellow_herald.core.verdict import Allowed, ChecksFailed
from mellow_herald.wire.board import BoardIn
from tests.harness.build import build_firmware
from tests.harness.firmware import DOMAIN, Publisher, make_bytes
from tests.harness.service import RunningService

PUBLISHER = Publisher()
SLOTS = [
    {"name": "a", "size": 524288, "address": 0x0802_0000},
    {"name": "b", "size": 524288, "address": 0x080A_0000},
    {"name": "files", "size": 65536, "component": "assets"},
]


def board(**change: Any) -> BoardIn:
    values = {"name": "comb-s1", "vendor_domain": DOMAIN, "lines": ["hive-scale"], "hw_revs": [1, 2, 3], "slots": SLOTS}
    return BoardIn.model_validate({**values, **change})


def seal(*files: Path, boards: BoardIn | None = None, **options: Any) -> Any:
    return seal_files(list(files), PUBLISHER.key, [boards or board()], **options)


@pytest.fixture(scope="module")
def project(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("firmware")
    build_firmware(folder)
    return folder


def test_a_sealed_file_is_what_it_says_and_is_written_whole_or_not_at_all(tmp_path: Path) -> None:
    image = tmp_path / "image.bin"
    image.write_bytes(make_bytes())
    sealed = seal(image, notes="finer weighing", labels={"ticket": "HS-311"})
    out, told = tmp_path / "deep" / "it.suit", []
    sealed.write(out, told.append)
    assert out.stat().st_size == sealed.length == told[-1]
    assert is_release_file(out) and not is_release_file(image) and not is_release_file(tmp_path / "none")
    opened = open_release_file(out)
    assert opened.manifest == sealed.manifest and opened.length == sealed.length
    assert b"".join(opened.portions()) == out.read_bytes() == b"".join(sealed.portions())
    verified = verify_envelope(opened.envelope, PUBLISHER.trusted(), new_release=True)
    assert verified.manifest.description == "finer weighing"
    pieces = [event.data for event in EnvelopeReader().feed(out.read_bytes()) if isinstance(event, PayloadPiece)]
    assert b"".join(pieces) == image.read_bytes()
    assert [path.name for path in out.parent.iterdir()] == ["it.suit"]
    (tmp_path / "short.suit").write_bytes(out.read_bytes()[:200])
    with pytest.raises(Refused, match="ends before its manifest"):
        open_release_file(tmp_path / "short.suit")
    with pytest.raises(Refused, match="cannot be written"):
        sealed.write(image / "below-a-file.suit")


def test_a_sheet_names_slots_and_components(project: Path, tmp_path: Path) -> None:
    sealed = seal(project / "release.toml", boards=board(runs="where-linked"))
    assert [(one.slot, one.address) for one in sealed.manifest.components] == [(0, 0x0802_0000), (1, 0x080A_0000)]
    assert sealed.labels == {"ticket": "HS-311"} and sealed.manifest.description.startswith("Finer weighing")
    (tmp_path / "notes.md").write_text("# From a file")
    (tmp_path / "image.bin").write_bytes(make_bytes())
    (tmp_path / "sounds.img").write_bytes(b"\x01sound" * 100)
    sheet = tmp_path / "release.toml"
    sheet.write_text(
        'notes_file = "notes.md"\nversion = "2.5.3"\nindependent = true\n'
        '[[images]]\nfile = "image.bin"\nafter = ["assets"]\n'
        '[[images]]\nfile = "sounds.img"\ncomponent = "assets"\nline = "hive-scale"\nboard = "comb-s1"\n'
        'version = "1.0.0"\nfloor = 4\n'
    )
    manifest = seal(sheet).manifest
    assert (manifest.version, manifest.independent, manifest.description) == ("2.5.3", True, "# From a file")
    assert manifest.images_of("app")[0].after == ("assets",)


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (('file = "image.bin"', 'file = "none.bin"'), "none.bin cannot be read"),
        (('file = "image.bin"', 'file = "image.bin"\nslot = "z"'), "no slot 'z'"),
        (('file = "image.bin"', 'file = "image.bin"\nversion = "9.9.9"'), "was stated as '9.9.9'"),
        (('file = "image.bin"', 'file = "image.bin"\nafter = ["radio"]'), "does not carry"),
        (('file = "image.bin"', 'fiel = "image.bin"'), "images.0"),
        (('file = "image.bin"', 'file = "image.bin"\n[[images]]\nfile = "image.bin"'), "2 images of component app"),
        (("[[images]]", 'notes_file = "none.md"\n[[images]]'), "none.md cannot be read"),
    ],
)
def test_a_sheet_is_blamed_at_the_right_place(tmp_path: Path, change: tuple[str, str], said: str) -> None:
    (tmp_path / "image.bin").write_bytes(make_bytes())
    sheet = tmp_path / "release.toml"
    sheet.write_text('[[images]]\nfile = "image.bin"\n'.replace(*change))
    with pytest.raises(Refused, match=said):
        seal(sheet)


def test_the_slot_follows_from_the_address_where_code_is_position_dependent(project: Path) -> None:
    both = [project / "build" / f"hive-scale-{slot}.hex" for slot in "ba"]
    sealed = seal(*both, boards=board(runs="where-linked"))
    assert [one.slot for one in sealed.manifest.components] == [1, 0]
    with pytest.raises(ChecksFailed, match="no image for slot b"):
        seal(both[1], boards=board(runs="where-linked"))
    with pytest.raises(ChecksFailed, match="linked for 0x80a0000; the slots of comb-s1 are a at 0x8000000"):
        seal(both[0], boards=board(slots=[{"name": "a", "size": 524288, "address": 0x0800_0000}]))


def test_what_is_said_twice_or_for_many_is_refused(project: Path, tmp_path: Path) -> None:
    with pytest.raises(Refused, match="a release sheet says everything itself"):
        seal(project / "release.toml", stated={"version": "1.0.0"})
    both = [project / "build" / f"hive-scale-{slot}.hex" for slot in "ab"]
    with pytest.raises(Refused, match="several images they could be meant for"):
        seal(*both, stated={"version": "1.0.0"})
    with pytest.raises(Refused, match="no board 'comb-s1'"):
        seal(*both, boards=board(name="comb-s2"))


def test_firmware_that_would_cut_devices_off_needs_so_many_words(tmp_path: Path) -> None:
    image = tmp_path / "image.bin"
    image.write_bytes(make_bytes(updater=0))
    with pytest.raises(Refused, match="--cut-off-for-good"):
        seal(image)
    sealed = seal(image, allowed=Allowed(cut_off_for_good=True))
    assert [check.name for check in sealed.checks if check.verdict == "warn"] == ["updater"]


def test_a_damaged_file_is_named(tmp_path: Path) -> None:
    broken = tmp_path / "broken.hex"
    broken.write_text(":10010000214601360121470136007EFE09D2190140\n:1001\n")
    with pytest.raises(Refused, match=r"broken\.hex: line 2 of the Intel HEX file"):
        open_firmware(broken)
    looked = look([broken])
    assert looked.manifest is None and looked.refusal is not None and looked.refusal.kind == "damaged-file"
    with pytest.raises(Refused, match="cannot be read"):
        look([tmp_path / "none.bin"])


def test_a_look_tells_what_is_in_a_file(project: Path, tmp_path: Path) -> None:
    (looked,) = look([project / "build" / "hive-scale-a.srec"]).files
    assert looked.opened is not None and looked.opened.format is Format.SREC and looked.opened.base == 0x0802_0000
    assert looked.image is not None and looked.image.nameplate.version == "2.6.0" and looked.image.read
    out = tmp_path / "it.suit"
    seal(project / "build" / "hive-scale-a.elf").write(out)
    (sealed,) = look([out]).files
    assert sealed.release_file is not None and sealed.release_file.manifest.version == "2.6.0"


def test_all_images_of_a_release_are_looked_at_together(project: Path) -> None:
    fixed = board(runs="where-linked")
    both = [project / "build" / f"hive-scale-{slot}.hex" for slot in "ab"]
    alone = look(both[:1], [fixed]).checked_here(Allowed())
    assert [check.kind for check in alone.checks if check.verdict == "refuse"] == ["slot-missing"]
    for files in (both, [project / "release.toml"]):
        looked = look(files, [fixed]).checked_here(Allowed())
        assert [image.slot for image in looked.images] == [0, 1] and looked.manifest is not None
        assert not [check for check in looked.checks if check.verdict == "refuse"]
        asked = looked.question(Allowed())
        assert asked is not None and [image.slot for image in asked.images] == [0, 1]
    twice = look([both[0], both[0]], [fixed])
    assert twice.manifest is None and twice.refusal is not None and "2 images of component app" in str(twice.refusal)


def test_both_clients_seal_look_and_publish(service: RunningService, tmp_path: Path) -> None:
    image, key = tmp_path / "image.bin", service.publisher.key
    image.write_bytes(make_bytes("2.5.0"))
    looked = service.herald.releases.look(image)
    assert looked.checks and not [check for check in looked.checks if check.verdict == "refuse"]
    service.herald.releases.seal(image, key=key).write(tmp_path / "it.suit")
    sent: list[int] = []
    draft = service.herald.releases.publish(tmp_path / "it.suit", draft=True, progress=sent.append)
    assert draft.state == "draft" and sent[-1] == (tmp_path / "it.suit").stat().st_size
    with pytest.raises(Refused, match="signed before it is published"):
        service.herald.releases.publish(image)

    async def again() -> None:
        async with AsyncHerald(service.url, token=service.token) as herald:
            assert (await herald.releases.look(image)).checks
            image.write_bytes(make_bytes("2.6.0"))
            release = await herald.releases.publish([image], key=key, labels={"a": "b"}, progress=sent.append)
            assert (release.version, release.labels) == ("2.6.0", {"a": "b"})
            sealed = await herald.releases.seal(image, key=key)
            assert (await herald.releases.upload(sealed)).already_there
            assert (await herald.releases.publish(tmp_path / "it.suit")).already_there
            assert [one.version async for one in herald.releases.each()] == ["2.6.0", "2.5.0"]
            assert (await herald.releases.find("comb-s1/hive-scale/2.6.0")).id == release.id
            assert (await herald.boards.show("comb-s1")).name == "comb-s1"

    asyncio.run(again())


def test_every_word_about_a_release_goes_through_both_clients(service: RunningService) -> None:
    first = service.publish("2.4.0").json()["id"]
    service.publish("2.5.0")

    async def act() -> None:
        async with AsyncHerald(service.url, token=service.token) as herald:
            releases = herald.releases
            assert (await releases.edit(first, notes="n", revision=1)).notes == "n"
            assert (await releases.make_baseline(first, "for new ones")).baseline
            assert (await releases.foresee_withdrawal(first)).baseline
            assert (await releases.withdraw(first, "no good")).release.endswith("2.4.0")
            assert (await releases.manifest(first)).key_status == "active"
            assert (await releases.envelope(first))[:2] == b"\xd8\x6b"
            assert [one.id for one in await releases.unused()] == [first]
            assert (await releases.clean([first])).images == 1
            assert (await releases.lineage("comb-s1", "hive-scale")).line == "hive-scale"
            assert (await releases.show(first)).cleaned_at is not None
            with pytest.raises(Refused, match=r"no release comb-s1/hive-scale/9\.9\.9"):
                await releases.find("comb-s1/hive-scale/9.9.9")

    asyncio.run(act())
    with Herald(service.url, token=service.token) as herald:
        assert herald.releases.find("2").version == "2.5.0"
        assert herald.releases.envelope(first)[:2] == b"\xd8\x6b"
        with pytest.raises(Refused, match="does not name a release"):
            herald.releases.find("2.5.0/x")
