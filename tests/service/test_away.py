"""The service was away: who called until then is not taken for silent, and who was silent before still is."""

from datetime import timedelta
from pathlib import Path

from sqlalchemy import text

from mellow_herald.store.database import make_engine
from tests.harness.device import PuppetDevice
from tests.harness.service import RunningService

AWAY = timedelta(hours=3)
TIMES = ("beat_real", "beat_service", "real_epoch", "service_epoch", "serving_since")


async def an_outage(url: str) -> None:
    """As if all that happened so far had been so much earlier, and nothing since."""
    earlier = {"by": AWAY}
    engine = make_engine(url)
    async with engine.begin() as connection:
        moved = ", ".join(f"{name} = {name} - CAST(:by AS interval)" for name in TIMES)
        await connection.execute(text(f"UPDATE clock SET {moved}, beat_boot = NULL"), earlier)
        await connection.execute(text("UPDATE pulse SET seen_at = seen_at - CAST(:by AS interval)"), earlier)
        silent = text("UPDATE pulse SET seen_at = seen_at - interval '20 minutes' WHERE device_id = 2")
        await connection.execute(silent)
    await engine.dispose()


async def test_nobody_is_called_offline_for_an_outage_of_ours(
    service: RunningService, database_url: str, tmp_path: Path
) -> None:
    service.publish("2.4.0").raise_for_status()
    for number in range(2):
        device = PuppetDevice(service.url, f"TA-{number}")
        device.enrol(service.code()).raise_for_status()
        device.checkin()
    service.stop()
    await an_outage(database_url)
    again = RunningService(database_url, tmp_path / "again").start()
    try:
        called, silent = again.herald.devices.show("TA-0"), again.herald.devices.show("TA-1")
        assert called.presence == "online" and silent.presence == "offline"
        assert called.seen_at is not None and again.context.clock.now() - called.seen_at > AWAY, "that is the truth"
        presence = again.herald.overview().presence
        assert (presence["online"], presence["offline"]) == (1, 1)
        offline = again.herald.devices.list(where="presence = offline").items
        assert [one.serial for one in offline] == ["TA-1"]
        again.pass_time(timedelta(minutes=10))
        assert again.herald.devices.show("TA-0").presence == "offline", "it had time to call since"
    finally:
        again.stop()
