import asyncio
import json
import time
from pathlib import Path

import httpx
import pytest

from mellow_herald.client import (
    AsyncHerald,
    Herald,
    NotSignedInError,
    ProblemError,
    UnreachableError,
    WaitedTooLongError,
)
from mellow_herald.client.stream import FrameReader
from mellow_herald.client.synchronous import herald as synchronous
from mellow_herald.client.transport import pause_before
from tests.harness.firmware import make_bytes
from tests.harness.service import PASSWORD, RunningService

PROBLEM = {"type": "urn:mellow-herald:problem:x", "title": "t", "status": 503, "detail": "Not now."}


def test_signing_out_ends_what_was_signed_in(shared_service: RunningService) -> None:
    with Herald(shared_service.url) as herald:
        herald.people.sign_in("admin", PASSWORD)
        assert herald.people.whoami().name == "admin"
        assert "herald_devices" in herald.metrics() and herald.live().ok
        herald.people.sign_out()
        with pytest.raises(NotSignedInError):
            herald.people.whoami()


def answering(*answers: httpx.Response | Exception) -> tuple[httpx.MockTransport, list[httpx.Request]]:
    """A transport that gives these answers in turn, and the requests it saw."""
    seen: list[httpx.Request] = []
    left = list(answers)

    def handle(request: httpx.Request) -> httpx.Response:
        seen.append(request)
        answer = left.pop(0)
        if isinstance(answer, Exception):
            raise answer
        return answer

    return httpx.MockTransport(handle), seen


@pytest.fixture(autouse=True)
def no_pauses(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(synchronous, "pause_before", lambda *_: 0.0)


def test_reading_is_repeated_writing_is_not() -> None:
    ok = httpx.Response(200, json=[])
    transport, seen = answering(httpx.ConnectError("refused"), httpx.Response(503, json=PROBLEM), ok)
    with Herald(transport=transport) as herald:
        assert herald.boards.list() == []
    assert len(seen) == 3
    transport, seen = answering(httpx.Response(503, json=PROBLEM))
    with Herald(transport=transport) as herald, pytest.raises(ProblemError, match="halt of rollout 1: Not now"):
        herald.rollouts.halt(1, "because")
    assert len(seen) == 1


def test_a_service_that_is_not_there_is_said_so() -> None:
    transport, _ = answering(*[httpx.ConnectError("refused")] * 3)
    with Herald("http://127.0.0.1:1", transport=transport) as herald, pytest.raises(UnreachableError) as raised:
        herald.overview()
    assert "reading the overview: the service at http://127.0.0.1:1" in str(raised.value)
    assert "herald serve" in str(raised.value)


def test_an_answer_that_is_no_problem_is_still_an_error() -> None:
    transport, _ = answering(httpx.Response(400, text="<html>proxy</html>"))
    with Herald(transport=transport) as herald, pytest.raises(ProblemError, match="answered 400 without saying why"):
        herald.overview()


def test_retry_after_counts_within_reason() -> None:
    assert pause_before(2, httpx.Response(503, headers={"retry-after": "3"})) == 3
    assert pause_before(2, httpx.Response(503, headers={"retry-after": "9999"})) == 10
    assert pause_before(2) < pause_before(3) < pause_before(4)


def test_a_started_rollout_carries_a_key_so_that_it_may_be_repeated() -> None:
    from mellow_herald.client import rollout_calls
    from mellow_herald.wire.plan import PlanDocument

    document = {"name": "p", "release": "a/b/1.0.0", "target": "board = a", "rings": [{"name": "r"}]}
    call = rollout_calls.start_rollout(PlanDocument.model_validate(document), [3], 0.1, False)
    assert call.params == {"counts": [3], "within": 0.1}
    assert call.repeatable and len(call.headers["idempotency-key"]) == 32


def test_frames_are_read_across_lines_and_comments() -> None:
    body = json.dumps({"id": 7, "at": "2026-11-23T06:00:00Z", "kind": "thing", "data": {"n": 1}})
    reader = FrameReader()
    lines = [": hello", "retry: 1000", "", "id: 7", "event: thing", f"data: {body}", "", ""]
    events = [event for event in map(reader.line, lines) if event is not None]
    assert len(events) == 1 and events[0].id == 7


def test_a_broken_stream_goes_on_after_the_last_event() -> None:
    def frame(number: int, what: str) -> str:
        event = {"id": number, "at": "2026-11-23T06:00:00Z", "kind": "rollout", "rollout_id": 1, "data": {"what": what}}
        return f"id: {number}\nevent: rollout\ndata: {json.dumps(event)}\n\n"

    transport, seen = answering(
        httpx.Response(200, text=frame(1, "started") + frame(2, "held")),
        httpx.ReadError("cut"),
        httpx.Response(200, text=frame(3, "finished")),
    )
    with Herald(transport=transport) as herald:
        assert [event.id for event in herald.rollouts.watch(1)] == [1, 2, 3]
    assert [request.url.params.get("after") for request in seen] == ["0", "2", "2"], "from its start"


def test_watching_ends_by_itself_after_the_time_it_was_given(shared_service: RunningService) -> None:
    with Herald(shared_service.url, token=shared_service.token) as herald:
        began = time.monotonic()
        with pytest.raises(WaitedTooLongError, match="not come to pass within 0.3 s"):
            list(herald.rollouts.watch(77, timeout=0.3))
        assert time.monotonic() - began < 10
        assert [event.kind for event in herald.latest_events(kinds=["keys"], limit=1)] in ([], ["keys"])


async def test_the_asynchronous_client_works_the_same(shared_service: RunningService, tmp_path: Path) -> None:
    image = tmp_path / "image.bin"
    image.write_bytes(make_bytes("3.1.0"))
    async with AsyncHerald(shared_service.url) as herald:
        me = await herald.people.sign_in("admin", PASSWORD)
        token = (await herald.people.make_token()).token
    assert me.roles == ["admin"]
    async with AsyncHerald(shared_service.url, token=token) as herald:
        sent: list[int] = []
        release = await herald.releases.publish(image, key=shared_service.publisher.key, progress=sent.append)
        assert release.version == "3.1.0" and sent[-1] > 20_000
        assert [one.version for one in (await herald.releases.list()).items] == ["3.1.0"]
        assert [device async for device in herald.devices.each()] == []
        with pytest.raises(ProblemError, match="no rollout 77"):
            await herald.rollouts.show(77)
        stream = herald.follow(after=0)
        first = await asyncio.wait_for(anext(stream), 5)
        assert first.id == 1
        await stream.aclose()  # type: ignore[attr-defined]
