"""Half a request, a dripping body, and too many at once: nobody is kept out by them."""

import socket
import time
from collections.abc import Iterator
from contextlib import suppress
from types import SimpleNamespace

import httpx
import pytest
from fastapi import FastAPI, Request
from starlette.types import Message

from mellow_herald.service import connections
from mellow_herald.service.connections import Connection
from mellow_herald.service.problems import add_problem_handlers
from tests.harness.patience import PATIENCE_S
from tests.harness.service import RunningService


@pytest.fixture
def hasty(service: RunningService, monkeypatch: pytest.MonkeyPatch) -> Iterator[RunningService]:
    monkeypatch.setattr(connections, "PATIENCE_SECONDS", 1.0)
    yield service


def opened(service: RunningService, said: bytes, local: str = "127.0.0.1") -> socket.socket:
    port = int(service.url.rpartition(":")[2])
    made = socket.create_connection(("127.0.0.1", port), timeout=60, source_address=(local, 0))
    made.sendall(said)
    return made


def read_answer(connection: socket.socket) -> None:
    """Reads a whole answer of `/health/live`."""
    said = b""
    while not said.endswith(b'"checks":{}}'):
        said += connection.recv(65536)
    assert said.startswith(b"HTTP/1.1 200 OK")


def ended(connection: socket.socket, seconds: float = 8.0) -> bytes:
    """What is answered until it is closed."""
    connection.settimeout(seconds)
    said = b""
    with suppress(ConnectionResetError):
        while piece := connection.recv(65536):
            said += piece
    return said


@pytest.mark.parametrize(
    "said",
    [
        b"",
        b"GET /health/live HTTP/1.1\r\nhost: x\r\n",
        b"POST /api/v1/session HTTP/1.1\r\nhost: x\r\ntransfer-encoding: chunked\r\n\r\n1\r\n{\r\n",
    ],
)
def test_half_a_request_is_sent_away(hasty: RunningService, said: bytes) -> None:
    with opened(hasty, said) as half:
        assert ended(half).startswith(b"HTTP/1.1 408 ")


def test_what_was_answered_before_it_was_all_there_is_answered_once(hasty: RunningService) -> None:
    said = b"POST /device/v1/checkins HTTP/1.1\r\nhost: x\r\ncontent-length: 5000\r\n\r\n{"
    with opened(hasty, said) as half:
        answers = ended(half)
        assert answers.startswith(b"HTTP/1.1 401 ") and answers.count(b"HTTP/1.1") == 1


def test_who_sends_slowly_but_steadily_and_who_rests_between_requests_stays(hasty: RunningService) -> None:
    whole = b"GET /health/live HTTP/1.1\r\nhost: x\r\n\r\n"
    with opened(hasty, whole) as resting:
        read_answer(resting)
        kind = b"content-type: application/json\r\ncontent-length: 8000\r\n\r\n"
        head = b"POST /api/v1/session HTTP/1.1\r\nhost: x\r\n" + kind
        with opened(hasty, head) as steady:
            for _ in range(8):
                steady.sendall(b" " * 1000)
                time.sleep(0.5)
            assert b" 400 " in steady.recv(65536), "read to its end, and no JSON"
        resting.sendall(whole)
        read_answer(resting)


async def test_who_hangs_up_in_the_middle_of_a_call_is_no_fault_of_the_service() -> None:
    app, sent = FastAPI(), []
    add_problem_handlers(app, lambda path: "GET")

    @app.post("/upload")
    async def upload(request: Request) -> None:
        async for _ in request.stream():
            pass

    said = iter([{"type": "http.request", "body": b"{", "more_body": True}, {"type": "http.disconnect"}])
    scope = {"type": "http", "method": "POST", "path": "/upload", "raw_path": b"/upload", "query_string": b""}

    async def receive() -> Message:
        return next(said)

    async def send(message: Message) -> None:
        sent.append(message)

    await app({**scope, "headers": [], "http_version": "1.1", "asgi": {"version": "3.0"}}, receive, send)
    assert sent[0]["status"] == 400


def test_a_stream_is_not_a_slow_caller(hasty: RunningService) -> None:
    with hasty.http(hasty.token) as http, http.stream("GET", "/api/v1/events", timeout=httpx.Timeout(10)) as stream:
        lines = stream.iter_lines()
        next(lines)
        time.sleep(4)
        hasty.publish("2.4.0").raise_for_status()
        assert "event: release" in lines


def test_one_address_has_so_many_and_others_go_on(service: RunningService, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(connections, "PER_ADDRESS", 5)
    monkeypatch.setattr(connections, "_is_ours", lambda address, trusted: address in trusted)
    monkeypatch.setattr(Connection, "trusted", frozenset({"127.0.0.1"}))
    held = [opened(service, b"GET ", "127.0.0.2") for _ in range(5)]
    with opened(service, b"", "127.0.0.2") as refused:
        said = ended(refused)
        assert said.startswith(b"HTTP/1.1 503 ") and b"retry-after" in said
    assert service.herald.live().ok
    for connection in held:
        connection.close()
    deadline = time.monotonic() + PATIENCE_S
    while Connection.by_address["127.0.0.2"] and time.monotonic() < deadline:
        time.sleep(0.05)
    with opened(service, b"GET /health/live HTTP/1.1\r\nhost: x\r\n\r\n", "127.0.0.2") as again:
        assert b"200 OK" in again.recv(65536)


def test_beyond_what_may_be_open_it_is_said(service: RunningService, monkeypatch: pytest.MonkeyPatch) -> None:
    service.herald.live()
    monkeypatch.setattr(Connection, "most", 0)
    with opened(service, b"") as refused:
        assert ended(refused).startswith(b"HTTP/1.1 503 ")


def test_whose_words_lie_here_unread_is_not_slow() -> None:
    ours, theirs = socket.socketpair()
    with ours, theirs:
        waiting = Connection.__new__(Connection)
        waiting.awaited_since, waiting.body = 0.0, None
        waiting.flow = SimpleNamespace(read_paused=False)  # type: ignore[assignment]
        waiting.transport = SimpleNamespace(get_extra_info=lambda _: ours)  # type: ignore[assignment]
        assert waiting.is_too_slow(60.0), "it has said nothing"
        theirs.sendall(b"GET / HTTP/1.1\r\n")
        assert not waiting.is_too_slow(60.0), "we have not listened"
        ours.recv(100)
        assert waiting.is_too_slow(60.0)
