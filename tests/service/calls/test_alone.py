"""A bad call fails alone: no other call fails, waits or loses what was acknowledged because of it."""

import time
from concurrent.futures import ThreadPoolExecutor
from datetime import datetime

import pytest
from sqlalchemy import text

from mellow_herald.service.calls import intake
from tests.harness.device import PuppetDevice
from tests.harness.patience import PATIENCE_S, until
from tests.harness.service import RunningService

MANY = 24


@pytest.fixture
def devices(service: RunningService) -> list[PuppetDevice]:
    """Admitted, and each called once."""
    code, made = service.code(), []
    for number in range(MANY):
        device = PuppetDevice(service.url, f"TA-{number}")
        device.enrol(code).raise_for_status()
        assert device.checkin().status_code == 204
        made.append(device)
    return made


@pytest.mark.parametrize(
    ("body", "place"),
    [
        (b'{"boots": 1, "seq": 9, "readings": {"t": NaN}}', "readings.t"),
        (b'{"boots": 1, "seq": 9, "readings": {"t": 1e999}}', "readings.t"),
        (b'{"boots": 1, "seq": 9, "readings": {"t": -Infinity}}', "readings.t"),
        (b'{"boots": 9007199254740993, "seq": 9}', "boots"),
        (b'{"boots": 1, "seq": 9, "settings_digest": "\\u0000"}', "settings_digest"),
        (b'{"boots": 1, "seq": 9, "condition": {"owner_until": "9999-12-31T23:59:59-14:00"}}', "condition.owner_until"),
        (b'{"boots": 1, "seq": 9, "condition": {"owner_until": "0001-01-01T00:00:00+14:00"}}', "condition.owner_until"),
    ],
)
def test_what_neither_json_nor_the_database_can_hold_is_refused_at_the_edge(
    shared_service: RunningService, body: bytes, place: str
) -> None:
    device = PuppetDevice(shared_service.url, "TA-EDGE")
    device.enrol(shared_service.code(), nonce=f"nonce-of-the-edge-{time.monotonic_ns()}")
    if not device.token:
        device = PuppetDevice(shared_service.url, f"TA-EDGE-{time.monotonic_ns()}")
        device.enrol(shared_service.code()).raise_for_status()
    answer = device.post("/checkins", body)
    assert answer.status_code == 422 and place in answer.json()["detail"], answer.text
    line = b'{"lines": [{"boots": 1, "number": 1, "at": "9999-12-31T23:59:59-14:00", "text": "x"}]}'
    assert device.post("/logs", line).status_code == 422


def test_the_largest_numbers_are_taken(shared_service: RunningService) -> None:
    device = PuppetDevice(shared_service.url, "TA-LARGE")
    device.enrol(shared_service.code()).raise_for_status()
    for body in (
        b'{"boots": 9007199254740991, "seq": 9007199254740991, "uptime_s": 9007199254740991}',
        b'{"boots": 9007199254740991, "seq": 9007199254740991, "uptime_s": 9007199254740991}',
    ):
        assert device.post("/checkins", body).status_code == 204


def test_one_that_cannot_be_recorded_gets_its_own_answer(service: RunningService, devices: list[PuppetDevice]) -> None:
    _refuse_pulse(service, "device_id = 7")
    for device in devices:
        device.boots += 1  # brings something new, so none is answered from memory
    with ThreadPoolExecutor(MANY) as pool:
        answers = list(pool.map(lambda device: device.checkin(), devices))
    bad = [
        (device.serial, answer) for device, answer in zip(devices, answers, strict=True) if answer.status_code != 204
    ]
    assert [(serial, answer.status_code) for serial, answer in bad] == [("TA-6", 503)]
    assert bad[0][1].json()["type"].endswith("not-recorded") and bad[0][1].headers["retry-after"]
    _mend(service)
    assert devices[6].checkin().status_code == 204


def test_a_beat_that_fails_loses_no_call_that_was_answered(
    service: RunningService, devices: list[PuppetDevice]
) -> None:
    _until_remembered(service, devices)
    _refuse_pulse(service, "true", "disk_full")
    at = service.context.clock.now()
    assert {device.checkin().status_code for device in devices} == {204}, "from memory: nothing is new"
    time.sleep(2.5)
    assert all(seen < at for seen in _seen(service))
    _mend(service)
    until(lambda: all(seen >= at for seen in _seen(service)))


def test_a_call_that_cannot_be_written_later_holds_up_no_other(
    service: RunningService, devices: list[PuppetDevice]
) -> None:
    _until_remembered(service, devices)
    _refuse_pulse(service, "device_id = 7")
    at = service.context.clock.now()
    assert {device.checkin().status_code for device in devices} == {204}
    until(lambda: sum(seen >= at for seen in _seen(service)) == MANY - 1)


def _until_remembered(service: RunningService, devices: list[PuppetDevice]) -> None:
    """Until calls that bring nothing new are answered without the database."""
    memory = service.context.memory
    until(lambda: _all_remembered(service, devices, memory.epoch))


def _all_remembered(service: RunningService, devices: list[PuppetDevice], epoch: int) -> bool:
    for device in devices:
        assert device.checkin().status_code == 204
    memory = service.context.memory
    return memory.epoch == epoch and len(memory._checkins) == len(devices)


def _refuse_pulse(service: RunningService, when: str, error: str = "data_exception") -> None:
    _run(
        service,
        f"""CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS $$
            BEGIN RAISE EXCEPTION 'made up' USING ERRCODE = '{error}'; END $$""",
        f"""CREATE TRIGGER refuse BEFORE INSERT OR UPDATE ON pulse FOR EACH ROW
            WHEN (NEW.{when}) EXECUTE FUNCTION refuse()""".replace("NEW.true", "true"),
    )


def _mend(service: RunningService) -> None:
    _run(service, "DROP TRIGGER refuse ON pulse", "DROP FUNCTION refuse")


def _run(service: RunningService, *statements: str) -> None:
    async def run() -> None:
        async with service.context.engine.begin() as connection:
            for statement in statements:
                await connection.execute(text(statement))

    service.call(run())


def _seen(service: RunningService) -> list[datetime]:
    return [device.seen_at for device in service.herald.devices.list().items if device.seen_at]


def test_who_calls_when_too_many_wait_is_told_when_to_come_again(
    service: RunningService, devices: list[PuppetDevice], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(intake, "MOST_WAITING", 0)
    refused = devices[0].checkin(after_restart=True)
    assert (refused.status_code, refused.json()["type"]) == (503, "urn:mellow-herald:problem:busy")
    assert int(refused.headers["retry-after"]) <= 5
    # Whoever brings nothing new need not wait for anybody, once what the service remembers of it is up to date.
    deadline = time.monotonic() + PATIENCE_S
    while devices[1].checkin().status_code != 204:
        assert time.monotonic() < deadline
        monkeypatch.undo()
        assert devices[1].checkin().status_code == 204
        monkeypatch.setattr(intake, "MOST_WAITING", 0)
    monkeypatch.undo()
    devices[0].seq -= 1
    assert devices[0].checkin(after_restart=True).status_code == 204, "what was refused can be said again as it was"
