"""Recordings through the service: asked for, announced, sent in parts that get lost and come twice, given out."""

import gzip
import json
from datetime import datetime, timedelta
from hashlib import sha256
from pathlib import Path
from typing import Any

import httpx
import pytest
from sqlalchemy import text

from mellow_herald.client import ProblemError
from mellow_herald.core.readings.recording import LARGEST_PART
from mellow_herald.service.readings import merging, recordings
from mellow_herald.wire.recordings import RecordingIn, RecordingOut
from tests.harness.device import PuppetDevice
from tests.harness.patience import until
from tests.harness.service import RunningService
from tests.service.readings.test_readings import block, board, now_of, send


@pytest.fixture
def device(service: RunningService) -> PuppetDevice:
    service.herald.boards.add(board())
    made = PuppetDevice(service.url, "TA-1")
    made.enrol(service.code(), labels={"site": "fernhollow"}).raise_for_status()
    made.checkin()
    return made


def ask(service: RunningService, **more: Any) -> RecordingOut:
    return service.herald.recordings.ask("TA-1", RecordingIn.model_validate({"last": "1h", **more}))


def told(device: PuppetDevice, **more: Any) -> dict[str, Any]:
    """What a device is told of a recording at its next call, once the feed has brought it."""
    return until(lambda: (answer := device.checkin(**more)).status_code == 200 and answer.json().get("record"))


def file_of(begins: float, count: int) -> bytes:
    blocks = [block(begins + n, [0, 500], weight=[30 + n / 8, 30.5], activity=["resting", None]) for n in range(count)]
    return gzip.compress("\n".join(json.dumps(one) for one in blocks).encode(), mtime=0)


def announce(device: PuppetDevice, number: int, body: bytes, **more: Any) -> httpx.Response:
    said = {"size": len(body), "sha256": sha256(body).hexdigest(), "samples": 7, **more}
    return device.post(f"/recordings/{number}", json.dumps(said).encode())


def put(device: PuppetDevice, number: int, body: bytes, begin: int, end: int) -> httpx.Response:
    heading = {**device.headers, "content-range": f"bytes {begin}-{end - 1}/{len(body)}"}
    return device.put(f"/recordings/{number}", body[begin:end], heading)


def test_it_comes_in_parts_of_which_some_are_lost_and_some_come_twice(
    service: RunningService, device: PuppetDevice
) -> None:
    asked = ask(service, signals=["weight", "activity"])
    assert asked.state == "asked" and asked.size is None
    record = told(device)
    assert record["number"] == asked.id and record["signals"] == ["weight", "activity"]
    assert record["begins"] == pytest.approx(asked.begins.timestamp()) and record["ends"] > record["begins"]
    assert device.checkin(recording=asked.id).status_code == 204, "it says that it is about it"
    body = file_of(record["begins"], 200)
    assert announce(device, asked.id, body).json() == {"have": 0, "complete": False}
    third = len(body) // 3
    assert put(device, asked.id, body, 0, third).json()["have"] == third
    assert put(device, asked.id, body, 2 * third, len(body)).json()["have"] == third, "one before it is missing"
    assert put(device, asked.id, body, 0, third).json()["have"] == third, "it came twice"
    shown = service.herald.recordings.show(asked.id)
    assert (shown.state, shown.have, shown.size) == ("coming", third, len(body))
    with pytest.raises(ProblemError, match="is coming"):
        b"".join(service.herald.recordings.file(asked.id))
    assert announce(device, asked.id, body).json()["have"] == third, "after a restart it goes on"
    assert put(device, asked.id, body, third - 10, 2 * third).json()["have"] == 2 * third
    assert put(device, asked.id, body, 2 * third, len(body)).json() == {"have": len(body), "complete": True}
    ended = service.herald.recordings.show(asked.id)
    assert (ended.state, ended.samples, ended.contains) == ("complete", 600, ["activity", "weight"])
    rows = gzip.decompress(b"".join(service.herald.recordings.file(asked.id))).decode().splitlines()
    assert rows[0] == "at,activity,weight [kg]" and len(rows) == 401
    assert datetime.fromisoformat(rows[1].split(",")[0]).timestamp() == pytest.approx(record["begins"], abs=0.002)
    head = b"".join(service.herald.recordings.file(asked.id, "jsonl")).splitlines()[0]
    assert json.loads(head)["device"] == "TA-1"
    assert b"".join(service.herald.recordings.file(asked.id, "netcdf")).startswith(b"CDF\x02")
    assert put(device, asked.id, body, 0, third).status_code == 409
    until(lambda: device.checkin().status_code == 204)
    whats = [one.what for one in service.herald.journal.list().items]
    assert "recording asked for" in whats


def test_bytes_other_than_announced_are_wanted_anew_and_given_up_at_last(
    service: RunningService, device: PuppetDevice
) -> None:
    asked, body = ask(service), file_of(now_of(service) - 60, 50)
    announce(device, asked.id, body)
    wrong = b"\x00" * len(body)
    for _ in range(2):
        assert put(device, asked.id, wrong, 0, len(wrong)).json() == {"have": 0, "complete": False}
    put(device, asked.id, wrong, 0, len(wrong))
    ended = service.herald.recordings.show(asked.id)
    assert (ended.state, ended.reason) == ("failed", "corrupted")
    assert put(device, asked.id, body, 0, len(body)).status_code == 409


def test_another_file_begins_anew_and_one_that_cannot_be_read_says_why(
    service: RunningService, device: PuppetDevice
) -> None:
    asked, body = ask(service), file_of(now_of(service) - 60, 50)
    announce(device, asked.id, body)
    put(device, asked.id, body, 0, 100)
    other = gzip.compress(b'{"at": 1}\n')
    assert announce(device, asked.id, other).json()["have"] == 0
    assert put(device, asked.id, body, 0, 100).status_code == 409, "that is of the file before"
    put(device, asked.id, other, 0, len(other))
    ended = service.herald.recordings.show(asked.id)
    assert (ended.state, ended.reason) == ("failed", "unreadable") and "line 1" in ended.detail


def test_what_a_device_cannot_give_is_said_with_its_reason(service: RunningService, device: PuppetDevice) -> None:
    first, second = ask(service), ask(service, at_most=1000)
    said = {"reason": "nothing-kept", "detail": "my ring begins at noon"}
    assert told(device)["number"] == first.id, "the oldest comes first"
    assert device.post(f"/recordings/{first.id}", json.dumps(said).encode()).status_code == 200
    shown = service.herald.recordings.show(first.id)
    assert (shown.state, shown.reason, shown.detail) == ("failed", "nothing-kept", "my ring begins at noon")
    until(lambda: told(device)["number"] == second.id)
    large = file_of(now_of(service) - 60, 500)
    assert announce(device, second.id, large).json()["have"] == 0
    assert put(device, second.id, large, 0, 100).status_code == 409
    assert service.herald.recordings.show(second.id).reason == "too-large"


def test_a_cancelled_one_is_sent_no_more(service: RunningService, device: PuppetDevice) -> None:
    asked, body = ask(service), file_of(now_of(service) - 60, 50)
    announce(device, asked.id, body)
    put(device, asked.id, body, 0, 100)
    assert service.herald.recordings.cancel(asked.id, "seen enough").state == "cancelled"
    assert put(device, asked.id, body, 100, 200).status_code == 409
    with pytest.raises(ProblemError, match="ended already"):
        service.herald.recordings.cancel(asked.id, "again")
    until(lambda: device.checkin().status_code == 204)


def test_a_clock_that_is_behind_is_made_up_for(service: RunningService, device: PuppetDevice) -> None:
    now = now_of(service)
    send(device, block(now - 3600 - 10, [0], weight=[31.0]), sent_at=now - 3600).raise_for_status()
    asked = ask(service, last="10m")
    record = told(device)
    assert record["ends"] == pytest.approx(asked.ends.timestamp() - 3600, abs=2)
    body = file_of(record["begins"], 10)
    announce(device, asked.id, body)
    put(device, asked.id, body, 0, len(body))
    row = gzip.decompress(b"".join(service.herald.recordings.file(asked.id))).decode().splitlines()[1]
    assert datetime.fromisoformat(row.split(",")[0]).timestamp() == pytest.approx(asked.begins.timestamp(), abs=2)


def test_bad_input_is_refused_and_says_what_to_do(service: RunningService, device: PuppetDevice) -> None:
    with pytest.raises(ProblemError, match="no device TA-9"):
        service.herald.recordings.ask("TA-9", RecordingIn(last="1h"))
    later = service.context.clock.now() + timedelta(hours=1)
    with pytest.raises(ProblemError, match="end it now or earlier"):
        ask(service, last=None, **{"from": service.context.clock.now(), "to": later})
    asked, body = ask(service), file_of(now_of(service) - 60, 50)
    path = f"/recordings/{asked.id}"
    assert put(device, asked.id, body, 0, 100).status_code == 409, "nothing is announced"
    announce(device, asked.id, body)
    for heading, status in (
        ({}, 400),
        ({"content-range": "bytes 5-4/9"}, 400),
        ({"content-range": "bytes 0-99/100"}, 409),
        ({"content-range": f"bytes 0-{LARGEST_PART}/{10**9}"}, 413),
        ({"content-range": f"bytes 0-10/{len(body)}"}, 400),
    ):
        answer = device.put(path, body[:100], {**device.headers, **heading})
        assert answer.status_code == status, (heading, answer.text)
    assert device.post(path, b'{"size": 5}').status_code == 422
    assert device.post(path, b'{"reason": "too-large"}').status_code == 422, "that is not for a device to say"
    for number in ("999", "-1", "1.5", "9" * 400, "x"):
        assert device.post(f"/recordings/{number}", b'{"reason": "no-room"}').status_code == 404, number
    other = PuppetDevice(service.url, "TA-2")
    other.enrol(service.code()).raise_for_status()
    assert put(other, asked.id, body, 0, 100).status_code == 404, "it is another device's"
    for _ in range(3):
        ask(service)
    with pytest.raises(ProblemError, match="4 recordings to send"):
        ask(service)


def test_one_that_nobody_answers_is_given_up_and_its_place_is_free(
    service: RunningService, device: PuppetDevice
) -> None:
    asked = ask(service)
    told(device)
    until(lambda: (called := service.herald.recordings.show(asked.id).called_at) and called > asked.asked_at)
    service.pass_time(timedelta(days=8))
    service.call(recordings.give_up(service.context.through(service.context.pools.work)))
    ended = service.herald.recordings.show(asked.id)
    assert (ended.state, ended.reason) == ("failed", "no-answer") and "7 days" in ended.detail
    until(lambda: device.checkin().status_code == 204)


def test_who_is_not_admitted_is_asked_for_nothing_and_sends_nothing(
    service: RunningService, device: PuppetDevice
) -> None:
    asked, body = ask(service), file_of(now_of(service) - 60, 50)
    announce(device, asked.id, body)
    service.herald.devices.decide("retired", ["TA-1"], reason="taken down")
    assert put(device, asked.id, body, 0, 100).status_code in (401, 403)
    with pytest.raises(ProblemError, match="told nothing"):
        ask(service)


def test_old_ones_go(service: RunningService, device: PuppetDevice) -> None:
    asked = ask(service)
    service.herald.recordings.cancel(asked.id, "seen enough")
    service.pass_time(timedelta(days=service.settings.readings_days + 1))
    service.call(merging.sweep(service.context.through(service.context.pools.work)))
    assert service.herald.recordings.list() == []


def test_a_restart_of_the_service_in_the_middle_loses_no_part(
    service: RunningService, device: PuppetDevice, database_url: str, tmp_path: Path
) -> None:
    asked, body = ask(service), file_of(now_of(service) - 60, 100)
    third = len(body) // 3
    announce(device, asked.id, body)
    put(device, asked.id, body, 0, third).raise_for_status()
    service.stop()
    again = RunningService(database_url, tmp_path / "again").start()
    try:
        device.move_to(again.url)
        assert device.checkin(recording=asked.id).status_code == 204, "it is about it already"
        assert told(device)["number"] == asked.id, "who restarted as well is told at once"
        assert announce(device, asked.id, body).json()["have"] == third
        put(device, asked.id, body, third, len(body)).raise_for_status()
        assert again.herald.recordings.show(asked.id).state == "complete"
        assert len(b"".join(again.herald.recordings.file(asked.id))) > 100
    finally:
        again.stop()


def test_a_part_that_cannot_be_written_down_is_not_taken_for_there(
    service: RunningService, device: PuppetDevice
) -> None:
    asked, body = ask(service), file_of(now_of(service) - 60, 100)
    third = len(body) // 3
    announce(device, asked.id, body)

    async def take_away(how: str) -> None:
        async with service.context.engine.begin() as connection:
            await connection.execute(text(how))

    service.call(take_away("ALTER TABLE recording_part RENAME TO gone"))
    answer = put(device, asked.id, body, 0, third)
    assert answer.status_code >= 500 and answer.json()["detail"]
    service.call(take_away("ALTER TABLE gone RENAME TO recording_part"))
    assert announce(device, asked.id, body).json()["have"] == 0, "what was not written down is not there"
    put(device, asked.id, body, 0, third).raise_for_status()
    put(device, asked.id, body, third, len(body)).raise_for_status()
    assert service.herald.recordings.show(asked.id).state == "complete"
