"""What docs/operations.md and docs/install.md say, and the files of deploy/, held against the tools that read them."""

import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from tests.harness.patience import PATIENCE_S
from tests.harness.service import RunningService

PROJECT = Path(__file__).parents[2]
DEPLOY, DOCS = PROJECT / "deploy", PROJECT / "docs"
ALERTS = DEPLOY / "alerts.yml"
OF_PROMETHEUS = {"up"}


def run(*command: str) -> None:
    done = subprocess.run(command, cwd=DEPLOY, capture_output=True, text=True, timeout=PATIENCE_S)
    assert done.returncode == 0, done.stdout + done.stderr


def test_the_alerts_are_rules_and_ring_when_they_should() -> None:
    run("promtool", "check", "rules", "alerts.yml")
    run("promtool", "test", "rules", "alerts_test.yml")


def test_every_alert_has_its_figure_and_its_line_in_the_handbook(service: RunningService) -> None:
    service.herald.devices.list()
    metrics = service.herald.metrics()
    told = set(re.findall(r"^# TYPE (\w+)", metrics, re.MULTILINE))
    told |= {f"{name}_{part}" for name in told for part in ("count", "bucket", "sum")}
    rules = ALERTS.read_text()
    asked = {name for line in re.findall(r"expr: (.*)", rules) for name in re.findall(r"\bherald_\w+", line)}
    assert asked and asked <= told, asked - told
    handbook = (DOCS / "operations.md").read_text()
    assert set(re.findall(r"alert: (\w+)", rules)) == set(re.findall(r"^\| `(Herald\w+)`", handbook, re.MULTILINE))
    shown = set(re.findall(r"`(herald_\w+)`", handbook))
    families = set(re.findall(r"^# TYPE (herald_\w+?)(?:_created)? ", metrics, re.MULTILINE))
    assert families - shown - {"herald_pool_connections_most"} == set(), "each figure is in the handbook"
    subprocess.run(["promtool", "check", "metrics"], input=metrics.encode(), check=True, timeout=PATIENCE_S)


def test_the_units_are_what_systemd_takes_and_start_what_there_is(tmp_path: Path) -> None:
    herald = Path(sys.executable).with_name("herald")
    for unit in sorted(DEPLOY.glob("mellow-herald*")):
        there = unit.read_text().replace("/opt/mellow-herald/bin/herald", str(herald))
        (tmp_path / unit.name).write_text(there)
    if shutil.which("systemd-analyze"):
        units = sorted(map(str, tmp_path.iterdir()))
        done = subprocess.run(["systemd-analyze", "verify", *units], capture_output=True, text=True, timeout=PATIENCE_S)
        assert done.returncode == 0 and done.stderr.strip() == "", done.stderr
    started = re.search(r"^ExecStart=(.*)$", (tmp_path / "mellow-herald.service").read_text(), re.MULTILINE)
    assert started is not None
    options = re.findall(r"--[a-z-]+", started[1])
    shown = subprocess.run([str(herald), "serve", "--help"], capture_output=True, text=True, env=wide()).stdout
    assert options and all(option in shown for option in options)


@pytest.mark.parametrize("page", ["operations.md", "install.md"])
def test_the_commands_of_the_handbook_are_there(page: str) -> None:
    herald = Path(sys.executable).with_name("herald")
    text = "\n".join(re.findall(r"`[^`\n]+`|^(?:herald|export) .*$", (DOCS / page).read_text(), re.MULTILINE))
    named = set(re.findall(r"(?<![\w-])herald ([a-z][a-z-]*(?: [a-z][a-z-]+)?)", text))
    assert named
    for words in named:
        done = subprocess.run([str(herald), *words.split(), "--help"], capture_output=True, text=True, env=wide())
        if done.returncode:  # the second word was an argument
            done = subprocess.run([str(herald), words.split()[0], "--help"], capture_output=True, text=True, env=wide())
        assert done.returncode == 0, (words, done.stderr)


def wide() -> dict[str, str]:
    return {**os.environ, "COLUMNS": "200"}
