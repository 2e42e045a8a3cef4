"""Several service processes on one port. They share nothing but the database and the image store: any of them may
die."""

import ctypes
import os
import shutil
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable

import structlog
from prometheus_client.multiprocess import mark_process_dead

from mellow_herald.service.figures import FOLDER
from mellow_herald.service.settings import Settings
from mellow_herald.service.supervisor import Supervisor

log = structlog.get_logger()
LOOK_SECONDS = 0.2
STOP_SECONDS = 8.0
# One that dies sooner than this is started again only after a pause, so that a fault at start does not burn a core.
SOON_SECONDS, PAUSE_SECONDS = 5.0, 2.0


# prctl(2): the signal that a process gets when the one that started it ends.
PR_SET_PDEATHSIG = 1
_libc = ctypes.CDLL(None, use_errno=True)


def end_with_parent() -> None:
    """Has this process asked to stop when the one that started it ends, however that ends."""
    _libc.prctl(PR_SET_PDEATHSIG, signal.SIGTERM)


def child_command(settings: Settings) -> list[str]:
    """The command by which a process of the service is started by another."""
    return [
        sys.executable,
        "-m",
        "mellow_herald.cli.main",
        "serve",
        "--data-dir",
        str(settings.data_dir),
        "--host",
        settings.host,
        "--port",
        str(settings.port),
        "--time-scale",
        f"{settings.time_scale:g}",
        "--upload-limit",
        str(settings.upload_limit),
        "--secure-cookie" if settings.cookies_are_secure else "--plain-cookie",
        *(["--trusted-proxy", settings.trusted_proxy] if settings.trusted_proxy else []),
        *(["--webhook-allow", settings.webhook_allow] if settings.webhook_allow else []),
        *(["--images", settings.images] if settings.images else []),
        *(["--front-images", settings.front_images] if settings.front_images else []),
        *(["--radio", settings.radio] if settings.radio else []),
        *(["--coap-port", str(settings.coap_port)] if settings.coap_port else []),
        *(["--coap-open"] if settings.coap_open else []),
        "--readings-days",
        str(settings.readings_days),
        "--rollups-days",
        str(settings.rollups_days),
        *(["--coap-packages", settings.coap_packages] if settings.coap_packages else []),
    ]


def child_environment(settings: Settings, url: str) -> dict[str, str]:
    """What is not to be seen in a list of processes."""
    environment = {**os.environ, "HERALD_WORKER_DATABASE_URL": url}
    if settings.radio_token:
        environment["HERALD_RADIO_TOKEN"] = settings.radio_token
    return environment


class Workers:
    """Starts the processes, starts those again that die, and ends them all."""

    def __init__(
        self,
        settings: Settings,
        url: str,
        listener: socket.socket,
        supervisor: Supervisor,
        say: Callable[[str], None] = print,
    ) -> None:
        self._settings, self._url, self._listener, self._say = settings, url, listener, say
        self._supervisor = supervisor
        self._running: list[tuple[subprocess.Popen[bytes], float]] = []
        self._stopping = False
        self._figures = settings.data_dir.absolute() / "figures"

    def run(self) -> None:
        """Serves until SIGINT or SIGTERM."""
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, self._stop)
        shutil.rmtree(self._figures, ignore_errors=True)
        self._figures.mkdir()
        try:
            self._listener.listen(1024)
            self._running = [self._start() for _ in range(self._settings.workers)]
            self._say(f"{self._settings.workers} workers: {', '.join(str(one.pid) for one, _ in self._running)}")
            self._supervisor.ready()
            while not self._stopping:
                time.sleep(LOOK_SECONDS)
                self._running = [self._seen_to(process, since) for process, since in self._running]
                self._supervisor.lives()
            self._supervisor.stops()
        finally:
            self._end()

    def _stop(self, *_: object) -> None:
        self._stopping = True

    def _start(self) -> tuple[subprocess.Popen[bytes], float]:
        number = self._listener.fileno()
        environment = {
            **child_environment(self._settings, self._url),
            "HERALD_LISTENER_FD": str(number),
            FOLDER: str(self._figures),
        }
        command = child_command(self._settings)
        # A session of its own: a Ctrl-C in the terminal is for us, and we end the workers in order.
        process = subprocess.Popen(
            command, env=environment, pass_fds=[number], start_new_session=True, preexec_fn=end_with_parent
        )
        return process, time.monotonic()

    def _seen_to(self, process: subprocess.Popen[bytes], since: float) -> tuple[subprocess.Popen[bytes], float]:
        if process.poll() is None or self._stopping:
            return process, since
        log.warning("a worker has ended, starting another", worker=process.pid, code=process.returncode)
        mark_process_dead(process.pid, str(self._figures))  # type: ignore[no-untyped-call]
        if time.monotonic() - since < SOON_SECONDS:
            time.sleep(PAUSE_SECONDS)
        return self._start()

    def _end(self) -> None:
        for process, _ in self._running:
            if process.poll() is None:
                process.terminate()
        deadline = time.monotonic() + STOP_SECONDS
        for process, _ in self._running:
            try:
                process.wait(max(0.1, deadline - time.monotonic()))
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
