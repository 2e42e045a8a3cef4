"""A process beside those that serve HTTP, started again when it dies."""

import subprocess
import threading
import time
from collections.abc import Callable

import structlog

log = structlog.get_logger()
LOOK_SECONDS = 0.2
STOP_SECONDS = 8.0
# One that dies sooner than this is started again only after a pause, so that a fault at start does not burn a core.
SOON_SECONDS, PAUSE_SECONDS = 5.0, 2.0


class Companion:
    """One such process, which ``start`` starts."""

    def __init__(self, name: str, start: Callable[[], "subprocess.Popen[bytes]"]) -> None:
        self._name, self._start = name, start
        self._stopping = threading.Event()
        self._process = start()
        self._since = time.monotonic()
        self._thread = threading.Thread(target=self._watch, name=name, daemon=True)
        self._thread.start()

    def _watch(self) -> None:
        while not self._stopping.wait(LOOK_SECONDS):
            if self._process.poll() is None:
                continue
            log.warning(f"{self._name} has ended, starting another", code=self._process.returncode)
            if time.monotonic() - self._since < SOON_SECONDS and self._stopping.wait(PAUSE_SECONDS):
                return
            try:
                self._process, self._since = self._start(), time.monotonic()
            except OSError as failed:  # a machine at its limits: what is started next time may well start
                log.error(f"{self._name} could not be started; trying again", error=failed.strerror)
                if self._stopping.wait(PAUSE_SECONDS):
                    return

    def stop(self) -> None:
        """Ends it."""
        self._stopping.set()
        self._thread.join()
        if self._process.poll() is None:
            self._process.terminate()
        try:
            self._process.wait(STOP_SECONDS)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
