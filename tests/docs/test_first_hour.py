"""The walk of docs/first-hour.md, command by command, in an empty folder against a service that is started by it."""

import contextlib
import os
import re
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from tests.harness.patience import PATIENCE_S
from tests.harness.processes import free_port, open_folder

pytestmark = pytest.mark.system
WALK = Path(__file__).parents[2] / "docs" / "first-hour.md"
BLOCK = re.compile(r"^```(sh background|sh|text)\n(.*?)^```$", re.MULTILINE | re.DOTALL)
PORT = "8410"
LONGEST_S = 600
DONE = "-- and that was all of it --"
FAILED = "-- this failed: "


class Walk:
    """One terminal for the commands, and others that are left running."""

    def __init__(self, folder: Path) -> None:
        self.port = str(free_port())
        self.folder = folder
        self.environment = {
            **{k: v for k, v in os.environ.items() if not k.startswith("HERALD_")},
            "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}",
            "HERALD_CREDENTIALS": str(folder / "credentials.json"),
            "COLUMNS": "160",
        }
        self.left: list[subprocess.Popen[bytes]] = []
        self.shell = subprocess.Popen(
            ["bash"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, **self._there()
        )
        self.type(f"trap 'echo \"{FAILED}$BASH_COMMAND\"' ERR")

    def _there(self) -> dict[str, object]:
        return {"cwd": self.folder, "env": self.environment, "start_new_session": True}

    def leave_running(self, text: str) -> None:
        """Types into a terminal of its own."""
        variables = f"export HERALD_URL=http://127.0.0.1:{self.port}\n"
        with (self.folder / f"terminal-{len(self.left) + 2}.log").open("wb") as log:
            command = ["bash", "-c", variables + self._here(text)]
            self.left.append(subprocess.Popen(command, stdout=log, stderr=log, **self._there()))  # type: ignore[call-overload]

    def type(self, text: str) -> str:
        """Types into the first terminal; returns what is seen until all of it is done."""
        assert self.shell.stdin is not None and self.shell.stdout is not None
        self.shell.stdin.write(f"{self._here(text)}\necho; echo '{DONE}'\n".encode())
        self.shell.stdin.flush()
        seen = []
        for line in self.shell.stdout:
            words = line.decode()
            if words.strip() == DONE:
                break
            seen.append(words)
        return "".join(seen)

    def _here(self, text: str) -> str:
        return text.replace(PORT, self.port)

    def stop(self) -> None:
        """Ends all terminals, the service last."""
        for process in [self.shell, *reversed(self.left)]:
            if process.poll() is None:
                os.killpg(process.pid, signal.SIGTERM)
                process.wait(PATIENCE_S)


@pytest.fixture
def walk() -> Iterator[Walk]:
    with open_folder() as folder:
        made = Walk(folder)
        yield made
        made.stop()


def shown_in(line: str, seen: str) -> bool:
    """Whether a line of the page was seen; three dots stand for anything, and runs of spaces for each other."""
    parts = [r"\s+".join(map(re.escape, part.split())) for part in line.split("…")]
    return re.search(".*".join(parts), seen) is not None


def test_the_first_hour_can_be_walked_to_its_end(walk: Walk) -> None:
    seen, kinds, began = "", [], time.monotonic()
    for found in BLOCK.finditer(WALK.read_text()):
        kind, text = found.groups()
        kinds.append(kind)
        if kind == "sh background":
            walk.leave_running(text)
            if kinds.count(kind) == 1:
                _wait_for_the_service(walk)
        elif kind == "sh":
            seen = walk.type(text)
            assert "Traceback" not in seen, seen
            assert not re.search(rf"^(herald: |{FAILED})", seen, re.MULTILINE), seen
        else:
            for line in text.splitlines():
                assert shown_in(line, seen), f"{line!r} was not seen in\n{seen}"
        assert time.monotonic() - began < LONGEST_S
    assert kinds.count("sh background") == 2 and kinds.count("text") >= 8
    print(f"the commands of the first hour took {time.monotonic() - began:.0f} s")


def _wait_for_the_service(walk: Walk) -> None:
    deadline = time.monotonic() + PATIENCE_S
    while True:
        with contextlib.suppress(httpx.HTTPError):
            if httpx.get(f"http://127.0.0.1:{walk.port}/health/ready").is_success:
                return
        assert time.monotonic() < deadline, (walk.folder / "terminal-2.log").read_text()
        time.sleep(0.3)
