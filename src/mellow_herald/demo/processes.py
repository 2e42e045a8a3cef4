"""The demo's own processes: the service, the simulated devices, and single commands."""

import os
import signal
import subprocess
import sys
import time
import traceback
from collections.abc import Sequence
from contextlib import suppress
from importlib import import_module
from pathlib import Path
from typing import NoReturn

import mellow_herald.client  # noqa: F401  (what all commands need)

HERALD = (sys.executable, "-m", "mellow_herald.cli.main")
STOP_SECONDS = 8.0


class DemoFailed(Exception):
    """The demo cannot go on; the text says why."""


class Processes:
    """What was started, so that all of it can be stopped."""

    def __init__(self, environment: dict[str, str], logs: Path) -> None:
        self._environment = {**os.environ, **environment}
        self._logs = logs
        self._running: list[tuple[str, subprocess.Popen[bytes]]] = []

    def start(self, name: str, *arguments: str, environment: dict[str, str] | None = None) -> subprocess.Popen[bytes]:
        """Starts ``herald`` with these arguments in the background; its output goes to a log file. What must not be
        seen in a list of processes goes into its ``environment``."""
        self._logs.mkdir(parents=True, exist_ok=True)
        with self.log(name).open("ab") as log:
            process = subprocess.Popen(
                [*HERALD, *arguments],
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=log,
                env={**self._environment, **(environment or {})},
                start_new_session=True,  # Ctrl-C is ours to handle, so that all end in order
            )
        self._running.append((name, process))
        return process

    def log(self, name: str) -> Path:
        """The log file of a background process."""
        return self._logs / f"{name}.log"

    def check(self) -> None:
        """Raises ``DemoFailed`` if a background process has ended by itself."""
        for name, process in self._running:
            if process.poll() is not None:
                tail = self.log(name).read_text(errors="replace").splitlines()[-3:]
                raise DemoFailed(f"{name} ended with code {process.returncode}:\n" + "\n".join(tail))

    def run(self, *arguments: str, show: bool = True, capture: bool = False, good: Sequence[int] = (0,)) -> str:
        """Runs a ``herald`` command to its end, in a process of its own, as an engineer would type it; returns its
        output if captured. Raises ``DemoFailed`` unless its exit code is one of ``good``."""
        if show:
            print(f"\n$ herald {' '.join(_short(one) for one in arguments)}", flush=True)
        code, output = _forked(arguments, self._environment, capture=capture)
        if code not in good:
            raise DemoFailed(f"`herald {' '.join(arguments)}` ended with code {code}")
        return output

    def stop(self) -> None:
        """Stops everything, last started first, politely and then not."""
        deadline = time.monotonic() + STOP_SECONDS
        for _, process in reversed(self._running):
            if process.poll() is None:
                process.send_signal(signal.SIGTERM)
        for _, process in reversed(self._running):
            try:
                process.wait(max(0.1, deadline - time.monotonic()))
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
        self._running.clear()


def _forked(arguments: Sequence[str], environment: dict[str, str], *, capture: bool) -> tuple[int, str]:
    """Exit code and captured output of ``herald``. Its process is forked from this one, which has loaded most of what
    commands need: to load that takes longer than most of them do."""
    sys.stdout.flush()
    reader, writer = os.pipe()
    child = os.fork()
    if child == 0:
        os.close(reader)
        if capture:
            os.dup2(writer, 1)
        os.close(writer)
        _become(arguments, environment)
    os.close(writer)
    try:
        with os.fdopen(reader, encoding="utf-8") as told:
            output = told.read()
        _, status = os.waitpid(child, 0)
    except BaseException:
        os.kill(child, signal.SIGTERM)
        os.waitpid(child, 0)
        raise
    return os.waitstatus_to_exitcode(status), output


def _become(arguments: Sequence[str], environment: dict[str, str]) -> NoReturn:
    signal.signal(signal.SIGINT, signal.default_int_handler)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    os.environ.update(environment)
    sys.argv = ["herald", *arguments]
    code = 1
    try:
        import_module(HERALD[-1]).main()
        code = 0
    except SystemExit as ended:
        code = ended.code if isinstance(ended.code, int) else int(ended.code is not None)
    except BaseException:
        traceback.print_exc()
    finally:
        with suppress(OSError, ValueError):
            sys.stdout.flush()
        os._exit(code)


def _short(argument: str) -> str:
    """A path as it is nice to read; anything else quoted where a shell would need it."""
    path = Path(argument)
    if path.is_absolute() and path.is_relative_to(Path.cwd()):
        argument = str(path.relative_to(Path.cwd()))
    return f'"{argument}"' if " " in argument else argument
