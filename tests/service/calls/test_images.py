"""Bytes of a file that go to the network without passing through the process, whoever takes them and however."""

import asyncio
import os
import socket
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
import uvicorn
import uvloop
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route

from mellow_herald.service.calls.images import ImageResponse
from mellow_herald.service.connections import Connection
from tests.harness.patience import PATIENCE_S
from tests.harness.processes import free_port

SIZE = 12 * 1024 * 1024 + 12345
PATH = "/device/v1/images/one"


class Serving:
    """A file, served in a thread."""

    def __init__(self, file: Path, run: object) -> None:
        self.port = free_port()

        async def image(request: Request) -> Response:
            return ImageResponse(file, headers={"etag": '"one"'}, media_type="application/octet-stream")

        app = Starlette(routes=[Route(PATH, image)])
        config = uvicorn.Config(app, port=self.port, http=Connection, log_config=None, access_log=False)
        self.server = uvicorn.Server(config)
        self.thread = threading.Thread(target=lambda: run(self.server.serve()), daemon=True)  # type: ignore[operator]

    def ask(self, *lines: str) -> socket.socket:
        """A connection on which the file was asked for, and nothing has been read."""
        line = socket.create_connection(("127.0.0.1", self.port), timeout=60)
        line.sendall("\r\n".join([f"GET {PATH} HTTP/1.1", "Host: x", *lines, "", ""]).encode())
        return line


@pytest.fixture(scope="module", params=[asyncio.run, uvloop.run], ids=["asyncio", "uvloop"])
def serving(
    request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[tuple[Serving, bytes]]:
    data = os.urandom(SIZE)
    file = tmp_path_factory.mktemp("images") / "one"
    file.write_bytes(data)
    serving = Serving(file, request.param)
    serving.thread.start()
    while not serving.server.started:
        time.sleep(0.01)
    yield serving, data
    serving.server.should_exit = True
    serving.thread.join(PATIENCE_S)


def open_files() -> int:
    return sum(1 for _ in Path("/proc/self/fd").iterdir())


def get(serving: Serving, **headers: str) -> httpx.Response:
    with httpx.Client(trust_env=False, timeout=60) as http:
        return http.get(f"http://127.0.0.1:{serving.port}{PATH}", headers=headers)


def test_it_comes_whole_and_in_ranges_on_one_connection(serving: tuple[Serving, bytes]) -> None:
    served, data = serving
    url = f"http://127.0.0.1:{served.port}{PATH}"
    with httpx.Client(trust_env=False, timeout=60) as http:
        for _ in range(2):
            whole = http.get(url)
            assert (whole.status_code, whole.content) == (200, data)
            part = http.get(url, headers={"range": f"bytes=1000-{SIZE - 1000}"})
            assert (part.status_code, part.content) == (206, data[1000 : SIZE - 999])
            assert part.headers["content-range"] == f"bytes 1000-{SIZE - 1000}/{SIZE}"
            last = http.get(url, headers={"range": "bytes=-1", "if-range": '"one"'})
            assert (last.status_code, last.content) == (206, data[-1:])
            several = http.get(url, headers={"range": "bytes=0-9,100-109"})
            assert several.status_code == 206 and data[100:110] in several.content
            head = http.head(url)
            assert (head.status_code, head.headers["content-length"], head.content) == (200, str(SIZE), b"")


def test_who_reads_slowly_gets_every_byte_and_nobody_waits_for_him(serving: tuple[Serving, bytes]) -> None:
    served, data = serving
    with served.ask("Connection: close") as slow:
        time.sleep(0.2)
        assert get(served).content == data, "another is served meanwhile"
        got = bytearray()
        while piece := slow.recv(64 * 1024):
            got += piece
            if len(got) < 1_000_000:
                time.sleep(0.005)
    head, _, body = bytes(got).partition(b"\r\n\r\n")
    assert head.startswith(b"HTTP/1.1 200") and body == data


def test_who_hangs_up_half_way_leaves_nothing_open(
    serving: tuple[Serving, bytes], caplog: pytest.LogCaptureFixture
) -> None:
    served, data = serving
    get(served)
    time.sleep(0.3)
    before = open_files()
    for taken in (0, 1, 100_000, 5_000_000):
        with served.ask() as line:
            left = taken
            while left > 0:
                left -= len(line.recv(min(left, 65536)))
    deadline = time.monotonic() + PATIENCE_S
    while open_files() > before and time.monotonic() < deadline:
        time.sleep(0.05)
    assert open_files() <= before
    assert not [record for record in caplog.records if record.levelname == "ERROR"], caplog.text
    assert get(served).content == data


def test_calls_in_one_go_are_answered_in_order(serving: tuple[Serving, bytes]) -> None:
    served, data = serving
    first = f"Range: bytes=0-{SIZE - 1}"
    with served.ask(first, "", f"GET {PATH} HTTP/1.1", "Host: x", "Range: bytes=5-9", "Connection: close") as line:
        got = bytearray()
        while piece := line.recv(1 << 20):
            got += piece
    head, _, rest = bytes(got).partition(b"\r\n\r\n")
    assert head.startswith(b"HTTP/1.1 206") and rest[:SIZE] == data
    assert rest[SIZE:].startswith(b"HTTP/1.1 206") and rest.endswith(data[5:10])
