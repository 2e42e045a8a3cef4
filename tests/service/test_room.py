"""A fleet that enrols in one moment: all come in, engineers go on meanwhile, nobody gets a 500."""

import asyncio
import json
import threading
import time
from collections import Counter
from concurrent.futures import ThreadPoolExecutor

from mellow_herald.service.problems import ProblemError
from mellow_herald.service.room import Room, Turns
from tests.harness.firmware import BOARD, LINE
from tests.harness.service import RunningService

FLEET = 620


async def test_so_many_at_once_so_many_wait_and_the_rest_is_sent_away() -> None:
    room, inside, most = Room(2, 3), 0, 0
    go = asyncio.Event()

    async def enter() -> None:
        nonlocal inside, most
        async with room.place():
            inside += 1
            most = max(most, inside)
            await go.wait()
            inside -= 1

    tasks = [asyncio.create_task(enter()) for _ in range(7)]
    await asyncio.sleep(0.05)
    go.set()
    done = await asyncio.gather(*tasks, return_exceptions=True)
    refused = [one for one in done if isinstance(one, ProblemError)]
    assert (most, len(refused)) == (2, 2)
    assert all(one.status == 503 and one.headers and 2 <= int(one.headers["Retry-After"]) <= 15 for one in refused)
    await enter()


async def test_those_outside_come_back_one_after_the_other_as_fast_as_others_are_served() -> None:
    now = 100.0
    turns = Turns(lambda: now)
    waits = [int(turns.later().headers["Retry-After"]) for _ in range(2000)]  # type: ignore[index]
    assert 3 <= waits[0] <= 4 and 18 <= waits[1999] <= 20, "a hundred a second, before anything was seen"
    for _ in range(20):
        now += 1
        turns.served(500, waiting=True)
        turns.later()
    waits = [int(turns.later().headers["Retry-After"]) for _ in range(2000)]  # type: ignore[index]
    assert 2 <= waits[1999] - waits[0] <= 5, "five hundred a second were served"
    for _ in range(200_000):
        turns.later()
    waits = [int(turns.later().headers["Retry-After"]) for _ in range(500)]  # type: ignore[index]
    assert max(waits) <= 182 and min(waits) >= 90 and len(set(waits)) > 50, "not all of them in the same moment"
    now += 1000
    turns.served(1, waiting=False)
    assert int(turns.later().headers["Retry-After"]) <= 4, "nobody is outside any more"  # type: ignore[index]


async def call(port: int, body: dict[str, object]) -> tuple[int, bytes]:
    """One enrolment on a connection of its own: status, and the whole answer."""
    said = json.dumps(body).encode()
    reader, writer = await asyncio.open_connection("127.0.0.1", port)
    head = f"POST /device/v1/enrolments HTTP/1.1\r\nhost: x\r\nconnection: close\r\ncontent-length: {len(said)}\r\n\r\n"
    writer.write(head.encode() + said)
    answer = await reader.read()
    writer.close()
    return int(answer.split(b" ", 2)[1]), answer


def test_a_whole_fleet_enrols_at_once(service: RunningService) -> None:
    code, port = service.code(uses=FLEET), int(service.url.rpartition(":")[2])
    statuses: Counter[int] = Counter()
    looks: list[float] = []

    async def enrol(number: int) -> None:
        body = {"serial": f"TA-{number}", "board": BOARD, "line": LINE, "hw_rev": 1, "code": code}
        while True:
            status, answer = await call(port, {**body, "nonce": f"nonce-of-{number:012}"})
            statuses[status] += 1
            if status != 503:
                return
            assert b"retry-after: " in answer
            await asyncio.sleep(1)

    async def all_at_once() -> None:
        await asyncio.gather(*(enrol(number) for number in range(FLEET)))

    def look() -> None:
        with service.http(service.token) as http:
            while not done.is_set():
                began = time.monotonic()
                assert http.get("/api/v1/devices?limit=50").status_code == 200
                looks.append(time.monotonic() - began)

    done = threading.Event()
    with ThreadPoolExecutor(1) as pool:
        looking = pool.submit(look)
        began = time.monotonic()
        asyncio.run(all_at_once())
        took = time.monotonic() - began
        done.set()
        looking.result()
    assert set(statuses) == {201, 503} and statuses[201] == FLEET
    assert service.herald.codes.list()[0].used == FLEET
    assert len(looks) > 5, "engineers go on meanwhile"
    print(f"{took:.1f} s, answers {dict(statuses)}; looks: {len(looks)}, the slowest {max(looks):.2f} s")
