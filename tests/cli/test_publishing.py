"""From build output to a published release, and what becomes of it, as it is typed."""

import json
import stat
from pathlib import Path

import pytest

from mellow_herald.core.keys import private_to_pem
from mellow_herald.core.nameplate import find_nameplate
from mellow_herald.core.suit import class_id
from tests.harness.build import build_firmware
from tests.harness.firmware import make_bytes
from tests.harness.service import PASSWORD, RunningService
from tests.harness.terminal import Terminal

BOARD_FILE = Path(__file__).parents[2] / "examples" / "boards" / "comb-s1.toml"


@pytest.fixture
def terminal(service: RunningService, tmp_path: Path) -> Terminal:
    made = Terminal(service, tmp_path)
    made.good("sign-in", "--name", "admin", stdin=f"{PASSWORD}\n")
    tmp_path.joinpath("key.pem").write_bytes(private_to_pem(service.publisher.key))
    tmp_path.joinpath("root.pem").write_bytes(private_to_pem(service.publisher.root))
    tmp_path.joinpath("image.bin").write_bytes(make_bytes("2.5.0"))
    return made


@pytest.fixture
def offline(tmp_path: Path, service: RunningService) -> Terminal:
    """A machine that reaches no service."""
    made = Terminal(service, tmp_path)
    made.environment |= {"HERALD_URL": "http://127.0.0.1:9"}
    return made


def test_a_release_goes_its_whole_way(terminal: Terminal, tmp_path: Path) -> None:
    image, key = tmp_path / "image.bin", tmp_path / "key.pem"
    assert "2.5.0 is the first of comb-s1/hive-scale" in terminal.good("image", "look", image)
    terminal.good("release", "seal", image, "--key", key, "-o", tmp_path / "it.suit", "--notes", "# Finer\n\nweighing")
    assert "release file, sealed" in terminal.good("image", "look", tmp_path / "it.suit")
    kept = terminal.good("release", "publish", tmp_path / "it.suit", "--draft", "--label", "ticket=HS-311")
    assert "is kept as a draft" in kept and "herald release publish comb-s1/hive-scale/2.5.0" in kept
    assert "○ draft" in terminal.good("release", "list", "--where", "ticket = HS-311")
    assert "as a draft" in terminal.good("release", "publish", tmp_path / "it.suit")
    assert "2.5.0 published" in terminal.good("release", "publish", "comb-s1/hive-scale/2.5.0")
    terminal.good("release", "edit", "1", "--label", "channel=stable", "--unlabel", "ticket")
    asked = terminal.run("release", "baseline", "1", "--reason", "the newest", stdin="n\n")
    assert asked.returncode == 1 and "Make comb-s1/hive-scale/2.5.0 the baseline" in asked.stderr
    assert "is the baseline" in terminal.good("release", "baseline", "1", "--reason", "the newest", "--yes")
    shown = terminal.good("release", "show", "comb-s1/hive-scale/2.5.0", "--manifest")
    for text in ("baseline", "channel = stable", "Finer", "read from the image", "/ vendor id / 1", "signed by"):
        assert text in shown, text
    assert json.loads(terminal.good("release", "show", "1", "--json"))["labels"] == {"channel": "stable"}
    assert "Every release is needed" in terminal.good("release", "clean")
    asked = terminal.run("release", "withdraw", "1", "--reason", "too heavy", stdin="n\n")
    assert asked.returncode == 1 and "rollouts that halt: none" in asked.stderr and "It is the baseline" in asked.stderr
    assert "withdrawn" in terminal.good("release", "withdraw", "1", "--reason", "too heavy", "--yes")
    assert "too heavy" in terminal.good("release", "show", "1")
    cleaned = terminal.good("release", "clean", "--yes")
    assert "comb-s1/hive-scale/2.5.0" in cleaned and "1 images gone" in cleaned


def test_a_draft_can_be_dropped(terminal: Terminal, tmp_path: Path) -> None:
    key = tmp_path / "key.pem"
    terminal.good("release", "publish", tmp_path / "image.bin", "--key", key, "--draft")
    assert terminal.run("release", "drop", "1", stdin="n\n").returncode == 1
    assert "dropped" in terminal.good("release", "drop", "1", "--yes")
    assert json.loads(terminal.good("release", "list", "--json")) == []
    assert "no release 1" in terminal.bad(1, "release", "show", "1")
    assert "no release comb-s1/hive-scale/9.9.9" in terminal.bad(1, "release", "publish", "comb-s1/hive-scale/9.9.9")


def test_a_refusal_shows_every_check_and_exits_with_1(terminal: Terminal, tmp_path: Path) -> None:
    key, image = tmp_path / "key.pem", tmp_path / "image.bin"
    terminal.good("release", "publish", image, "--key", key)
    image.write_bytes(make_bytes("2.4.0"))
    said = terminal.bad(1, "release", "publish", image, "--key", key)
    assert "■ refuse version" in said and "--lower-version" in said and said.endswith("refused (version).\n")
    assert "2.4.0 published" in terminal.good("release", "publish", image, "--key", key, "--lower-version")
    image.write_bytes(make_bytes("2.6.0", updater=0))
    assert "--cut-off-for-good" in terminal.bad(1, "release", "publish", image, "--key", key)
    looked = terminal.run("image", "look", image, "--json")
    found = json.loads(looked.stdout)
    assert looked.returncode == 1
    assert [check["name"] for check in found["checks"] if check["verdict"] == "refuse"] == ["updater"]
    assert "2.6.0 published" in terminal.good("release", "publish", image, "--key", key, "--cut-off-for-good")


def test_signing_needs_no_service_and_publishing_no_key(
    terminal: Terminal, offline: Terminal, tmp_path: Path, service: RunningService
) -> None:
    """A build pipeline seals where the key is; another machine publishes."""
    image, suit = tmp_path / "image.bin", tmp_path / "out" / "it.suit"
    arguments = ["--key", tmp_path / "key.pem", "--board-file", BOARD_FILE, "-o", suit, "--json"]
    sealed = json.loads(offline.good("release", "seal", image, *arguments))
    assert sealed["release"] == "comb-s1/hive-scale/2.5.0" and sealed["bytes"] == suit.stat().st_size
    assert {check["verdict"] for check in sealed["checks"]} == {"pass"}
    assert "cannot be reached" in offline.bad(1, "release", "seal", image, "--key", tmp_path / "key.pem", "-o", suit)
    looked = offline.run("image", "look", image)
    assert looked.returncode == 0 and "Publishing was not asked" in looked.stderr and "2.5.0" in looked.stdout
    (tmp_path / "key.pem").unlink()
    published = json.loads(terminal.good("release", "publish", suit, "--json"))
    assert published["manifest"] == service.herald.releases.show(1).manifest
    assert "--key" in terminal.bad(1, "release", "publish", image)
    altered = suit.read_bytes()[:-1] + b"\x00"
    (tmp_path / "altered.suit").write_bytes(altered.replace(b"2.5.0", b"2.5.1"))
    assert "digest" in terminal.bad(1, "release", "publish", tmp_path / "altered.suit")


def test_a_nameplate_is_made_as_c_or_as_bytes(offline: Terminal, tmp_path: Path) -> None:
    common = ["nameplate", "make", "--line", "hive-scale", "--board", "comb-s1", "--version", "2.6.0", "--floor", "4"]
    more = ["--hw-rev", "1-3", "--needs", "radio=1.2.0", "--build-time", "1795000000", "--build-id", "ta-1"]
    assert "bytes in" in offline.good(*common, *more, "-o", tmp_path / "plate.bin")
    plate = find_nameplate(tmp_path.joinpath("plate.bin").read_bytes())
    assert plate is not None
    assert (plate.version, plate.needs, plate.hw_rev_min, plate.hw_rev_max, plate.build_time, plate.build_id) == (
        "2.6.0",
        (("radio", "1.2.0"),),
        1,
        3,
        1795000000,
        "ta-1",
    )
    offline.good(*common, *more, "-o", tmp_path / "plate.c")
    assert 'section(".nameplate")' in tmp_path.joinpath("plate.c").read_text()
    for wrong, said in (
        (["--version", "2"], "'2' is not a version"),
        (["--hw-rev", "x"], "no range"),
        (["--hw-rev", "3-1"], "no revision"),
        (["--needs", "radio"], "COMPONENT=VERSION"),
        (["--build-time", "soon"], "no time"),
        (["--line", "a b"], "'a b'"),
    ):
        assert said in offline.bad(1, *common, *wrong, "-o", tmp_path / "wrong.c")
    assert not (tmp_path / "wrong.c").exists()


def test_the_debug_twin_and_other_wrong_files_are_named(offline: Terminal, tmp_path: Path) -> None:
    built = build_firmware(tmp_path)
    for name, said in (
        ("build/hive-scale-a.debug", "debug twin"),
        ("key.pem", "a private key"),
        ("main.c", "a text file"),
    ):
        if name == "key.pem":
            offline.good("key", "new", tmp_path / name)
        stated = ["--line", "hive-scale", "--board", "comb-s1", "--version", "1.0.0", "--floor", "1"]
        looked = offline.run("image", "look", tmp_path / name, *stated, "--board-file", BOARD_FILE)
        assert looked.returncode == 1 and said in looked.stdout, name
    assert "0x8020000 to 0x8020" in offline.good(
        "image", "look", built / "hive-scale-a.elf", "--board-file", BOARD_FILE
    )


def test_a_text_file_is_not_asked_for_a_nameplate_and_an_empty_one_is_called_empty(
    offline: Terminal, tmp_path: Path
) -> None:
    for name, data, said in (("notes.md", b"just words\n" * 9, "seems to be a text file"), ("e.bin", b"", "is empty")):
        (tmp_path / name).write_bytes(data)
        looked = offline.run("image", "look", tmp_path / name)
        assert looked.returncode == 1 and said in looked.stdout, looked.stdout
        assert "seems      firmware" not in looked.stdout and "the file holds no nameplate" not in looked.stdout


def test_both_images_of_a_board_are_looked_at_and_published_by_the_names_of_its_slots(
    terminal: Terminal, tmp_path: Path
) -> None:
    built = build_firmware(tmp_path)
    board = tmp_path / "board.toml"
    board.write_text(BOARD_FILE.read_text().replace("check_in", 'runs = "where-linked"\ncheck_in', 1))
    both = [built / "hive-scale-a.elf", built / "hive-scale-b.elf"]
    assert "no image for slot b" in terminal.run("image", "look", both[0], "--board-file", board).stdout
    looked = terminal.good("image", "look", *both, "--board-file", board)
    assert "for slot   a" in looked and "for slot   b" in looked
    terminal.good("board", "add", board)
    assert "only where it is linked for" in terminal.good("board", "show", "comb-s1")
    looked = terminal.run("image", "look", tmp_path / "release.toml")
    assert "2.6.0 is the first" in looked.stdout and looked.returncode == 0, looked
    published = terminal.good("release", "publish", *both, "--key", tmp_path / "key.pem")
    assert "app for slot a" in published and "app for slot b" in published


def test_a_locked_key_asks_for_its_passphrase(terminal: Terminal, tmp_path: Path) -> None:
    terminal.environment["HERALD_KEY_PASSPHRASE"] = "fern hollow"
    out = terminal.good("key", "new", tmp_path / "locked.pem", "--passphrase")
    assert "locked with a passphrase" in out and stat.S_IMODE((tmp_path / "locked.pem").stat().st_mode) == 0o600
    assert b"ENCRYPTED" in (tmp_path / "locked.pem").read_bytes()
    assert "private, locked" in terminal.good("key", "show", tmp_path / "locked.pem")
    terminal.good("key", "publish", "--root", tmp_path / "root.pem", "--active", tmp_path / "locked.pub.pem")
    terminal.good("release", "publish", tmp_path / "image.bin", "--key", tmp_path / "locked.pem")
    terminal.environment["HERALD_KEY_PASSPHRASE"] = "quillmere"
    arguments = ["release", "publish", tmp_path / "image.bin", "--key", tmp_path / "locked.pem"]
    assert "does not open the key" in terminal.bad(1, *arguments)
    del terminal.environment["HERALD_KEY_PASSPHRASE"]
    assert "the key is locked" in terminal.bad(1, *arguments)


def test_keys_are_added_retired_and_revoked_and_none_is_lost(terminal: Terminal, tmp_path: Path) -> None:
    root = ["--root", tmp_path / "root.pem"]
    terminal.good("key", "new", tmp_path / "second.pem")
    terminal.good("key", "publish", *root, "--active", tmp_path / "second.pub.pem")
    listed = {key["name"]: key for key in json.loads(terminal.good("key", "list", "--json"))["keys"]}
    assert {name: key["status"] for name, key in listed.items()} == {
        "active": "active",
        "old": "retired",
        "lost": "revoked",
        "second": "active",
    }
    terminal.good("release", "publish", tmp_path / "image.bin", "--key", tmp_path / "second.pem")
    asked = terminal.run("key", "revoke", tmp_path / "second.pub.pem", *root, stdin="n\n")
    assert asked.returncode == 1 and "signed 1 releases" in asked.stderr and "comb-s1/hive-scale/2.5.0" in asked.stderr
    second = listed["second"]["fingerprint"]
    assert "second retired" in terminal.good("key", "retire", second, *root, "--yes", "--out", tmp_path / "list.cose")
    assert "second" in terminal.good("key", "show", tmp_path / "list.cose")
    tmp_path.joinpath("image.bin").write_bytes(make_bytes("2.6.0"))
    arguments = ["release", "publish", tmp_path / "image.bin", "--key", tmp_path / "second.pem"]
    assert "is retired since key list 3" in terminal.bad(1, *arguments)
    assert "second revoked" in terminal.good("key", "revoke", second, *root, "--yes")
    assert "never comes back" in terminal.bad(1, "key", "publish", *root, "--active", tmp_path / "second.pub.pem")
    assert "no key 0000000000000000" in terminal.bad(1, "key", "retire", "0" * 16, *root)
    assert "revoked" in terminal.good("release", "show", "1")
    # The same off-line, from list to list.
    local = ["--local", "--out", tmp_path / "next.cose", "--before", tmp_path / "list.cose"]
    terminal.good("key", "publish", *root, "--revoked", tmp_path / "second.pub.pem", *local)
    found = json.loads(terminal.good("key", "show", tmp_path / "next.cose", "--json"))
    assert found["number"] == 4 and {key["name"]: key["status"] for key in found["keys"]}["second"] == "revoked"


def test_doctor_says_what_is_missing(terminal: Terminal, offline: Terminal, tmp_path: Path) -> None:
    (tmp_path / "key.pem").chmod(0o600)
    out = terminal.good("doctor", "--data-dir", tmp_path, "--key", tmp_path / "key.pem")
    for text in ("PostgreSQL", "console", "sign-in", "admin (admin)", "key list", "comb-s1"):
        assert text in out, text
    assert "none was found to stand wrong" in out
    (tmp_path / "key.pem").chmod(0o644)
    done = terminal.run("doctor", "--data-dir", tmp_path, "--key", tmp_path / "key.pem", "--json")
    assert done.returncode == 1
    (key,) = [check for check in json.loads(done.stdout)["checks"] if check["name"] == "key"]
    assert key["verdict"] == "refuse" and key["mend"] == f"chmod 600 {tmp_path / 'key.pem'}"
    nobody = offline.good("doctor", "--data-dir", tmp_path)
    assert "cannot be reached" in nobody


def test_boards_are_shown_with_their_slots(terminal: Terminal, tmp_path: Path) -> None:
    terminal.good("board", "add", BOARD_FILE)
    shown = terminal.good("board", "show", "comb-s1")
    assert class_id("thistledown.example", "comb-s1", "hive-scale").hex in shown
    assert "0x08020000" in shown and "assets" in shown and "two slots for app" in shown
    file = tmp_path / "bract.toml"
    file.write_text(
        'name = "bract-r1"\nvendor_domain = "thistledown.example"\nlines = ["forage-sensor"]\nhw_revs = [1]\n'
        'check_in = "15m"\ncheck_in_exceptions = [{ where = "power = battery", every = "6h" }]\n'
        '[[slots]]\nname = "flash"\nsize = 262144\n'
    )
    assert "no way back without a download" in terminal.good("board", "add", file)
    assert "6h where power = battery" in terminal.good("board", "show", "bract-r1")
    assert "no, single slot" in terminal.good("board", "list")
