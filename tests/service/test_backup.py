"""A backup that is taken in the middle of everything, and what becomes of it somewhere else."""

import asyncio
import os
import time
import zipfile
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

import pytest
from sqlalchemy import text
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.refusal import Refused
from mellow_herald.service.backup.archive import DUMP, Archive
from mellow_herald.service.backup.restoring import mark as mark_folder
from mellow_herald.service.backup.restoring import refuse_half_restored, restore
from mellow_herald.service.backup.taking import take_backup
from mellow_herald.store.coap import list_coap
from mellow_herald.store.database import NewerSchemaError, make_engine
from mellow_herald.store.images import FolderImageStore
from mellow_herald.store.radio import list_radio_devices
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.radio import RadioEntry
from tests.harness.crowd import Crowd
from tests.harness.crowd import plan as plan_for_all
from tests.harness.crowd import prepare as prepare_for_crowd
from tests.harness.database import Databases
from tests.harness.device import PuppetDevice
from tests.harness.service import RunningService

CROWD = int(os.environ.get("HERALD_TEST_BACKUP_CROWD", "500"))


def back_up(service: RunningService, file: Path) -> Archive:
    asyncio.run(take_backup(service.database_url, FolderImageStore(service.settings.data_dir / "images"), file))
    return Archive(file)


async def session_counts(service: RunningService) -> list[int]:
    async with service.context.engine.connect() as connection:
        return [row["session_count"] for row in await list_radio_devices(connection)]


async def first_numbers(service: RunningService) -> list[int]:
    """The first sequence number that is still to be used of each device's secret."""
    async with service.context.engine.connect() as connection:
        return [row["sent"] for row in await list_coap(connection)]


@pytest.fixture
def elsewhere(databases: Databases) -> Iterator[str]:
    """An empty database on another machine."""
    url = databases.empty()
    yield url
    databases.drop(url)


def test_what_is_restored_acts_on_nothing_that_was_allowed_before(
    service: RunningService, tmp_path: Path, elsewhere: str
) -> None:
    for version in ("2.4.0", "2.5.0"):
        service.publish(version).raise_for_status()
    code, devices = service.code(), [PuppetDevice(service.url, f"TA-{number}") for number in range(3)]
    for device in devices:
        device.enrol(code).raise_for_status()
        device.checkin()
    rollout_id = service.herald.rollouts.start(service.plan()).id
    service.wait_for(rollout_id, lambda shown: shown.rings[0].state == "open")
    cleared, later = devices[0], devices[2]
    cleared.checkin()
    cleared.stage()
    radio = RadioEntry(serial=later.serial, eui="70b3d57ed0000101", root_key="ab" * 16)
    assert service.herald.radio.record([radio]).changed == [later.serial]
    service.herald.coap.renew_secret(devices[1].serial)
    archive = back_up(service, tmp_path / "backup.zip")
    assert (tmp_path / "backup.zip").stat().st_mode & 0o077 == 0, "it has the keys of devices' tokens"
    assert archive.about.devices == 3 and archive.about.live_rollouts == [rollout_id]

    # After the backup: leave to switch, a device that was not there, a release that is, and a halt.
    granted = cleared.checkin().json()["clearance"]["number"]
    late = PuppetDevice(service.url, "TA-late")
    late.enrol(code).raise_for_status()
    late.checkin()
    later.checkin()
    service.herald.rollouts.halt(rollout_id, "a bad one")
    events = service.herald.latest_events()[0].id

    done = asyncio.run(restore(archive, elsewhere, FolderImageStore(tmp_path / "there" / "images")))
    assert done.held == [rollout_id] and done.images == 2
    other = RunningService(elsewhere, tmp_path / "there").start()
    try:
        shown = other.herald.rollouts.show(rollout_id)
        assert shown.state == "held" and "what happened after it is not known here" in (shown.reason or "")
        assert other.herald.devices.show(later.serial).serial == later.serial
        for device in (cleared, later, late):
            device.move_to(other.url)
        assert cleared.checkin().json()["order"] == "stay", "leave of before counts no more, and none is given"
        assert late.checkin().status_code == 401, "it is not known here"
        newcomer = PuppetDevice(other.url, "TA-new")
        newcomer.enrol(code).raise_for_status()
        assert late.checkin().status_code == 401, "nobody got its number"
        late.enrol(code).raise_for_status()
        assert late.checkin().status_code in (200, 204), "with its code it comes back"
        other.herald.rollouts.resume(rollout_id, "nothing speaks against it")
        assert cleared.checkin().json()["clearance"]["number"] > granted + 1000
        entry = next(one for one in other.herald.journal.list().items if one.what == "restored from a backup")
        assert "running rollouts are held (of them: 1)" in entry.why and other.herald.journal.check().broken is None
        assert other.herald.latest_events()[0].id > events, "who follows from there misses nothing"
        images = {path.name for path in (tmp_path / "there" / "images").glob("??/*")}
        assert len(images) == 2
        assert other.herald.radio.show(later.serial).has_key
        assert other.call(session_counts(other)) == [1000], "no device is given a session number that it may have had"
        assert other.call(first_numbers(other)) == [1 << 20], "nor is a number of its secret used twice"
    finally:
        other.stop()


def test_who_switched_after_the_backup_is_waited_for_and_counts_as_ours(
    service: RunningService, tmp_path: Path, elsewhere: str
) -> None:
    for version in ("2.4.0", "2.5.0"):
        service.publish(version).raise_for_status()
    code, devices = service.code(), [PuppetDevice(service.url, f"TA-{number}") for number in range(2)]
    for device in devices:
        device.enrol(code).raise_for_status()
        device.checkin()
    plan = service.plan().model_dump(mode="json") | {"rings": [{"name": "all", "soak": "0s", "enough": 0.5}]}
    rollout_id = service.herald.rollouts.start(PlanDocument.model_validate(plan)).id
    service.wait_for(rollout_id, lambda shown: shown.rings[0].state == "open")
    unheard, heard = devices
    heard.checkin()
    heard.stage()
    archive = back_up(service, tmp_path / "backup.zip")
    unheard.checkin()
    unheard.stage()
    assert unheard.checkin().json()["order"] == "switch"
    unheard.report("installing")
    unheard.switch()

    asyncio.run(restore(archive, elsewhere, FolderImageStore(tmp_path / "there" / "images")))
    other = RunningService(elsewhere, tmp_path / "there").start()
    try:
        for device in devices:
            device.move_to(other.url)
        other.herald.rollouts.resume(rollout_id, "nothing speaks against it")
        order = heard.checkin().json()
        assert order["order"] == "switch"
        heard.report("installing")
        heard.switch()
        heard.checkin(after_restart=True)
        heard.order = order
        heard.report("confirmed")
        other.wait_for(rollout_id, lambda shown: shown.states.get("confirmed") == 1)
        other.pass_time(timedelta(minutes=5))  # of others a ring would not wait so long
        heard.checkin()
        time.sleep(2.5)
        assert other.herald.rollouts.show(rollout_id).state == "running", "half is enough, but one was not heard yet"
        unheard.trial = False
        unheard.checkin(after_restart=True)
        ended = other.wait_for(rollout_id, lambda shown: shown.state == "finished")
        assert ended.states == {"confirmed": 2} and ended.unasked == 0
    finally:
        other.stop()


async def _inconsistent(connection: AsyncConnection) -> list[str]:
    """Attempts whose row says something else than the newest entry of their timeline, and events without one."""
    rows = await connection.scalars(
        text(
            "SELECT a.id || ' is ' || a.state || ', its timeline ' || e.state FROM attempt a JOIN LATERAL ("
            " SELECT state FROM attempt_event WHERE attempt_id = a.id AND state IS NOT NULL AND what <> 'late word'"
            " ORDER BY id DESC LIMIT 1) e ON true WHERE a.state <> e.state"
        )
    )
    return list(rows)


def test_a_backup_while_five_hundred_devices_report_is_of_one_moment(
    database_url: str, elsewhere: str, tmp_path: Path
) -> None:
    service = RunningService(database_url, tmp_path / "here").start()
    file = tmp_path / "backup.zip"
    try:
        code = prepare_for_crowd(service.herald, CROWD)
        crowd = Crowd(int(service.url.rpartition(":")[2]), CROWD, revisions=1)

        async def play() -> None:
            await crowd.open()
            await crowd.each(crowd.members, lambda member: crowd.enrol(member, code))
            await crowd.each(crowd.members, crowd.check_in)
            started = service.herald.rollouts.start(plan_for_all())
            service.wait_for(started.id, lambda shown: shown.rings[0].state == "open")
            reporting = asyncio.create_task(crowd.each(crowd.members, crowd.stage))
            await asyncio.sleep(0.3)
            await take_backup(database_url, FolderImageStore(tmp_path / "here" / "images"), file)
            assert not reporting.done(), "they were still at it"
            await reporting
            crowd.close()

        asyncio.run(play())
        asyncio.run(restore(Archive(file), elsewhere, FolderImageStore(tmp_path / "there")))
    finally:
        service.stop()

    async def look() -> tuple[list[str], dict[str, int], int]:
        engine = make_engine(elsewhere)
        async with engine.connect() as connection:
            wrong = await _inconsistent(connection)
            states = await connection.execute(text("SELECT state, count(*) FROM attempt GROUP BY 1"))
            counted = {row[0]: row[1] for row in states}
            gaps = await connection.scalar(
                text(
                    "SELECT count(*) FROM outbox o WHERE sealed > 1 AND sealed < 1000000 AND NOT EXISTS"
                    " (SELECT 1 FROM outbox p WHERE p.sealed = o.sealed - 1)"
                )
            )
        await engine.dispose()
        return wrong, counted, int(gaps or 0)

    wrong, counted, gaps = asyncio.run(look())
    assert wrong == [] and gaps == 0
    assert sum(counted.values()) == CROWD and len(counted) > 1, "it was in the middle of it"


def altered(archive: Archive, to: Path, **entries: bytes) -> Path:
    """The backup with other bytes in some of its files."""
    with zipfile.ZipFile(archive.path) as old, zipfile.ZipFile(to, "w") as new:
        for name in old.namelist():
            new.writestr(name, entries.get(name.partition(".")[0], old.read(name)))
    return to


def test_a_backup_that_is_not_whole_changes_nothing(service: RunningService, tmp_path: Path, elsewhere: str) -> None:
    service.publish("2.4.0").raise_for_status()
    file = tmp_path / "backup.zip"
    archive = back_up(service, file)
    with pytest.raises(Refused, match="exists already"):
        back_up(service, file)
    cut = tmp_path / "cut.zip"
    cut.write_bytes(file.read_bytes()[:-200])
    with pytest.raises(Refused, match="not a whole backup"):
        Archive(cut)
    with zipfile.ZipFile(file) as whole:
        body = bytearray(whole.read(DUMP))
        image = next(name for name in whole.namelist() if name.startswith("images/"))
    body[len(body) // 2] ^= 1
    with pytest.raises(Refused, match="database.dump is damaged"):
        Archive(altered(archive, tmp_path / "bit.zip", database=bytes(body))).verify(lambda _: None)

    # An image that is damaged where it is stored is not taken along, and that is said.
    stored = service.settings.data_dir / image.replace("images/", f"images/{image.rpartition('/')[2][:2]}/")
    stored.write_bytes(b"\0" * 10)
    told = back_up(service, tmp_path / "second.zip").about
    assert told.damaged == [stored.name] and image not in told.entries
    assert any("1 damaged images" in one.why for one in service.herald.journal.list(what="backup").items)


def test_a_restore_goes_into_an_empty_place_only(
    service: RunningService, tmp_path: Path, elsewhere: str, databases: Databases
) -> None:
    archive = back_up(service, tmp_path / "backup.zip")
    with pytest.raises(Refused, match="a service's data in the database already"):
        asyncio.run(restore(archive, service.database_url, FolderImageStore(tmp_path / "there")))
    (tmp_path / "folder").mkdir()
    mark_folder(tmp_path / "folder")
    with pytest.raises(Refused, match="broke off half-way"):
        refuse_half_restored(tmp_path / "folder")

    async def bring_forward(url: str) -> None:
        engine = make_engine(url)
        async with engine.begin() as connection:
            await connection.execute(text("UPDATE alembic_version SET version_num = '9999'"))
        await engine.dispose()

    asyncio.run(restore(archive, elsewhere, FolderImageStore(tmp_path / "there")))
    asyncio.run(bring_forward(elsewhere))
    later = tmp_path / "later.zip"
    asyncio.run(take_backup(elsewhere, FolderImageStore(tmp_path / "there"), later))
    empty = databases.empty()
    with pytest.raises(NewerSchemaError, match="its schema is 9999"):
        asyncio.run(restore(Archive(later), empty, FolderImageStore(tmp_path / "again")))
    databases.drop(empty)
