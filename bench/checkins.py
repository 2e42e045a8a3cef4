"""Check-ins a second of one worker: authenticated, recorded, nothing new; over a bare route reading the same body."""

import json
import os
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import httpx
import uvloop

from bench.figure import Figure
from bench.load import Body, answers_a_second
from mellow_herald.client import Herald
from mellow_herald.wire.board import BoardIn
from mellow_herald.wire.fleet import CodeIn

DEVICES, SECONDS, ROUNDS = 64, 4.0, 3
PASSWORD = "only-for-the-bench"
BOARD = {
    "name": "comb-s1",
    "vendor_domain": "thistledown.example",
    "lines": ["hive-scale"],
    "hw_revs": [1],
    "slots": [{"name": "a", "size": 524288}],
    "check_in": "1h",
}


def measure() -> Figure:
    """Both servers on core 0, one after the other in turn, the load on core 1; the median of three rounds."""
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
            ratios, ours, floors = [], [], []
            for turn in range(ROUNDS):
                start = 2 + turn * 10_000_000
                floors.append(_rate(floor_port, [(token, body, start) for token, body in devices]))
                ours.append(_rate(herald_port, [(token, body, start) for token, body in devices]))
                ratios.append(ours[-1] / floors[-1])
            os.sched_setaffinity(0, cores)
    ratio = sorted(ratios)[ROUNDS // 2]
    measured = {"check-ins a second": sorted(ours)[ROUNDS // 2], "bare route a second": sorted(floors)[ROUNDS // 2]}
    return Figure("check-ins a second of one worker ÷ bare Starlette route", ratio, None, measured)


def _rate(port: int, devices: list[tuple[str, Body, int]]) -> float:
    rate, refused = uvloop.run(answers_a_second(port, devices, SECONDS))
    if refused > len(devices):  # the first call of each device after a jump in seq goes another way, and is fine
        raise RuntimeError(f"{refused} check-ins were not answered 204: the figure would be a lie")
    return rate


def _devices(url: str) -> list[tuple[str, Body]]:
    with Herald(url) as herald:
        herald.people.sign_in("admin", PASSWORD)
        token = herald.people.make_token().token
    with Herald(url, token=token) as herald:
        herald.boards.add(BoardIn.model_validate(BOARD))
        code = herald.codes.make(CodeIn(board="comb-s1", line="hive-scale")).code
    made: list[tuple[str, Body]] = []
    with httpx.Client(base_url=f"{url}/device/v1", trust_env=False) as http:
        for number in range(DEVICES):
            said = {
                "serial": f"B-{number}",
                "board": "comb-s1",
                "line": "hive-scale",
                "hw_rev": 1,
                "code": code,
                "nonce": f"nonce-of-device-{number:04}",
            }
            enrolled = http.post("/enrolments", json=said).raise_for_status().json()
            body = _body(number)
            headers = {"authorization": f"Bearer {enrolled['token']}", "content-type": "application/json"}
            http.post("/checkins", content=body(1), headers=headers).raise_for_status()
            made.append((enrolled["token"], body))
    return made


def _body(number: int) -> Body:
    content = {"version": "2.4.0", "digest": f"{number:064x}", "slot": "a", "floor": 4}
    said = {
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
    before, _, after = json.dumps(said).encode().partition(b"-1")
    return lambda seq: before + b"%d" % seq + after


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
