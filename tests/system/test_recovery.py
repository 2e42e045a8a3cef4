"""What becomes of the service when what it stands on breaks, or when two want the same: it says so, and goes on."""

import os
import signal
import socket
import subprocess
import time
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import httpx
import pytest
from sqlalchemy import text

from mellow_herald.client import Herald, HeraldError
from mellow_herald.store.cluster import Cluster
from mellow_herald.store.database import make_engine
from tests.harness.flight import Flight
from tests.harness.patience import PATIENCE_S, until

pytestmark = pytest.mark.system


@pytest.fixture
def flight(folder: Path) -> Iterator[Flight]:
    made = Flight(folder)
    yield made
    made.stop()


def cluster_of(flight: Flight) -> Cluster:
    return Cluster(flight.folder / "data" / "postgres")


def answer(flight: Flight, herald: Herald) -> httpx.Response:
    token = herald._http.headers["authorization"]
    return httpx.get(f"{flight.url}/api/v1/devices", headers={"authorization": token}, timeout=60)


def serves(herald: Herald) -> bool:
    with suppress(HeraldError):
        return herald.ready().ok
    return False


def test_postgresql_that_is_killed_is_started_again_and_it_is_said(flight: Flight) -> None:
    service = flight.serve()
    herald = flight.signed_in()
    until(lambda: serves(herald))
    began = time.monotonic()
    cluster_of(flight).kill()
    statuses = set()
    while not statuses or time.monotonic() - began < 3 or not serves(herald):
        answered = answer(flight, herald)
        statuses.add(answered.status_code)
        if answered.status_code == 503:
            assert answered.headers["retry-after"] and answered.json()["type"].endswith(":database-away")
        assert time.monotonic() - began < 60
        time.sleep(0.05)
    print(f"it took {time.monotonic() - began:.1f} s, answers {statuses}")
    assert {200} <= statuses <= {200, 503} and service.poll() is None
    until(lambda: "database started again" in [entry.what for entry in herald.journal.list().items])
    log = (flight.folder / "serve.log").read_text()
    assert "PostgreSQL runs again" in log and "Traceback" not in log
    assert len(log.splitlines()) < 40, "a line a second at most"


def test_a_database_that_hangs_is_said_at_once_and_keeps_nobody_for_ever(flight: Flight) -> None:
    flight.serve()
    herald = flight.signed_in()
    until(lambda: serves(herald))
    postmaster = cluster_of(flight)._pid()
    assert postmaster is not None
    children = Path(f"/proc/{postmaster}/task/{postmaster}/children").read_text().split()
    frozen = [postmaster, *map(int, children)]
    for pid in frozen:
        os.kill(pid, signal.SIGSTOP)
    try:
        began = time.monotonic()
        health = httpx.get(f"{flight.url}/health/ready", timeout=60)
        assert health.status_code == 503 and "database" in health.json()["checks"]
        assert time.monotonic() - began < 5
        began = time.monotonic()
        answered = answer(flight, herald)
        assert (answered.status_code, answered.json()["type"].rsplit(":", 1)[1]) == (503, "database-away")
        assert time.monotonic() - began < 15
    finally:
        for pid in reversed(frozen):
            os.kill(pid, signal.SIGCONT)
    until(lambda: serves(herald))
    assert answer(flight, herald).status_code == 200


def test_a_second_service_takes_neither_the_folder_nor_the_port(flight: Flight) -> None:
    first = flight.serve()
    elsewhere = ["--data-dir", str(flight.folder / "other"), "--port", str(flight.port)]
    for arguments, word in (
        (["--data-dir", str(flight.folder / "data"), "--port", "0"], f"is in use by process {first.pid} since"),
        (elsewhere, f"port {flight.port} is in use by another service"),
    ):
        second = flight.start("serve", *arguments)
        assert second.wait(PATIENCE_S) == 1
        assert word in (flight.folder / "serve.log").read_text()
    assert serves(flight.signed_in()), "its database was not touched"
    assert not (flight.folder / "other" / "postgres").exists(), "told before anything was started"


def test_workers_end_with_their_parent_and_the_next_service_goes_on(flight: Flight) -> None:
    parent = flight.serve("--workers", "2")
    workers = [int(pid) for pid in Path(f"/proc/{parent.pid}/task/{parent.pid}/children").read_text().split()]
    parent.kill()
    parent.wait(PATIENCE_S)

    def gone() -> bool:
        return not any(b"mellow_herald.cli.main" in _command(pid) for pid in workers)

    until(gone)
    with pytest.raises(httpx.ConnectError):
        httpx.get(f"{flight.url}/health/live", timeout=60)
    flight.serve()


def _command(pid: int) -> bytes:
    with suppress(OSError):
        return Path(f"/proc/{pid}/cmdline").read_bytes()
    return b""


def test_a_database_of_a_later_version_is_one_sentence(databases: object, tmp_path: Path) -> None:
    import asyncio
    import sys

    url = databases.fresh()  # type: ignore[attr-defined]

    async def bring_forward() -> None:
        engine = make_engine(url)
        async with engine.begin() as connection:
            await connection.execute(text("UPDATE alembic_version SET version_num = '9999'"))
        await engine.dispose()

    asyncio.run(bring_forward())
    command = [sys.executable, "-m", "mellow_herald.cli.main", "serve", "--data-dir", str(tmp_path), "--port", "0"]
    done = subprocess.run([*command, "--database-url", url], capture_output=True, text=True, timeout=PATIENCE_S)
    assert done.returncode == 1 and "Traceback" not in done.stderr
    assert "herald: cannot serve: the database is of a later version (its schema is 9999" in done.stderr


@pytest.mark.parametrize("workers", ["1", "2"])
def test_a_supervisor_is_told_that_it_is_ready_that_it_lives_and_that_it_stops(folder: Path, workers: str) -> None:
    with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as heard:
        heard.bind(str(folder / "notify"))
        heard.settimeout(60)
        environment = {"NOTIFY_SOCKET": str(folder / "notify"), "WATCHDOG_USEC": "1000000"}
        flight = Flight(folder, environment=environment)
        try:
            service = flight.serve("--workers", workers)
            words = [heard.recv(100).decode() for _ in range(4)]
            assert words == ["READY=1", *["WATCHDOG=1"] * 3], "and nothing of PostgreSQL or workers"
            service.send_signal(signal.SIGTERM)
            until(lambda: heard.recv(100) == b"STOPPING=1")
            service.wait(PATIENCE_S)
        finally:
            flight.stop()
