"""What a device says reaches the terminal as text: no escape, no line of its own, no word turned about."""

import csv
import io
import json
from pathlib import Path

import pytest

from tests.harness.device import PuppetDevice
from tests.harness.firmware import make_image
from tests.harness.service import PASSWORD, RunningService
from tests.harness.terminal import Terminal

CLIPBOARD = "\x1b]52;c;cm0gLXJm\x07"
BAD = f"fern{CLIPBOARD}\r\nadmitted \u202e\x9b2J"
OBEYED = ("\x1b", "\x07", "\r", "\u202e", "\x9b")


@pytest.fixture
def terminal(service: RunningService, tmp_path: Path) -> Terminal:
    made = Terminal(service, tmp_path)
    made.good("sign-in", "--name", "admin", stdin=f"{PASSWORD}\n")
    service.publish("2.4.0").raise_for_status()
    notes = f"# Finer\n\n{BAD}"
    service.post_release(service.publisher.sealed([make_image("2.5.0")], notes)).raise_for_status()
    device = PuppetDevice(service.url, "TA-0")
    device.enrol(service.code(), labels={"site": BAD}).raise_for_status()
    device.checkin(condition={"link": "wifi"}).raise_for_status()
    service.herald.rollouts.start(service.plan(retries=0))
    device.checkin().raise_for_status()
    device.report("downloading", step="fetch", percent=10, detail=BAD)
    device.report("failed", reason="no-room", detail=BAD, log=f"line one\n{BAD}")
    lines = json.dumps({"lines": [{"boots": 1, "number": 1, "text": BAD}]}).encode()
    assert device.post("/logs", lines).status_code == 204
    service.herald.devices.label(["TA-0"], {"room": BAD})
    return made


@pytest.mark.parametrize(
    "command",
    [
        ("device", "show", "TA-0"),
        ("device", "list"),
        ("device", "log", "TA-0"),
        ("rollout", "failures", "1", "--logs"),
        ("rollout", "attempts", "1"),
        ("rollout", "show", "1"),
        ("rollout", "suspects", "1"),
        ("rollout", "report", "1"),
        ("rollout", "watch", "1", "--until", "end"),
        ("release", "show", "comb-s1/hive-scale/2.5.0"),
        ("journal",),
    ],
)
def test_every_command_shows_it_as_text(terminal: Terminal, command: tuple[str, ...]) -> None:
    done = terminal.run(*command)
    said = done.stdout + done.stderr
    assert not [hex(ord(one)) for one in OBEYED if one in said], said
    assert "Traceback" not in said


def test_it_is_seen_that_something_was_there(terminal: Terminal) -> None:
    assert "␛]52;c;cm0gLXJm␇␍␊admitted ⟨U+202E⟩⟨U+009B⟩2J" in terminal.good("device", "log", "TA-0")


def test_programs_get_the_very_words_and_terminals_no_control_in_them(terminal: Terminal) -> None:
    said = terminal.good("device", "show", "TA-0", "--json")
    assert json.loads(said)["labels"]["room"] == BAD
    assert not [hex(ord(one)) for one in OBEYED if one in said]
    rows = list(csv.DictReader(io.StringIO(terminal.good("device", "export"), newline="")))
    assert rows[0]["label.room"].lstrip("'") == BAD.replace("\r\n", "\n"), "as far as a pipe read as text keeps it"
