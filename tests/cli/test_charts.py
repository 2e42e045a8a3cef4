"""Chart pages from the terminal."""

import json
import tomllib
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from tests.harness.device import PuppetDevice
from tests.harness.patience import until
from tests.harness.service import RunningService
from tests.harness.terminal import Terminal
from tests.service.readings.test_readings import board

PAGE = """
name = "Weighing at night"
where = "site = fernhollow"
last = "30m"

[[rows]]
signals = ["weight", "activity"]
height = 300

[[rows]]
signals = ["weight"]
against = "temperature"
"""


@pytest.fixture
def terminal(service: RunningService, tmp_path: Path) -> Terminal:
    """With a scale that has sent ten minutes of its readings."""
    service.herald.boards.add(board())
    device = PuppetDevice(service.url, "TA-1")
    device.enrol(service.code(), labels={"site": "fernhollow"}).raise_for_status()
    device.checkin()
    begin = datetime.now(UTC) - timedelta(minutes=10)
    values = {
        "weight": [40.0 + step / 10 for step in range(60)],
        "temperature": [20.0 - step / 20 for step in range(60)],
        "activity": ["resting" if step < 30 else "weighing" for step in range(60)],
    }
    sent = {"blocks": [{"at": begin.timestamp(), "after_ms": [10_000 * n for n in range(60)], "values": values}]}
    device.post("/readings", json.dumps(sent).encode()).raise_for_status()
    until(lambda: len(service.herald.readings.latest("serial = TA-1")) == 3)
    made = Terminal(service, tmp_path)
    made.environment["HERALD_TOKEN"] = service.token
    return made


def test_a_page_is_kept_drawn_changed_written_and_dropped(terminal: Terminal, tmp_path: Path) -> None:
    file = tmp_path / "night.toml"
    file.write_text(PAGE)
    assert "No chart pages" in (none := terminal.good("chart", "list")) or "0 chart pages" in none
    assert "Weighing at night: kept by you, for yourself" in terminal.good("chart", "keep", file)
    drawn = terminal.good("chart", "show", "1")
    assert "weight [kg]" in drawn and "weight [kg] against temperature [Cel]" in drawn
    assert "TA-1" in drawn and "weighing" in drawn, "words are told as words"
    assert "least 40, most 45.9 kg" in drawn

    terminal.good("chart", "style", "TA-1", "--name", "by the oak", "--colour", "#2f7f6f")
    assert "by the oak" in terminal.good("chart", "style")
    assert "by the oak  " in terminal.good("chart", "show", "1", "--last", "1h")
    terminal.good("chart", "style", "TA-1")
    assert "by the oak" not in terminal.good("chart", "style")

    assert "changed, kept by you, for everybody" in terminal.good("chart", "change", "1", "--shared")
    file.write_text(PAGE.replace("Weighing at night", "Night"))
    terminal.good("chart", "change", "1", file)
    (listed,) = json.loads(terminal.good("chart", "list", "--json"))
    assert (listed["name"], listed["shared"], listed["edition"]) == ("Night", True, 3)
    written = tmp_path / "written.toml"
    terminal.good("chart", "write", "1", "--out", written)
    assert tomllib.loads(written.read_text()) == {**tomllib.loads(file.read_text()), "by": "device"} | {
        "rows": [
            {"signals": ["weight", "activity"], "height": 300},
            {"signals": ["weight"], "against": "temperature", "height": 210},
        ]
    }
    assert "is dropped" in terminal.good("chart", "drop", "1")
    assert "no chart page 1" in terminal.bad(1, "chart", "show", "1")
    # What was written is a page again.
    assert "Night: kept by you" in terminal.good("chart", "keep", written, "--shared")


def test_a_file_that_is_no_page_says_where_and_why(terminal: Terminal, tmp_path: Path) -> None:
    file = tmp_path / "night.toml"
    for text, said in (
        (PAGE.replace("weight", "temperature"), "against itself"),
        (PAGE.replace("last", "lasts"), "lasts"),
        (PAGE + '\nby = "moon"', "rows.1.by"),
        ("name = ", "is not TOML"),
    ):
        file.write_text(text)
        assert said in terminal.bad(1, "chart", "keep", file)
    assert "cannot be read" in terminal.bad(1, "chart", "keep", tmp_path / "none.toml")
    assert "what is to change?" in terminal.bad(1, "chart", "change", "1")
