"""The command as it is typed: its own process, what it prints and how it exits."""

import json
import stat
import subprocess
import sys
from pathlib import Path

import pytest

from tests.harness.device import PuppetDevice
from tests.harness.firmware import make_bytes
from tests.harness.patience import PATIENCE_S
from tests.harness.service import PASSWORD, RunningService
from tests.harness.terminal import Terminal


@pytest.fixture(scope="module")
def terminal(shared_service: RunningService, tmp_path_factory: pytest.TempPathFactory) -> Terminal:
    made = Terminal(shared_service, tmp_path_factory.mktemp("terminal"))
    made.good("sign-in", "--name", "admin", stdin=f"{PASSWORD}\n")
    from mellow_herald.core.keys import private_to_pem

    made.folder.joinpath("key.pem").write_bytes(private_to_pem(shared_service.publisher.key))
    return made


def test_help_and_wrong_usage(terminal: Terminal) -> None:
    text = terminal.good("--help")
    for noun in ("serve", "demo", "sign-in", "key", "board", "release", "code", "device", "rollout", "sim", "journal"):
        assert noun in text
    assert "No such command" in terminal.bad(2, "fly")
    assert "Missing argument" in terminal.bad(2, "release", "publish")


def test_it_starts_from_a_shell(terminal: Terminal) -> None:
    command = [sys.executable, "-m", "mellow_herald.cli.main", "whoami"]
    done = subprocess.run(command, env=terminal.environment, capture_output=True, text=True, timeout=PATIENCE_S)
    assert (done.returncode, done.stdout, done.stderr) == (0, "admin (admin)\n", "")


def test_signing_in_keeps_a_token_for_the_owner_alone(terminal: Terminal, tmp_path: Path) -> None:
    assert terminal.good("whoami") == "admin (admin)\n"
    assert json.loads(terminal.good("whoami", "--json")) == {
        "name": "admin",
        "roles": ["admin"],
        "must_change": False,
        "only": None,
    }
    kept = terminal.folder / "credentials.json"
    assert stat.S_IMODE(kept.stat().st_mode) == 0o600
    assert PASSWORD not in kept.read_text()


def test_not_signed_in_exits_with_3(shared_service: RunningService, tmp_path: Path) -> None:
    stranger = Terminal(shared_service, tmp_path)
    assert "herald: listing devices: Sign in" in stranger.bad(3, "device", "list")
    done = stranger.run("sign-in", "--name", "admin", stdin="wrong\n")
    assert done.returncode == 3 and "Name or password is wrong" in done.stderr


def test_a_service_that_is_not_there(shared_service: RunningService, tmp_path: Path) -> None:
    nowhere = Terminal(shared_service, tmp_path)
    nowhere.environment |= {"HERALD_URL": "http://127.0.0.1:9", "HERALD_TOKEN": "x"}
    assert "cannot be reached" in nowhere.bad(1, "board", "list")


def test_keys_are_made_for_the_owner_alone_and_never_overwritten(terminal: Terminal, tmp_path: Path) -> None:
    out = terminal.good("key", "new", tmp_path / "k.pem")
    assert stat.S_IMODE((tmp_path / "k.pem").stat().st_mode) == 0o600
    fingerprint, kind = terminal.good("key", "show", tmp_path / "k.pub.pem").split()
    assert kind == "public"
    assert fingerprint in out and len(fingerprint) == 16
    before = (tmp_path / "k.pem").read_bytes()
    assert "never overwritten" in terminal.bad(1, "key", "new", tmp_path / "k.pem")
    assert (tmp_path / "k.pem").read_bytes() == before
    assert "cannot be read" in terminal.bad(1, "key", "show", tmp_path / "none.pem")
    (tmp_path / "text.pem").write_text("hello")
    assert "no Ed25519 public key" in terminal.bad(1, "key", "show", tmp_path / "text.pem")


def test_a_key_list_is_signed_and_published(terminal: Terminal, shared_service: RunningService, tmp_path: Path) -> None:
    from mellow_herald.core.keys import private_to_pem

    root = tmp_path / "root.pem"
    root.write_bytes(private_to_pem(shared_service.publisher.root))
    active = terminal.folder / "key.pem"
    out = terminal.good("key", "publish", "--root", root, "--active", active, "--out", tmp_path / "list.cose")
    number = shared_service.herald.keys.newest().number
    assert f"Key list {number} published" in out and (tmp_path / "list.cose").stat().st_size > 100
    assert "active" in terminal.good("key", "list")
    assert "no key was named" in terminal.bad(1, "key", "publish", "--root", root)
    assert "must go somewhere" in terminal.bad(1, "key", "publish", "--root", root, "--active", active, "--local")


def test_publishing_says_what_was_published_or_what_is_wrong(terminal: Terminal, tmp_path: Path) -> None:
    key, image = terminal.folder / "key.pem", tmp_path / "image.bin"
    image.write_bytes(make_bytes("4.0.0"))
    out = terminal.good("release", "publish", image, "--key", key, "--notes", "[b]not markup[/b]")
    assert "comb-s1/hive-scale/4.0.0 published" in out and "read from its nameplate" in out
    assert "is there already" in terminal.good("release", "publish", image, "--key", key)
    listed = terminal.good("release", "list")
    assert "4.0.0" in listed and "[b]not markup[/b]" in listed
    assert json.loads(terminal.good("release", "list", "--json"))[0]["version"] == "4.0.0"

    (tmp_path / "empty.bin").write_bytes(b"")
    assert "file is empty" in terminal.bad(
        1, "release", "publish", tmp_path / "empty.bin", "--key", key, "--board", "comb-s1"
    )
    assert "cannot be read" in terminal.bad(1, "release", "publish", tmp_path / "none.bin", "--key", key)
    assert "was stated as '9.9.9'" in terminal.bad(1, "release", "publish", image, "--key", key, "--version", "9.9.9")
    image.write_bytes(make_bytes("4.0.0", fill=b"\x01\x02"))
    assert "published before, with other bytes" in terminal.bad(1, "release", "publish", image, "--key", key)
    image.write_bytes(make_bytes("4.0.1", board="comb-s9"))
    assert "no board 'comb-s9'" in terminal.bad(1, "release", "publish", image, "--key", key)
    terminal.good("key", "new", tmp_path / "stranger.pem")
    image.write_bytes(make_bytes("4.0.1"))
    assert "no key with fingerprint" in terminal.bad(1, "release", "publish", image, "--key", tmp_path / "stranger.pem")


def test_an_image_without_nameplate_is_published_as_stated(terminal: Terminal, tmp_path: Path) -> None:
    image = tmp_path / "plain.bin"
    image.write_bytes(b"plain code\0" * 100)
    key = ["--key", str(terminal.folder / "key.pem")]
    assert "no nameplate" in terminal.bad(1, "release", "publish", image, *key)
    stated = ["--board", "comb-s1", "--line", "hive-scale", "--version", "4.1.0", "--floor", "4"]
    assert "as stated" in terminal.good("release", "publish", image, *key, *stated)


def test_board_files_are_blamed_at_the_right_place(terminal: Terminal, tmp_path: Path) -> None:
    file = tmp_path / "board.toml"
    file.write_text('name = "comb-s8"\nvendor_domain = "thistledown.example"\nlines = ["hive-scale"]\nhw_revs = [1]\n')
    assert "slots is missing" in terminal.bad(1, "board", "add", file)
    several = tmp_path / "several.toml"
    several.write_text('name = "comb-s8"\nhw_rev = [1]\n[[slots]]\nnme = "a"\n[[components]]\nkind = "file"\n')
    said = terminal.bad(1, "board", "add", several)
    for line in (
        "vendor_domain is missing",
        "hw_rev is not a key that is known here; did you mean hw_revs?",
        "slots.0.nme is not a key that is known here; did you mean name?",
        "components.0: a file has a place and a size in bytes",
    ):
        assert f"  {line}" in said
    assert "things are wrong" in said.splitlines()[-1]
    file.write_text(file.read_text() + '[[slots]]\nname = "a"\nsize = 4096\n')
    assert "Board comb-s8" in terminal.good("board", "add", file)
    assert "comb-s8" in terminal.good("board", "list")
    file.write_text("name = \n")
    assert "is not TOML" in terminal.bad(1, "board", "add", file)
    file.write_bytes(b"\xff\xfe\x00")
    assert "not a text file" in terminal.bad(1, "board", "add", file)


def test_a_fleet_and_a_rollout_from_the_terminal(
    terminal: Terminal, shared_service: RunningService, tmp_path: Path
) -> None:
    key, image = terminal.folder / "key.pem", tmp_path / "image.bin"
    for version in ("5.0.0", "5.1.0"):
        image.write_bytes(make_bytes(version))
        terminal.good("release", "publish", image, "--key", key)
    code = json.loads(terminal.good("code", "new", "--board", "comb-s1", "--line", "hive-scale", "--json"))["code"]
    assert "0 of 1000" in terminal.good("code", "list") and code not in terminal.good("code", "list")
    device = PuppetDevice(shared_service.url, "CLI-1", version="5.0.0")
    device.enrol(code, labels={"site": "fernhollow"}).raise_for_status()
    device.checkin()
    assert "CLI-1" in terminal.good("device", "list", "--where", "site = fernhollow")
    assert "goes wrong at character" in terminal.bad(1, "device", "list", "--where", "site == x")
    assert "no device 'CLI-9'" in terminal.bad(1, "device", "show", "CLI-9")

    plan = tmp_path / "plan.toml"
    plan.write_text(
        'name = "5.1.0 to one"\nrelease = "comb-s1/hive-scale/5.1.0"\ntarget = "site = fernhollow"\n'
        '[numbers]\nretries = 0\n[[rings]]\nname = "all"\nsoak = "0s"\n'
    )
    asked = terminal.run("rollout", "start", plan, stdin="n\n")
    assert asked.returncode == 1 and "on 1 devices?" in asked.stderr and "1 targeted, 1 eligible" in asked.stdout
    assert "Rollout 1 started" in terminal.good("rollout", "start", plan, "--yes")
    shared_service.wait_for(1, lambda r: r.states.get("queued") == 1)
    device.checkin()
    device.stage("5.1.0")
    device.checkin()
    device.report("installing")
    device.report("reverted", reason="self-test-failed")
    shown = terminal.good("rollout", "show", "1")
    assert "self-test-failed" in shown and "CLI-1" in shown and "reverted 1" in shown
    assert json.loads(terminal.good("rollout", "show", "1", "--json"))["states"] == {"reverted": 1}
    assert "reverted" in terminal.good("device", "show", "CLI-1")
    assert json.loads(terminal.good("device", "show", "CLI-1", "--json"))["serial"] == "CLI-1"
    assert "halted" in terminal.good("rollout", "halt", "1", "--reason", "bad news", "--yes")
    watched = terminal.run("rollout", "watch", "1")
    assert watched.returncode == 4, "halted"
    assert "5.1.0 to one" in terminal.good("rollout", "list")
    assert "rollout halted" in terminal.good("journal")
    assert "cannot become held" in terminal.bad(1, "rollout", "hold", "1", "--reason", "too late", "--yes")
    plan.write_text(plan.read_text().replace("soak", "soaking"))
    assert "rings[1].soaking: there is no soaking; did you mean soak?" in terminal.bad(
        1, "rollout", "start", plan, "--yes"
    )


def test_a_taken_port_is_said_and_how_to_choose_another(shared_service: RunningService, tmp_path: Path) -> None:
    port = shared_service.url.rpartition(":")[2]
    said = Terminal(shared_service, tmp_path).bad(1, "serve", "--port", port, "--data-dir", tmp_path / "d")
    assert f"port {port}" in said and f"--port {int(port) + 1}" in said
    assert not (tmp_path / "d").exists(), "nothing was begun"


def test_scenarios_are_checked_before_anything_runs(terminal: Terminal, tmp_path: Path) -> None:
    assert "cannot be read" in terminal.bad(1, "sim", "run", tmp_path / "none.toml")
    (tmp_path / "s.toml").write_text('vendor_domain = "x"\n')
    assert "root is missing" in terminal.bad(1, "sim", "run", tmp_path / "s.toml")


def test_pipes_that_close_early_are_no_error(terminal: Terminal) -> None:
    command = f"{sys.executable} -m mellow_herald.cli.main journal --json --limit 1000 | head -1"
    done = subprocess.run(
        command, shell=True, env=terminal.environment, capture_output=True, text=True, timeout=PATIENCE_S
    )
    assert done.returncode == 0 and "Traceback" not in done.stderr


def test_devices_are_admitted_labelled_and_picked_by_a_selection(
    terminal: Terminal, shared_service: RunningService
) -> None:
    new = ["code", "new", "--board", "comb-s1", "--line", "hive-scale", "--json"]
    code = json.loads(terminal.good(*new, "--ask"))
    device = PuppetDevice(shared_service.url, "ASK-1")
    device.enrol(code["code"]).raise_for_status()
    assert "asks" in terminal.good("code", "list")
    asked = terminal.run("device", "admit", "--where", "admission = asking", stdin="n\n")
    assert asked.returncode == 1 and "Admit 1 devices?" in asked.stderr
    assert "admitted: 1: ASK-1" in terminal.good("device", "admit", "ASK-1", "--yes")
    assert "say which devices" in terminal.bad(1, "device", "admit")
    assert "bench = 2" in terminal.good("device", "label", "ASK-1", "bench=2", "site=")
    assert "is no label" in terminal.bad(1, "device", "label", "ASK-1", "bench")
    terminal.good("device", "note", "ASK-1", "behind the shed")
    assert "behind the shed" in terminal.good("device", "show", "ASK-1")
    assert "bench: 1 devices now" in terminal.good("selection", "save", "bench", "bench = 2", "--note", "on my desk")
    assert "ASK-1" in terminal.good("device", "list", "--where", "@bench")
    assert "on my desk" in terminal.good("selection", "show", "bench")
    assert "bench = 2" in terminal.good("selection", "list")
    assert "is no fact; hw_rev is" in terminal.bad(1, "selection", "save", "x", "hwrev = 2")
    terminal.good("selection", "drop", "bench", "--yes")
    assert "pinned for 3d: 1: ASK-1" in terminal.good("device", "pin", "ASK-1", "--for", "3d", "--reason", "measuring")
    assert "by admin: measuring" in terminal.good("device", "show", "ASK-1")
    assert "let go: 1" in terminal.good("device", "pin", "ASK-1", "--off", "--reason", "done")
    assert "may enrol once more" in terminal.good("device", "allow-enrolment", "ASK-1", "--reason", "new flash")
    assert "retired: 1" in terminal.good("device", "retire", "ASK-1", "--reason", "given away", "--yes")
    assert "closed" in terminal.good("code", "close", str(code["id"]))
