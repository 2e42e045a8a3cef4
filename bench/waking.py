"""Twenty thousand devices that call in the same moment: a new fleet that enrols, then all of it after a power cut."""

import asyncio
import json
import os
import random
import statistics
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

import httpx
import uvloop

from bench.checkins import PASSWORD, _said, free_port, running
from bench.figure import Figure
from mellow_herald.client import Herald
from tests.harness.crowd import prepare
from tests.harness.firmware import BOARD, LINE

# A process each: how many files one may have open is limited.
DEVICES, CROWDS = 20_000, 2
TOOK_S = 180.0
PAGES = ("devices?limit=50", "overview", "rollouts", "devices?where=presence+%3D+online&limit=50", "devices/W-17")


def measure() -> list[Figure]:
    """The service on core 0 with its PostgreSQL, the devices and the engineer on core 1."""
    cores = sorted(os.sched_getaffinity(0))
    with tempfile.TemporaryDirectory(prefix="herald-bench-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        port = free_port()
        serve = ["-m", "mellow_herald.cli.main", "serve", "--data-dir", str(folder), "--port", str(port)]
        with running(serve, cores[0], port):
            os.sched_setaffinity(0, {cores[-1]})
            with Herald(f"http://127.0.0.1:{port}") as herald:
                herald.people.sign_in("admin", PASSWORD)
                token = herald.people.make_token().token
            with Herald(f"http://127.0.0.1:{port}", token=token) as herald:
                code = prepare(herald, DEVICES)
            crowds = [_crowd(port, code, number) for number in range(CROWDS)]
            enrolled = _all_at_once(crowds, port, token)
            woken = _all_at_once(crowds, port, token)
            for crowd in crowds:
                crowd.wait(10)
            os.sched_setaffinity(0, cores)
    figures = []
    for name, (took, statuses, looks) in (("enrol", enrolled), ("wake", woken)):
        wrong = sum(count for status, count in statuses.items() if status >= 500 and status != 503)
        told = {"shed": float(statuses[503]), "s": took, "cut off": float(statuses[0])}
        figures += [
            Figure(f"20,000 that {name} at once: until all are served ÷ 180 s", took / TOOK_S, "<= 1", told),
            Figure(f"20,000 that {name} at once: answers 5xx but 503", float(wrong), "<= 0"),
            Figure(f"20,000 that {name} at once: an engineer's 95th percentile (s)", looks, "<= 0.5"),
        ]
    return figures


def _crowd(port: int, code: str, number: int) -> subprocess.Popen[str]:
    arguments = [str(port), code, str(number)]
    pipes = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE, "text": True}
    crowd: subprocess.Popen[str] = subprocess.Popen([sys.executable, "-m", "bench.waking", *arguments], **pipes)  # type: ignore[call-overload]
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
            if http.get(page, headers=headers).status_code not in (200, 404):
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


class _Woken:
    """A crowd of devices: each calls when it is told to, and again as it is told to, until it is served."""

    def __init__(self, port: int, code: str, first: int) -> None:
        self._port, self._code = port, code
        self._numbers = range(first, first + DEVICES // CROWDS)
        self._tokens: dict[int, str] = {}
        self._statuses: Counter[int] = Counter()

    async def enrol(self, number: int) -> None:
        said = {"serial": f"W-{number}", "board": BOARD, "line": LINE, "hw_rev": 1, "code": self._code}
        answer = await self._until_served(number, "/enrolments", {**said, "nonce": f"nonce-of-device-{number:05}"})
        self._tokens[number] = json.loads(answer)["token"]

    async def wake(self, number: int) -> None:
        await self._until_served(number, "/checkins", {**_said(number), "seq": 1, "after_restart": True})

    async def all(self, call: str) -> Counter[int]:
        """All of them, on a connection each; the answers by status, 0 for those that were cut off."""
        self._statuses = Counter()
        await asyncio.gather(*(getattr(self, call)(number) for number in self._numbers))
        return self._statuses

    async def _until_served(self, number: int, path: str, said: dict[str, object]) -> bytes:
        body, pause = json.dumps(said).encode(), 1.0
        head = f"POST /device/v1{path} HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Length: {len(body)}\r\n"
        if number in self._tokens:
            head += f"Authorization: Bearer {self._tokens[number]}\r\n"
        while True:
            status, wait, answer = await self._call(head.encode() + b"\r\n" + body)
            self._statuses[status] += 1
            if status < 300 and status:
                return answer
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


async def _play(port: int, code: str, number: int) -> None:
    crowd = _Woken(port, code, number * DEVICES // CROWDS)
    for call in ("enrol", "wake"):
        await asyncio.to_thread(sys.stdin.readline)
        print(json.dumps(await crowd.all(call)), flush=True)


if __name__ == "__main__":
    uvloop.run(_play(int(sys.argv[1]), sys.argv[2], int(sys.argv[3])))
