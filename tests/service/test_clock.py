"""The machine's clock is set while devices have leave and rings soak: nothing jumps, and it is said."""

import asyncio
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from mellow_herald.core.steady import SteadyTime
from mellow_herald.service.app import open_context
from mellow_herald.store.clock import OtherScaleError, count_ticks
from mellow_herald.store.database import Pools
from tests.harness.device import PuppetDevice
from tests.harness.patience import until
from tests.harness.service import RunningService


def set_clock(service: RunningService, by: timedelta) -> None:
    """As if somebody had set the machine's clock under the running service."""
    clock = service.context.clock
    clock.steady = SteadyTime(lambda: datetime.now(UTC) + by, count_ticks, clock.steady.now())


@pytest.mark.parametrize("by", [timedelta(hours=1), -timedelta(hours=1)])
def test_no_leave_runs_out_and_no_soak_shrinks(service: RunningService, by: timedelta) -> None:
    for version in ("2.4.0", "2.5.0"):
        service.publish(version).raise_for_status()
    device = PuppetDevice(service.url, "TA-0")
    device.enrol(service.code()).raise_for_status()
    device.checkin()
    service.herald.rollouts.start(service.plan())
    device.checkin()
    device.stage()
    given = device.checkin().json()["clearance"]
    before = service.context.clock.now()
    set_clock(service, by)
    began = time.monotonic()
    until(lambda: any(one.what == "machine's clock was set" for one in service.herald.journal.list().items))
    again = device.checkin().json()["clearance"]
    assert again["number"] == given["number"] and given["seconds"] - 20 <= again["seconds"] <= given["seconds"]
    passed = (service.context.clock.now() - before).total_seconds()
    assert abs(passed - (time.monotonic() - began)) < 1
    with service.http() as http:
        health = http.get("/health/ready").json()
    assert ("ahead" if by > timedelta() else "behind") in health["checks"]["clock"] and not health["ok"]
    entries = [one for one in service.herald.journal.list().items if one.what == "machine's clock was set"]
    assert len(entries) == 1 and "takes that in slowly" in entries[0].why


def test_one_that_starts_after_the_clock_was_set_goes_by_the_same_time(
    service: RunningService, database_url: str, tmp_path: Path
) -> None:
    set_clock(service, timedelta(hours=1))
    time.sleep(1.5)
    beside = RunningService(database_url, tmp_path / "beside")
    beside.start()
    apart = (beside.context.clock.now() - service.context.clock.now()).total_seconds()
    beside.stop()
    assert abs(apart) < 0.5


def test_a_restart_after_some_time_does_not_set_the_clock_ahead(
    service: RunningService, database_url: str, tmp_path: Path
) -> None:
    async def start_after_an_hour() -> None:
        pools = Pools(database_url)
        async with pools.work.begin() as connection:
            times = ("beat_real", "beat_service", "real_epoch", "service_epoch")
            earlier = ", ".join(f"{name} = {name} - interval '1 hour'" for name in times)
            await connection.exec_driver_sql(f"UPDATE clock SET {earlier}, beat_ticks = beat_ticks - 3600")
        await open_context(service.settings, pools, serves=False)  # as each start does before it serves
        await pools.dispose()

    service.stop()
    asyncio.run(start_after_an_hour())
    again = RunningService(database_url, tmp_path / "again").start()
    ahead = (again.context.clock.now() - datetime.now(UTC)).total_seconds()
    again.stop()
    assert abs(ahead) < 2


def test_another_speed_on_the_same_database_is_refused_while_one_serves(
    service: RunningService, database_url: str, tmp_path: Path
) -> None:
    with pytest.raises(OtherScaleError, match="at a time scale of 1, not 60"):
        RunningService(database_url, tmp_path / "beside", time_scale=60).start()
    service.stop()
    beside = RunningService(database_url, tmp_path / "beside", time_scale=60).start()
    assert beside.context.clock.scale == 60
    beside.stop()
    service.start = lambda: service  # type: ignore[method-assign]
