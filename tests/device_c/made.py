"""The device in C, built, and one that runs."""

import os
import signal
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

from tests.bench_test.bench import CODE
from tests.harness.patience import PATIENCE_S

SOURCE = Path(__file__).parents[2] / "examples" / "device-c"


def make(*words: str) -> str:
    """Runs the device's own Makefile; what it prints."""
    herald = f"{sys.executable} -m mellow_herald.cli.main"
    asked = ["make", "--no-print-directory", f"HERALD={herald}", *words]
    done = subprocess.run(asked, cwd=SOURCE, capture_output=True, text=True, timeout=PATIENCE_S, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
    return done.stdout


def build(folder: Path, version: str, flags: str = "") -> Path:
    """An image of a version; the program stands beside it."""
    make(f"VERSION={version}", f"BUILD={folder}", f"WITH={flags}")
    return folder / "device.img"


class Machine:
    """A device's folder, and the process that is its power."""

    def __init__(
        self, folder: Path, image: Path, *, before: tuple[str, ...] = (), hold_s: int = 2, code: str = CODE
    ) -> None:
        self.folder, self.image, self.before, self.hold_s, self.code = folder, image, before, hold_s, code
        self._process: subprocess.Popen[bytes] | None = None
        self._at: tuple[str, Path] = ("", folder)

    def start(self, url: str, root: Path) -> Callable[[], None]:
        """Gives it power; what it returns takes it away."""
        self._at = url, root
        self.power()
        return self.cut

    def power(self) -> None:
        """Gives it power again."""
        url, root = self._at
        port = url.rpartition(":")[2]
        words = [self.folder, "127.0.0.1", port, "TA-bench", self.code, 1, self.hold_s, root, self.image]
        program = [*self.before, str(self.image.with_name("device")), *map(str, words)]
        self._process = subprocess.Popen(program, stdout=subprocess.DEVNULL, start_new_session=True)

    def cut(self, how: int = signal.SIGKILL) -> None:
        """Takes the power away, at whatever moment."""
        assert self._process is not None
        os.killpg(self._process.pid, how)
        self._process.wait(PATIENCE_S)

    def do(self, word: str) -> str:
        """The bench's words."""
        match word:
            case "power-cut":
                self.cut()
                self.power()
                return ""
            case "lamp":
                return (self.folder / "lamp").read_text()
        return "none"  # its slots are all that it has, and those are told in its check-ins
