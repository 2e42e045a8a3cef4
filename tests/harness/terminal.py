"""``herald`` as it is typed: each command in a process of its own.

Starting Python and loading what a command needs takes longer than most commands do. So the processes are forked from
one that has loaded it all already; everything else, arguments, environment, folders, input, output and exit code, is as
from a shell.
"""

import atexit
import json
import os
import pkgutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
import traceback
from pathlib import Path

from tests.harness.patience import PATIENCE_S
from tests.harness.service import RunningService

Done = subprocess.CompletedProcess[str]
LONGEST_S = 60


class Terminal:
    """Runs ``herald`` against a service, with credentials of its own."""

    def __init__(self, service: RunningService, folder: Path) -> None:
        self.folder = folder
        self.environment = {
            **{k: v for k, v in os.environ.items() if not k.startswith("HERALD_")},
            "HERALD_URL": service.url,
            "HERALD_CREDENTIALS": str(folder / "credentials.json"),
            "COLUMNS": "160",
        }

    def run(self, *arguments: str | Path, stdin: str = "") -> Done:
        """Runs a command to its end."""
        return _nursery().run([*map(str, arguments)], self.environment, stdin)

    def good(self, *arguments: str | Path, stdin: str = "") -> str:
        """Runs a command that must succeed; what it prints."""
        done = self.run(*arguments, stdin=stdin)
        assert done.returncode == 0, done.stderr
        return done.stdout

    def bad(self, code: int, *arguments: str | Path) -> str:
        """Runs a command that must fail with this code; the error it prints."""
        done = self.run(*arguments)
        assert done.returncode == code, (done.returncode, done.stdout, done.stderr)
        assert "Traceback" not in done.stderr
        if code != 2:
            *checks, last = done.stderr.splitlines()
            assert last.startswith("herald: "), "one readable line"
            assert all(line.startswith("  ") for line in checks), "and nothing before it but checks"
        return done.stderr


class Nursery:
    """The process that commands are forked from."""

    def __init__(self) -> None:
        self._folder = tempfile.TemporaryDirectory(prefix="herald-commands-")
        self._socket = str(Path(self._folder.name) / "socket")
        command = [sys.executable, "-m", "tests.harness.terminal", self._socket]
        self._process = subprocess.Popen(command, cwd=Path(__file__).parents[2])
        atexit.register(self.stop)
        deadline = time.monotonic() + PATIENCE_S
        while not Path(self._socket).exists():
            assert self._process.poll() is None and time.monotonic() < deadline
            time.sleep(0.02)

    def stop(self) -> None:
        """Ends it."""
        self._process.kill()
        self._process.wait()
        self._folder.cleanup()

    def run(self, arguments: list[str], environment: dict[str, str], stdin: str) -> Done:
        """Has a command run; ``TimeoutError`` if it takes longer than a minute."""
        with tempfile.TemporaryDirectory(dir=self._folder.name) as name:
            files = [Path(name) / which for which in ("stdin", "stdout", "stderr")]
            files[0].write_text(stdin)
            asked = {
                "arguments": arguments,
                "environment": environment,
                "files": [*map(str, files)],
                "cwd": str(Path.cwd()),
            }
            with socket.socket(socket.AF_UNIX) as connection:
                connection.settimeout(LONGEST_S)
                connection.connect(self._socket)
                connection.sendall(json.dumps(asked).encode())
                connection.shutdown(socket.SHUT_WR)
                code = int(connection.makefile().read() or -signal.SIGKILL)
            return Done(["herald", *arguments], code, files[1].read_text(), files[2].read_text())


_running: list[Nursery] = []


def _nursery() -> Nursery:
    if not _running:
        _running.append(Nursery())
    return _running[0]


def _serve(path: str) -> None:
    """Takes commands until killed; one that is running does not keep others waiting."""
    import mellow_herald.cli
    import mellow_herald.client

    for package in (mellow_herald.cli, mellow_herald.client):
        for module in pkgutil.walk_packages(package.__path__, package.__name__ + "."):
            __import__(module.name)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    with socket.socket(socket.AF_UNIX) as listener:
        listener.bind(f"{path}.new")
        listener.listen(64)
        Path(f"{path}.new").rename(path)
        while True:
            connection, _ = listener.accept()
            if os.fork() == 0:
                listener.close()
                _become(connection)
            connection.close()


def _become(connection: socket.socket) -> None:
    """Becomes the command that is asked for; never returns."""
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    asked = json.loads(connection.makefile().read())
    os.environ.clear()
    os.environ.update(asked["environment"])
    os.chdir(asked["cwd"])
    for number, file in enumerate(asked["files"]):
        opened = os.open(file, os.O_RDONLY if number == 0 else os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
        os.dup2(opened, number)
        os.close(opened)
    sys.stdin, sys.stdout, sys.stderr = open(0), open(1, "w"), open(2, "w", buffering=1)  # noqa: SIM115
    sys.argv = ["herald", *asked["arguments"]]
    code = 0
    try:
        from mellow_herald.cli.main import main

        main()
    except SystemExit as ended:
        code = ended.code if isinstance(ended.code, int) else int(ended.code is not None)
    except BaseException:
        traceback.print_exc()
        code = 1
    for stream in (sys.stdout, sys.stderr):
        if not stream.closed:
            stream.flush()
    connection.sendall(str(code).encode())
    os._exit(code)


if __name__ == "__main__":
    _serve(sys.argv[1])
