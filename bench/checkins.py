"""Check-ins a second of one worker, authenticated and recorded, over a bare route reading the same body."""

import gc
import json
import os
import socket
import subprocess
import sys
import tempfile
import time
import tracemalloc
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import httpx
import uvloop

from bench.figure import Figure
from bench.load import Body, answers_a_second
from mellow_herald.client import Herald
from mellow_herald.service.calls.glance import glance_at
from mellow_herald.service.calls.memory import Memory
from mellow_herald.wire.board import BoardIn
from mellow_herald.wire.fleet import CodeIn

DEVICES, SECONDS, ROUNDS = 64, 4.0, 3
KNOWN = 200_000
PASSWORD = "only-for-the-bench"
BOARD = {
    "name": "comb-s1",
    "vendor_domain": "thistledown.example",
    "lines": ["hive-scale"],
    "hw_revs": [1],
    "slots": [{"name": "a", "size": 524288}],
    "check_in": "1h",
}


def measure() -> list[Figure]:
    """All servers on core 0, one after the other in turn, the load on core 1; the median of three rounds."""
    cores = sorted(os.sched_getaffinity(0))
    with tempfile.TemporaryDirectory(prefix="herald-bench-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        herald_port, floor_port = free_port(), free_port()
        serve = ["-m", "mellow_herald.cli.main", "serve", "--data-dir", str(folder), "--port", str(herald_port)]
        with (
            running(serve, cores[0], herald_port),
            running(["-m", "bench.floor", str(floor_port)], cores[0], floor_port),
        ):
            devices = _devices(f"http://127.0.0.1:{herald_port}")
            os.sched_setaffinity(0, {cores[-1]})
            floors: list[float] = []
            ours: dict[str, list[float]] = {name: [] for name in BODIES}
            for turn in range(ROUNDS):
                start = 2 + turn * 10_000_000
                floors.append(_rate(floor_port, devices, _unchanged, start))
                for part, (name, body) in enumerate(BODIES.items()):
                    ours[name].append(_rate(herald_port, devices, body, start + (part + 1) * 1_000_000))
            os.sched_setaffinity(0, cores)
    return [_figure(name, ours[name], floors) for name in BODIES]


def measure_memory() -> Figure:
    """What one device more that has called takes, beside what stands of it anyway."""
    memory = Memory()
    for device_id in range(1, KNOWN + 1):
        memory.admit(device_id, 1)
    tracemalloc.start()
    for device_id in range(1, KNOWN + 1):
        # As it comes from the network: no number is shared with what stands.
        said = {**_said(0), "seq": 100_000 + device_id, "settings_digest": f"{device_id:064x}"}
        seen = glance_at(json.dumps(said).encode())
        assert seen is not None
        memory.remember(int(str(device_id)), seen, 900, memory.epoch)
    del said, seen
    gc.collect()
    taken, _ = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    return Figure("memory of a device that has called (bytes)", taken / KNOWN, "<= 200")


def _figure(name: str, ours: list[float], floors: list[float]) -> Figure:
    ratios = [one / floor for one, floor in zip(ours, floors, strict=True)]
    middle = ROUNDS // 2
    measured = {"check-ins a second": sorted(ours)[middle], "bare route a second": sorted(floors)[middle]}
    target = TARGETS[name]
    return Figure(f"{name} of one worker ÷ bare Starlette route", sorted(ratios)[middle], f">= {target}", measured)


def _rate(port: int, tokens: list[str], body: Callable[[int], Body], start: int) -> float:
    devices = [(token, body(number), start) for number, token in enumerate(tokens)]
    rate, refused = uvloop.run(answers_a_second(port, devices, SECONDS))
    if refused > len(devices):  # the first call of each device after a jump in seq goes another way, and is fine
        raise RuntimeError(f"{refused} check-ins were not answered 204: the figure would be a lie")
    return rate


def _devices(url: str, board: str | None = None, prefix: str = "B") -> list[str]:
    """Tokens of devices that called once; ``board`` is one that is there already."""
    with Herald(url) as herald:
        herald.people.sign_in("admin", PASSWORD)
        token = herald.people.make_token().token
    with Herald(url, token=token) as herald:
        if board is None:
            herald.boards.add(BoardIn.model_validate(BOARD))
        code = herald.codes.make(CodeIn(board=board or "comb-s1", line="hive-scale")).code
    made: list[str] = []
    with httpx.Client(base_url=f"{url}/device/v1", trust_env=False) as http:
        for number in range(DEVICES):
            said = {
                "serial": f"{prefix}-{number}",
                "board": board or "comb-s1",
                "line": "hive-scale",
                "hw_rev": 1,
                "code": code,
                "nonce": f"nonce-of-device-{number:04}",
            }
            enrolled = http.post("/enrolments", json=said).raise_for_status().json()
            body = _unchanged(number)
            headers = {"authorization": f"Bearer {enrolled['token']}", "content-type": "application/json"}
            http.post("/checkins", content=body(1), headers=headers).raise_for_status()
            made.append(enrolled["token"])
    return made


def _unchanged(number: int) -> Body:
    before, _, after = json.dumps(_said(number)).encode().partition(b"-1")
    return lambda seq: before + b"%d" % seq + after


def _draining(number: int) -> Body:
    before, _, rest = json.dumps(_said(number)).encode().partition(b"-1")
    between, _, after = rest.partition(b'"battery": 80')
    return lambda seq: before + b"%d" % seq + between + b'"battery": %d' % (seq % 100) + after


def _said(number: int) -> dict[str, object]:
    content = {"version": "2.4.0", "digest": f"{number:064x}", "slot": "a", "floor": 4}
    return {
        "boots": 1,
        "seq": -1,
        "ready": True,
        "running": {"app": content},
        "standby": {},
        "updater": 1,
        "condition": {"battery": 80, "charging": False, "link": "wifi", "free": 524288, "busy": False},
        "uptime_s": 86400,
        "readings": {"free_memory": 41000.0, "temperature": 21.5},
        "settings_digest": "5" * 64,
        "after_restart": False,
    }


BODIES: dict[str, Callable[[int], Body]] = {
    "check-ins a second that bring nothing new": _unchanged,
    "check-ins a second with another battery each": _draining,
}
TARGETS = dict(zip(BODIES, (0.6, 0.5), strict=True))


@contextmanager
def running(arguments: list[str], core: int | None, port: int) -> Iterator[subprocess.Popen[bytes]]:
    environment = {**os.environ, "HERALD_ADMIN_PASSWORD": PASSWORD}
    process = subprocess.Popen(
        [sys.executable, *arguments],
        env=environment,
        stdout=subprocess.DEVNULL,
        preexec_fn=None if core is None else lambda: os.sched_setaffinity(0, {core}),
    )
    try:
        deadline = time.monotonic() + 30
        while time.monotonic() < deadline:
            with socket.socket() as probe:
                if probe.connect_ex(("127.0.0.1", port)) == 0:
                    break
            if process.poll() is not None:
                raise RuntimeError(f"{arguments} ended by itself")
            time.sleep(0.1)
        time.sleep(0.5)
        yield process
    finally:
        process.terminate()
        process.wait(15)


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])
