"""Twenty thousand devices that call in the same moment: a new fleet that enrols, then all of it after a power cut."""

import asyncio
import json
import os
import random
import statistics
import subprocess
import sys
import time
from collections import Counter
from pathlib import Path

import httpx
import uvloop

from bench.checkins import PASSWORD, _said, free_port, running
from bench.figure import Figure
from bench.rings import fill, own_cluster
from mellow_herald.client import Herald
from mellow_herald.service.app import open_context
from mellow_herald.service.settings import Settings
from mellow_herald.store.database import Pools
from mellow_herald.wire.fleet import CodeIn
from tests.harness.firmware import BOARD, LINE

# A process each: how many files one may have open is limited.
DEVICES, ENROLLING, CROWDS = 20_000, 4_000, 2
TOOK_S = 180.0
PAGES = ("devices?limit=50", "overview", "rollouts", "devices?where=presence+%3D+online&limit=50", "devices/TA-0000017")


def measure() -> list[Figure]:
    """The service on core 0 with its PostgreSQL, the devices and the engineer on core 1."""
    cores = sorted(os.sched_getaffinity(0))
    os.sched_setaffinity(0, {cores[0]})
    with own_cluster() as (folder, database):
        tokens = asyncio.run(_fill(folder, database))
        port = free_port()
        serve = ["-m", "mellow_herald.cli.main", "serve", "--data-dir", str(folder), "--port", str(port)]
        with running([*serve, "--database-url", database], cores[0], port):
            os.sched_setaffinity(0, {cores[-1]})
            url = f"http://127.0.0.1:{port}"
            with Herald(url) as herald:
                herald.people.sign_in("admin", PASSWORD)
                token = herald.people.make_token().token
            with Herald(url, token=token) as herald:
                code = herald.codes.make(CodeIn(board=BOARD, line=LINE, uses=ENROLLING)).code or ""
            woken = _all_at_once([_crowd(port, "wake", tokens[n::CROWDS]) for n in range(CROWDS)], port, token)
            fresh = [[f"{code} {number}" for number in range(n, ENROLLING, CROWDS)] for n in range(CROWDS)]
            enrolled = _all_at_once([_crowd(port, "enrol", one) for one in fresh], port, token)
    os.sched_setaffinity(0, cores)
    figures = []
    for name, least, (took, statuses, looks) in (
        (f"{DEVICES:,} that wake", TOOK_S, woken),
        (f"{ENROLLING:,} that enrol", TOOK_S * ENROLLING / DEVICES, enrolled),
    ):
        wrong = sum(count for status, count in statuses.items() if status >= 500 and status != 503)
        told = {"shed": float(statuses[503]), "s": took, "cut off": float(statuses[0])}
        figures += [
            Figure(f"{name} at once: until all are served ÷ {least:.0f} s", took / least, "<= 1", told),
            Figure(f"{name} at once: answers 5xx but 503", float(wrong), "<= 0"),
            Figure(f"{name} at once: an engineer's 95th percentile (s)", looks, "<= 0.5"),
        ]
    return figures


async def _fill(folder: Path, url: str) -> list[str]:
    """The fleet, and its tokens."""
    context = await open_context(Settings(data_dir=folder), Pools(url))
    try:
        await fill(context.through(context.pools.work), None, DEVICES)
        return [f"{context.memory.issue(number, 1)} {number}" for number in range(1, DEVICES + 1)]
    finally:
        await context.pools.dispose()


def _crowd(port: int, call: str, members: list[str]) -> subprocess.Popen[str]:
    arguments = [sys.executable, "-m", "bench.waking", str(port), call]
    crowd = subprocess.Popen(arguments, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    assert crowd.stdin is not None
    print(json.dumps(members), file=crowd.stdin, flush=True)
    return crowd


def _all_at_once(crowds: list[subprocess.Popen[str]], port: int, token: str) -> tuple[float, Counter[int], float]:
    """(seconds until the last is served, answers by status, an engineer's 95th percentile meanwhile)."""
    time.sleep(2)
    began = time.monotonic()
    for crowd in crowds:
        assert crowd.stdin is not None
        print("now", file=crowd.stdin, flush=True)
    looks: list[float] = []
    with httpx.Client(base_url=f"http://127.0.0.1:{port}/api/v1/", trust_env=False, timeout=60) as http:
        headers = {"authorization": f"Bearer {token}"}
        said: list[str] = []
        for crowd in crowds:
            assert crowd.stdout is not None
            os.set_blocking(crowd.stdout.fileno(), False)
        while len(said) < len(crowds):
            page, before = PAGES[len(looks) % len(PAGES)], time.monotonic()
            if http.get(page, headers=headers).status_code != 200:
                raise RuntimeError(f"{page} was refused")
            looks.append(time.monotonic() - before)
            said += [line for crowd in crowds if crowd.stdout is not None and (line := crowd.stdout.readline())]
            if any(crowd.poll() for crowd in crowds) or time.monotonic() - began > 3 * TOOK_S:
                raise RuntimeError("they were not served in three times the time")
            time.sleep(0.1)
    statuses: Counter[int] = Counter()
    for line in said:
        statuses.update({int(status): count for status, count in json.loads(line).items()})
    return time.monotonic() - began, statuses, statistics.quantiles(looks, n=20)[18]


class _Crowd:
    """Devices of which each calls when it is told to, on a connection of its own, and again as it is told to, until it
    is served. ``statuses`` are the answers, 0 for calls that were cut off."""

    def __init__(self, port: int) -> None:
        self._port = port
        self.statuses: Counter[int] = Counter()

    async def enrol(self, code: str, number: int) -> None:
        said = {"serial": f"W-{number}", "board": BOARD, "line": LINE, "hw_rev": 1, "code": code}
        await self._until_served("", "/enrolments", {**said, "nonce": f"nonce-of-device-{number:05}"})

    async def wake(self, token: str, number: int) -> None:
        await self._until_served(token, "/checkins", {**_said(number), "boots": 2, "seq": 1, "after_restart": True})

    async def _until_served(self, token: str, path: str, said: dict[str, object]) -> None:
        body, pause = json.dumps(said).encode(), 1.0
        head = f"POST /device/v1{path} HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Length: {len(body)}\r\n"
        if token:
            head += f"Authorization: Bearer {token}\r\n"
        while True:
            status, wait, answer = await self._call(head.encode() + b"\r\n" + body)
            self.statuses[status] += 1
            if 200 <= status < 300:
                return
            if status not in (0, 408, 429, 503):  # 408: this process itself was too busy to send what it had to say
                raise RuntimeError(f"{path}: {status} {answer!r}")
            await asyncio.sleep((wait or pause) * random.uniform(0.5, 1))
            pause = min(60.0, 2 * pause)

    async def _call(self, request: bytes) -> tuple[int, float | None, bytes]:
        try:
            async with asyncio.timeout(30):
                reader, writer = await asyncio.open_connection("127.0.0.1", self._port)
                try:
                    writer.write(request)
                    head, _, answer = (await reader.read()).partition(b"\r\n\r\n")
                finally:
                    writer.close()
        except (OSError, TimeoutError):
            return 0, None, b""
        if not head:
            return 0, None, b""
        wait = next((line[13:] for line in head.lower().split(b"\r\n") if line.startswith(b"retry-after: ")), None)
        return int(head.split(b" ", 2)[1]), None if wait is None else float(wait), answer


async def _play(port: int, call: str) -> None:
    members = [one.split() for one in json.loads(sys.stdin.readline())]
    sys.stdin.readline()
    crowd = _Crowd(port)
    await asyncio.gather(*(getattr(crowd, call)(one, int(number)) for one, number in members))
    print(json.dumps(crowd.statuses), flush=True)


if __name__ == "__main__":
    uvloop.run(_play(int(sys.argv[1]), sys.argv[2]))
