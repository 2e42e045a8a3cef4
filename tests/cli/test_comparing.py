"""Two releases compared by lot, from the terminal."""

import json
from pathlib import Path

import pytest

from tests.harness.device import PuppetDevice
from tests.harness.service import PASSWORD, RunningService
from tests.harness.terminal import Terminal

PLAN = """\
name = "which filter"
release = "comb-s1/hive-scale/2.5.0"
target = "board = comb-s1"

[[arms]]
name = "old filter"
release = "comb-s1/hive-scale/2.5.0"

[[arms]]
name = "new filter"
release = "comb-s1/hive-scale/2.5.1"

[[rings]]
name = "early"
count = 4

[[rings]]
name = "rest"
"""


@pytest.fixture
def terminal(service: RunningService, tmp_path: Path) -> Terminal:
    made = Terminal(service, tmp_path)
    made.good("sign-in", "--name", "admin", stdin=f"{PASSWORD}\n")
    return made


def test_two_releases_are_compared_and_one_is_chosen(
    service: RunningService, terminal: Terminal, tmp_path: Path
) -> None:
    for version in ("2.4.0", "2.5.0", "2.5.1"):
        service.publish(version).raise_for_status()
    code = service.code(6)
    for number in range(6):
        device = PuppetDevice(service.url, f"TA-{number}")
        device.enrol(code).raise_for_status()
        device.checkin()
    (tmp_path / "plan.toml").write_text(PLAN)
    terminal.good("rollout", "start", tmp_path / "plan.toml", "--yes")
    service.wait_for(1, lambda r: r.rings[0].state == "open")

    shown = terminal.good("rollout", "compare", "1")
    assert "old filter 0 bad of 0, new filter 0 bad of 0: nothing to compare yet" in shown
    seen = json.loads(terminal.good("rollout", "compare", "1", "--json"))
    assert [(one["name"], one["given"], one["exposed"]) for one in seen["arms"]] == [
        ("old filter", 2, 0),
        ("new filter", 2, 0),
    ]

    # What is none of both is refused before anything is asked.
    assert "The rollout compares no 'newest'. Choose 'old filter' or 'new filter'." in terminal.bad(
        1, "rollout", "choose", "1", "newest"
    )
    asked = terminal.run("rollout", "choose", "1", "2.5.1", "--reason", "it saves battery", stdin="n\n")
    assert "Bring new filter (comb-s1/hive-scale/2.5.1) to everybody from now on?" in asked.stderr
    assert (asked.returncode, service.herald.comparison.show(1).chosen) == (1, None)

    said = terminal.run("rollout", "choose", "1", "2.5.1", stdin="it saves battery\ny\n")
    assert said.returncode == 0 and "new filter is chosen for the rest of rollout 1" in said.stderr
    assert "new filter ← chosen" in terminal.good("rollout", "compare", "1")
    again = terminal.bad(1, "rollout", "choose", "1", "old filter", "--reason", "second thoughts")
    assert "'new filter' was chosen in rollout 1 already" in again


def test_a_rollout_of_one_release_compares_nothing(service: RunningService, terminal: Terminal, tmp_path: Path) -> None:
    for version in ("2.4.0", "2.5.0"):
        service.publish(version).raise_for_status()
    device = PuppetDevice(service.url, "TA-1")
    device.enrol(service.code(1)).raise_for_status()
    device.checkin()
    one = PLAN[: PLAN.index("[[arms]]")] + '[[rings]]\nname = "all"\n'
    (tmp_path / "plan.toml").write_text(one)
    terminal.good("rollout", "start", tmp_path / "plan.toml", "--yes")
    for command in (["compare", "1"], ["choose", "1", "2.5.0", "--reason", "why not"]):
        assert "A plan compares two with [[arms]]" in terminal.bad(1, "rollout", *command)
