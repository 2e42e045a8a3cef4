"""Plans rehearsed by a service, in its own process, from the history that it recorded."""

import asyncio
import time
from datetime import timedelta
from typing import Any

import pytest
from sqlalchemy import delete, insert, select, text

from mellow_herald.client import ProblemError
from mellow_herald.core.foresight import word_of
from mellow_herald.service.rehearsals import process
from mellow_herald.store.database import make_engine
from mellow_herald.store.rehearsals import known_of, switches_took
from mellow_herald.store.tables import ConditionDay, Device, RehearsalState
from mellow_herald.wire.rehearsal import RehearsalIn, RehearsalOut
from tests.harness.device import PuppetDevice
from tests.harness.patience import until
from tests.harness.service import RunningService
from tests.service.rollouts.test_life import go_through
from tests.service.rollouts.test_rings import plan

RINGS = [{"name": "bench", "count": 3, "soak": "1h"}, {"name": "rest", "soak": "1h"}]


@pytest.fixture
def fleet(service: RunningService) -> list[PuppetDevice]:
    """Sixteen devices, every second of the second revision, heard of for a week; one with a flat battery."""
    service.publish("2.4.0").raise_for_status()
    service.publish("2.5.0").raise_for_status()
    code, made = service.code(16), []
    for number in range(16):
        device = PuppetDevice(service.url, f"TA-{number:02d}", hw_rev=1 + number % 2)
        device.enrol(code).raise_for_status()
        made.append(device)
        device.checkin(condition=condition_of(number))
    service.call(lived_a_week(service))
    return made


def condition_of(number: int) -> dict[str, Any]:
    return {"battery": 5 if number == 15 else 90, "link": "wifi"}


def hours_of(number: int) -> list[int]:
    return [word_of(condition_of(number))] * 24


async def lived_a_week(service: RunningService) -> None:
    """Writes down what each device said of itself in every hour of the last week, as its calls would have."""
    now = service.context.clock.now()
    async with service.context.engine.begin() as connection:
        ids = list(await connection.scalars(select(Device.id).order_by(Device.id)))
        rows = [
            {
                "device_id": one,
                "day": (now - timedelta(days=back)).date(),
                "hours": [word_of(condition_of(number))] * 24,
            }
            for number, one in enumerate(ids)
            for back in range(8)
        ]
        await connection.execute(delete(ConditionDay))
        await connection.execute(insert(ConditionDay), rows)


def rehearsed(service: RunningService, faults: list[str], **more: Any) -> RehearsalOut:
    asked = {"plan": plan(RINGS, **more), "faults": faults, "runs": 20}
    made = service.herald.rehearsals.ask(RehearsalIn.model_validate(asked))
    assert made.state in ("waiting", "running")
    return until(lambda: done(service, made.id), about=lambda: f"rehearsal {made.id}")


def done(service: RunningService, number: int) -> RehearsalOut | None:
    shown = service.herald.rehearsals.show(number)
    assert shown.state != "failed", shown.why
    return shown if shown.state == "done" else None


async def measured(service: RunningService) -> tuple[list[float], list[float]]:
    """The rates of devices whose last transfer was measured, and how long switches took."""
    async with service.context.engine.connect() as connection:
        ids = list(await connection.scalars(select(Device.id)))
        known = await known_of(connection, ids, [])
        return [one.rate for one in known if one.rate is not None], await switches_took(connection, ids)


def test_a_plan_is_rehearsed_on_the_fleet_as_it_was_and_its_rollout_shows_both(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    found = rehearsed(service, ["none", "hw_rev = 2: 0.9 crashed"])
    result = found.result
    assert result is not None and result.devices == 16 and result.assumed == 0
    good, bad = result.faults
    assert [ring.devices for ring in good.rings] == [3, 13] and good.halts == 0
    assert good.hurt.high == 0 and good.exposed.high == 15, "the one with the flat battery is not served"
    (flat,) = good.never
    assert flat.words == "never as device.battery_at_least wants it" and flat.share == 1 / 16
    assert bad.halts + sum(one.share for one in bad.stands) > 0.5 and bad.hurt.middle >= 1
    assert good.rings[0].ends.middle is not None and found.asked_at + timedelta(hours=1) < good.rings[0].ends.middle
    assert service.herald.rehearsals.list()[0].id == found.id
    rollout_id = service.herald.rollouts.start(plan(RINGS)).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    assert [one.id for one in service.herald.rehearsals.of_rollout(rollout_id)] == [found.id]
    inner = [device for device in fleet if device.checkin(condition={"battery": 90}).status_code == 200]
    for device in inner:
        device.order = {}
        go_through(device)
    written = service.herald.rollouts.written_report(rollout_id)
    assert "## What was rehearsed, beside what happened" in written and "without a fault: done in" in written
    assert "with hw_rev = 2: 0.9 crashed" in written
    rates, switches = service.call(measured(service))
    assert len(rates) == len(switches) >= 3 and min(rates) > 0 and min(switches) > 0
    other = service.herald.rollouts.start(plan(RINGS, name="another", allow=["again"], target="serial = TA-15")).id
    assert not service.herald.rehearsals.of_rollout(other)


def test_the_same_seed_gives_the_same_answer(service: RunningService, fleet: list[PuppetDevice]) -> None:
    asked = RehearsalIn.model_validate({"plan": plan(RINGS), "runs": 10, "seed": 3})
    both = [service.herald.rehearsals.ask(asked) for _ in range(2)]
    one, other = (until(lambda n=made.id: done(service, n)).result for made in both)
    assert one is not None and other is not None
    spans = [
        [ring.ends.middle - made.asked_at for ring in result.faults[0].rings if ring.ends.middle]
        for result, made in ((one, both[0]), (other, both[1]))
    ]
    assert len(spans[0]) == 2 and all(abs(a - b) < timedelta(minutes=1) for a, b in zip(*spans, strict=True))


def test_a_fleet_without_history_is_taken_to_be_as_is_usual_and_that_is_said(service: RunningService) -> None:
    service.publish("2.4.0").raise_for_status()
    service.publish("2.5.0").raise_for_status()
    code = service.code(4)
    for number in range(4):
        device = PuppetDevice(service.url, f"TA-{number:02d}")
        device.enrol(code).raise_for_status()
        device.checkin()
    result = rehearsed(service, ["none"]).result
    assert result is not None and result.assumed == 1
    assert any("no device has a day of history" in words for words in result.assumptions)
    assert any("20 kB a second are assumed" in words for words in result.assumptions)


def test_one_that_takes_long_can_be_cancelled_and_holds_nobody_up(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    asked = {"plan": plan(RINGS, harm={"at_most": 3}), "faults": ["0.05 crashed"], "runs": 1000}
    made = service.herald.rehearsals.ask(RehearsalIn.model_validate(asked))
    until(lambda: service.herald.rehearsals.show(made.id).state == "running")
    assert fleet[0].checkin().status_code == 204, "devices are answered meanwhile"
    gone = service.herald.rehearsals.cancel(made.id)
    assert gone.state == "cancelled" and "admin" in (gone.why or "")
    with pytest.raises(ProblemError, match="cancelled already"):
        service.herald.rehearsals.cancel(made.id)
    time.sleep(1.0)
    assert service.herald.rehearsals.show(made.id).state == "cancelled"
    assert rehearsed(service, ["none"]).state == "done", "the next one has its turn"


def under_way(service: RunningService) -> int:
    asked = {"plan": plan(RINGS, harm={"at_most": 3}), "faults": ["0.05 crashed"], "runs": 1000}
    made = service.herald.rehearsals.ask(RehearsalIn.model_validate(asked))
    until(lambda: service.herald.rehearsals.show(made.id).progress > 0)
    return made.id


def test_one_whose_service_is_ended_says_so(service: RunningService, fleet: list[PuppetDevice]) -> None:
    number = under_way(service)
    service.call(ended(service))
    shown = until(lambda: failed(service, number))
    assert shown.why == "the service was ended meanwhile; ask for it again"


async def ended(service: RunningService) -> None:
    """What the end of the service does to those that are under way."""
    for task in list(service.context.rehearsals):
        task.cancel()


def test_one_goes_on_while_the_database_is_away(service: RunningService, fleet: list[PuppetDevice]) -> None:
    number = under_way(service)
    service.call(away_for(service, 3.0))
    assert until(lambda: done(service, number)).result is not None


async def away_for(service: RunningService, seconds: float) -> None:
    """Ends all connections to the database, and lets nobody in for so long."""
    url = service.context.pools.work.url
    engine = make_engine(url.set(database="postgres"), 1, 0)
    async with engine.connect() as connection:
        await connection.execution_options(isolation_level="AUTOCOMMIT")
        try:
            await connection.execute(text(f'ALTER DATABASE "{url.database}" ALLOW_CONNECTIONS false'))
            all_of_them = "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = :name"
            await connection.execute(text(all_of_them), {"name": url.database})
            await asyncio.sleep(seconds)
        finally:
            await connection.execute(text(f'ALTER DATABASE "{url.database}" ALLOW_CONNECTIONS true'))
    await engine.dispose()


def test_one_without_its_service_does_not_wait_long_for_a_database_that_is_away(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(process, "LOOK_S", 0.01)
    monkeypatch.setattr(process, "LONGEST_ALONE_S", 0.1)
    nowhere = make_engine("postgresql+asyncpg://nobody@127.0.0.1:1/nothing", 1, 0)

    async def end(seconds: float) -> None:
        async with asyncio.timeout(seconds):
            await process._end(nowhere, 1, RehearsalState.DONE)

    with pytest.raises(TimeoutError):
        asyncio.run(end(0.5))
    monkeypatch.setattr(process, "STARTED_BY", -1)
    with pytest.raises(OSError, match="Connect"):
        asyncio.run(end(30.0))


def test_what_makes_no_sense_is_refused_at_once(service: RunningService, fleet: list[PuppetDevice]) -> None:
    for body, says in (
        ({"plan": plan(RINGS), "faults": ["0.5 exploded"]}, "no reason by which"),
        ({"plan": plan(RINGS), "faults": []}, "at least 1"),
        ({"plan": plan(RINGS), "runs": 5}, "greater than or equal to 10"),
        ({"plan": plan(RINGS, release="comb-s1/hive-scale/9.9.9")}, "There is no release"),
    ):
        sent = {**body, "plan": body["plan"].model_dump(mode="json")}  # type: ignore[union-attr]
        with service.http(service.token) as http:
            answer = http.post("/api/v1/rehearsals", json=sent)
        assert answer.status_code == 422 and says in answer.text, answer.text
    with pytest.raises(ProblemError, match="There is no rehearsal 99"):
        service.herald.rehearsals.show(99)
    nobody = RehearsalIn.model_validate({"plan": plan(RINGS, target="serial = nobody"), "runs": 10})
    made = service.herald.rehearsals.ask(nobody)
    shown = until(lambda: failed(service, made.id))
    assert "reaches no device" in (shown.why or "")


def failed(service: RunningService, number: int) -> RehearsalOut | None:
    shown = service.herald.rehearsals.show(number)
    return shown if shown.state == "failed" else None
