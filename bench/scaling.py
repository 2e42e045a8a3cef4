"""The table of docs/scaling.md: fleets of three sizes, one worker and two. Printed, and not among the figures: what it
says is of the machine it runs on."""

import asyncio
import statistics
import sys
import time
from pathlib import Path

import httpx
import uvloop

from bench.checkins import PASSWORD, SECONDS, _devices, _unchanged, free_port, running
from bench.load import answers_a_second
from bench.million import _fill, _timed, paths
from bench.rings import own_cluster
from bench.uploads import peak_of
from mellow_herald.client import Herald
from tests.harness.firmware import BOARD

SIZES, WORKERS = (10_000, 100_000, 1_000_000), (1, 2)


def main(sizes: list[int]) -> None:
    """Prints a line for each."""
    print("devices | workers | start s | MB a worker | check-ins a second | median page ms | 9 of 10 ms | slowest ms")
    for devices in sizes:
        with own_cluster() as (folder, database):
            asyncio.run(_fill(folder, database, devices))
            for workers in WORKERS:
                print(f"{devices:>9,} | {workers} | {_line(folder, database, devices, workers)}", flush=True)


def _line(folder: Path, database: str, devices: int, workers: int) -> str:
    port = free_port()
    url = f"http://127.0.0.1:{port}"
    serve = ["-m", "mellow_herald.cli.main", "serve", "--data-dir", str(folder), "--port", str(port)]
    began = time.monotonic()
    with running([*serve, "--database-url", database, "--workers", str(workers)], None, port) as process:
        with Herald(url) as herald:
            herald.people.sign_in("admin", PASSWORD)
            started = time.monotonic() - began
            token = herald.people.make_token().token
        called = _devices(url, BOARD, f"B{workers}")
        rate, _ = uvloop.run(
            answers_a_second(port, [(one, _unchanged(n), 10) for n, one in enumerate(called)], SECONDS)
        )
        headers = {"authorization": f"Bearer {token}"}
        with (
            Herald(url, token=token) as herald,
            httpx.Client(base_url=url, headers=headers, timeout=120, trust_env=False) as http,
        ):
            took = sorted(1000 * _timed(http, path) for path in paths(herald, devices).values())
        memory = statistics.mean(peak_of(pid) for pid in _workers(process.pid)) / 1e6
    slow = took[len(took) * 9 // 10]
    return f"{started:.1f} | {memory:.0f} | {rate:,.0f} | {statistics.median(took):.0f} | {slow:.0f} | {took[-1]:.0f}"


def _workers(pid: int) -> list[int]:
    """Those that serve: the processes that this one has started with its own command, or it itself."""
    children = [int(one) for one in Path(f"/proc/{pid}/task/{pid}/children").read_text().split()]
    return [one for one in children if b"mellow_herald" in Path(f"/proc/{one}/cmdline").read_bytes()] or [pid]


if __name__ == "__main__":
    main([int(size) for size in sys.argv[1:]] or list(SIZES))
