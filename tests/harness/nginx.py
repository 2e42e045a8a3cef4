"""Debian's nginx on loopback, run by whoever runs the tests."""

import os
import shutil
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import httpx

from tests.harness.patience import PATIENCE_S


@contextmanager
def nginx(folder: Path, sites: str, url: str, main: str = "") -> Iterator[None]:
    """Runs it with these ``server`` and ``upstream`` blocks until left; returns once ``url`` answers. ``main`` are
    directives of the main context."""
    folder.mkdir(exist_ok=True)
    temporary = "".join(f"{kind}_temp_path {folder};" for kind in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi"))
    head = f"daemon off; pid {folder}/pid; error_log {folder}/error.log; worker_processes 1; {main}"
    if os.geteuid() == 0:
        head = f"user root; {head}"
    (folder / "nginx.conf").write_text(f"{head} events {{}} http {{ access_log off; {temporary}\n{sites} }}")
    program = shutil.which("nginx") or "/usr/sbin/nginx"
    process = subprocess.Popen([program, "-e", str(folder / "error.log"), "-c", str(folder / "nginx.conf")])
    try:
        deadline = time.monotonic() + PATIENCE_S
        while True:
            with suppress(httpx.TransportError):
                httpx.get(url, verify=False, trust_env=False)
                break
            assert process.poll() is None and time.monotonic() < deadline, (folder / "error.log").read_text()
            time.sleep(0.05)
        yield
    finally:
        process.terminate()
        process.wait(PATIENCE_S)
