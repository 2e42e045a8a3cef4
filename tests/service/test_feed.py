import threading
import time
from contextlib import suppress

import httpx
import pytest
from sqlalchemy import text

from mellow_herald.client import Herald
from mellow_herald.client.stream import FrameReader
from mellow_herald.core.journal import first_broken
from mellow_herald.service import feed
from mellow_herald.store.feed import content, read_journal
from mellow_herald.wire.board import BoardIn
from mellow_herald.wire.event import Event
from tests.harness.device import PuppetDevice
from tests.harness.firmware import DOMAIN, LINE
from tests.harness.patience import PATIENCE_S
from tests.harness.service import RunningService
from tests.harness.some import some
from tests.service.rollouts.test_life import begin, fleet, go_through

__all__ = ["fleet"]


def read_some(service: RunningService, count: int, **more: object) -> list[Event]:
    """The next ``count`` events of the stream."""
    reader, found = FrameReader(), []
    params, headers = more.get("params", {}), more.get("headers", {})
    with service.http(service.token) as http, http.stream("GET", "/api/v1/events", params=params, headers=headers) as r:  # type: ignore[arg-type]
        assert r.headers["content-type"].startswith("text/event-stream")
        for line in r.iter_lines():
            event = reader.line(line)
            if event is not None:
                found.append(event)
                if len(found) == count:
                    break
    return found


def test_a_follower_that_comes_back_misses_nothing(service: RunningService, fleet: list[PuppetDevice]) -> None:
    begin(service)
    for device in fleet:
        go_through(device)
    service.wait_for(1, lambda r: r.state == "finished")
    everything = read_some(service, 40, params={"after": 0})
    numbers = [event.id for event in everything]
    assert numbers == list(range(1, 41)), "no gaps"
    rest = read_some(service, 30, headers={"last-event-id": "10"})
    assert rest == everything[10:40]
    mine = read_some(service, 5, params={"after": 0, "rollout": 1})
    assert {event.rollout_id for event in mine} == {1}


def test_events_come_at_once_while_one_follows(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = begin(service)
    seen: list[tuple[float, Event]] = []
    ready = threading.Event()

    def follow() -> None:
        with Herald(service.url, token=service.token) as herald, suppress(Exception):
            ready.set()
            for event in herald.rollouts.watch(rollout_id):
                seen.append((time.monotonic(), event))

    thread = threading.Thread(target=follow, daemon=True)
    thread.start()
    ready.wait()
    time.sleep(0.3)
    reported = time.monotonic()
    for device in fleet:
        go_through(device)
    thread.join(PATIENCE_S)
    assert not thread.is_alive(), "watching ends with the rollout"
    states = [e.data["state"] for _, e in seen if e.kind == "attempt" and e.data["serial"] == "TA-0"]
    assert [s for s, after in zip(states, [*states[1:], None], strict=True) if s != after] == [
        "offered",
        "downloading",
        "staged",
        "cleared",
        "installing",
        "proving",
        "confirmed",
    ]
    assert seen[0][0] - reported < 1.0
    assert seen[-1][1].data["what"] == "finished"


def a_board(name: str) -> BoardIn:
    slots = [{"name": "a", "size": 65536}, {"name": "b", "size": 65536}]
    return BoardIn(name=name, vendor_domain=DOMAIN, lines=[LINE], hw_revs=[1], slots=slots)  # type: ignore[arg-type]


def test_what_is_written_is_heard_at_once_also_after_the_database_dropped_who_listens(
    service: RunningService, monkeypatch: pytest.MonkeyPatch
) -> None:
    def heard_after(name: str) -> float:
        """Real seconds from a board's being added to the event of it, where another look comes a minute later."""
        began = time.monotonic()
        threading.Timer(0.3, lambda: service.herald.boards.add(a_board(name))).start()
        [event] = read_some(service, 1)
        assert (event.kind, event.data) == ("board", {"board": name})
        return time.monotonic() - began - 0.3

    async def drop() -> int:
        who = "SELECT pid FROM pg_stat_activity WHERE datname = current_database() AND query IN ('{}')"
        last = who.format("', '".join(("NOTIFY herald", 'LISTEN "herald"', "SET synchronous_commit = off")))
        async with service.context.pools.work.begin() as connection:
            return len((await connection.execute(text(f"SELECT pg_terminate_backend(pid) FROM ({last}) l"))).all())

    monkeypatch.setattr(feed, "POLL_SECONDS", 60)
    service.herald.boards.add(a_board("n-0"))  # the wait that began with the usual second is over
    time.sleep(1.5)
    assert heard_after("n-1") < 1
    assert service.call(drop()) == 1
    time.sleep(2)
    assert heard_after("n-2") < 1


async def test_a_slow_follower_is_told_to_read_again() -> None:
    from mellow_herald.service import signals

    told = signals.Signals()
    with told.follow(1, frozenset()) as follower:
        queue = follower.queue
        told.spread(list(range(signals.SUBSCRIBER_BACKLOG + 5)))
        assert queue.get_nowait() is None
        assert queue.empty()


@pytest.mark.parametrize("last", ["x", "-1", "1e3", "9" * 30])
def test_a_bad_last_event_id_is_a_problem(shared_service: RunningService, last: str) -> None:
    with shared_service.http(shared_service.token) as http:
        response = http.get("/api/v1/events", headers={"last-event-id": last})
    assert response.status_code == 422


def test_the_journal_verifies_and_every_entry_names_who_and_why(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = begin(service)
    service.herald.rollouts.halt(rollout_id, "calls from the field")
    time.sleep(0.5)

    async def rows() -> list[object]:
        async with service.context.engine.connect() as connection:
            return list(reversed(await read_journal(connection, limit=1000)))

    entries = service.call(rows())
    assert first_broken((row["link"], row["hash"], content(row)) for row in entries) is None  # type: ignore[attr-defined]
    shown = service.herald.journal.list(limit=1000).items
    assert all(entry.who and entry.why for entry in some(shown))
    assert any(
        (entry.what, entry.who, entry.why) == ("rollout halted", "admin", "calls from the field") for entry in shown
    )


def test_what_was_acknowledged_survives_a_restart_of_the_service(
    databases: object, tmp_path: object, fleet: list[PuppetDevice], service: RunningService
) -> None:
    rollout_id = begin(service)
    device = fleet[0]
    device.checkin()
    device.stage()
    service.stop()
    again = RunningService(service.database_url, service.settings.data_dir)
    again.publisher = service.publisher
    again.start()
    try:
        device._http = httpx.Client(base_url=f"{again.url}/device/v1", trust_env=False)
        assert again.herald.rollouts.show(rollout_id).states["staged"] == 1
        assert device.checkin().json()["order"] == "switch", "its token and its attempt are still good"
    finally:
        again.stop()
        service.stop = lambda: None  # type: ignore[method-assign]
