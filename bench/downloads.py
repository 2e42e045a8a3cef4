"""Downloads of one worker over nginx sending the same file, and what check-ins wait beside sixteen of them."""

import os
import selectors
import shutil
import socket
import statistics
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from multiprocessing import Process
from pathlib import Path

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from bench.checkins import PASSWORD, free_port, running
from bench.figure import Figure
from mellow_herald.client import Herald
from mellow_herald.core.digest import sha256_hex
from mellow_herald.core.key_status import KeyStatus
from mellow_herald.core.keys import SigningKey, raw_public, sign_key_list
from mellow_herald.wire.board import BoardIn
from mellow_herald.wire.fleet import CodeIn
from tests.harness.crowd import plan
from tests.harness.device import PuppetDevice
from tests.harness.firmware import BOARD, DOMAIN, LINE, make_bytes

SIZE = 64 * 1024 * 1024
ROUNDS, BESIDE, CHECKINS_S = 9, 16, 4.0
NGINX = "daemon off; {user} pid {folder}/pid; error_log {folder}/error; worker_processes 1; events {{}} http {{ "
NGINX += "access_log off; sendfile on; tcp_nopush on; server {{ listen 127.0.0.1:{port}; root {root}; }} }}"


def measure() -> list[Figure]:
    """Both servers on core 0, whoever reads on core 1; the median of alternating rounds."""
    cores = sorted(os.sched_getaffinity(0))
    with tempfile.TemporaryDirectory(prefix="herald-bench-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        port, floor_port = free_port(), free_port()
        url = f"http://127.0.0.1:{port}"
        serve = ["-m", "mellow_herald.cli.main", "serve", "--data-dir", str(folder), "--port", str(port)]
        with running(serve, cores[0], port), _nginx(folder, floor_port, cores[0]):
            device, other, digest = _offered(url, folder)
            path, token = f"/device/v1/images/{digest}", device.token
            os.sched_setaffinity(0, {cores[-1]})
            ours, floors = [], []
            for _ in range(ROUNDS):
                floors.append(_seconds(floor_port, f"/images/{digest[:2]}/{digest}", token))
                ours.append(_seconds(port, path, token))
            alone = _slowest(other)
            with _downloads(port, path, token):
                beside = _slowest(other)
            os.sched_setaffinity(0, cores)
    ratio = statistics.median(floors) / statistics.median(ours)
    rates = {
        "MB a second": SIZE / 1e6 / statistics.median(ours),
        "of nginx": SIZE / 1e6 / statistics.median(floors),
    }
    waits = {"ms without": 1000 * alone, "ms beside": 1000 * beside}
    return [
        Figure("download of 64 MB from one worker ÷ nginx", ratio, ">= 0.7", rates),
        Figure("99th percentile of check-ins beside 16 downloads ÷ without", beside / alone, "<= 3", waits),
    ]


def _offered(url: str, folder: Path) -> tuple[PuppetDevice, PuppetDevice, str]:
    """A device with leave to read an image of 64 MB, one without, and the image's digest."""
    image = folder / "large.img"
    image.write_bytes(os.urandom(SIZE))
    root, key = Ed25519PrivateKey.generate(), Ed25519PrivateKey.generate()
    with Herald(url) as herald:
        herald.people.sign_in("admin", PASSWORD)
        token = herald.people.make_token().token
    with Herald(url, token=token) as herald:
        keys = [SigningKey(raw_public(key), KeyStatus.ACTIVE, "bench")]
        herald.keys.publish(raw_public(root), sign_key_list(root, 1, keys))
        slots = [{"name": name, "size": 2 * SIZE} for name in "ab"]
        board = {"name": BOARD, "vendor_domain": DOMAIN, "lines": [LINE], "hw_revs": [1], "slots": slots}
        herald.boards.add(BoardIn.model_validate({**board, "check_in": "1h"}))
        stated = {"line": LINE, "board": BOARD, "component": "app", "floor": 4, "version": "2.5.0", "updater": 2}
        (folder / "small.img").write_bytes(make_bytes("2.4.0"))
        herald.releases.publish(folder / "small.img", key=key)
        herald.releases.publish(image, key=key, version="2.5.0", stated=stated)
        code = herald.codes.make(CodeIn(board=BOARD, line=LINE)).code
        assert code is not None
        device, other = PuppetDevice(url, "B-0"), PuppetDevice(url, "B-1")
        for one in (device, other):
            one.enrol(code).raise_for_status()
            one.checkin()
        herald.rollouts.start(plan(target=f"serial = {device.serial}"))
        deadline = time.monotonic() + 20
        while device.checkin(wait=1).status_code != 200:
            if time.monotonic() > deadline:
                raise RuntimeError("the device was offered nothing")
    return device, other, sha256_hex(image.read_bytes())


@contextmanager
def _nginx(folder: Path, port: int, core: int) -> Iterator[None]:
    program = shutil.which("nginx") or "/usr/sbin/nginx"
    user = "user root;" if os.geteuid() == 0 else ""
    text = NGINX.format(folder=folder, port=port, root=folder, user=user)
    (folder / "nginx.conf").write_text(text)
    pin = lambda: os.sched_setaffinity(0, {core})  # noqa: E731
    process = subprocess.Popen([program, "-e", f"{folder}/error", "-c", f"{folder}/nginx.conf"], preexec_fn=pin)
    try:
        time.sleep(0.5)
        yield
    finally:
        process.terminate()
        process.wait(10)


def _seconds(port: int, path: str, token: str) -> float:
    """How long a download takes, from the call to its last byte, none of which is kept."""
    buffer = bytearray(1 << 20)
    with socket.create_connection(("127.0.0.1", port)) as line:
        began, count = time.perf_counter(), 0
        head = f"GET {path} HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {token}\r\nConnection: close\r\n\r\n"
        line.sendall(head.encode())
        while got := line.recv_into(buffer):
            count += got
        if count < SIZE:
            raise RuntimeError(f"{path} on {port}: {bytes(buffer[:200])!r}")
        return time.perf_counter() - began


def _slowest(device: PuppetDevice) -> float:
    """The 99th percentile of check-ins, one after the other (s)."""
    took, ends = [], time.monotonic() + CHECKINS_S
    while time.monotonic() < ends:
        began = time.perf_counter()
        device.checkin()
        took.append(time.perf_counter() - began)
    return statistics.quantiles(took, n=100)[98]


@contextmanager
def _downloads(port: int, path: str, token: str) -> Iterator[None]:
    """Sixteen readers in a process that leaves the core to whoever checks in: it is the service that is measured."""
    reading = Process(target=_read_on, args=(port, path, token), daemon=True)
    reading.start()
    try:
        time.sleep(1)
        yield
    finally:
        reading.terminate()
        reading.join()


def _read_on(port: int, path: str, token: str) -> None:
    os.nice(15)
    buffer, lines = bytearray(1 << 18), selectors.DefaultSelector()
    head = f"GET {path} HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {token}\r\nConnection: close\r\n\r\n".encode()

    def begin() -> None:
        line = socket.create_connection(("127.0.0.1", port))
        line.sendall(head)
        lines.register(line, selectors.EVENT_READ)

    for _ in range(BESIDE):
        begin()
    while True:
        for key, _ in lines.select():
            line = key.fileobj
            assert isinstance(line, socket.socket)
            if not line.recv_into(buffer):
                lines.unregister(line)
                line.close()
                begin()
