"""Previewing a plan over a million devices, and opening a ring of 300,000 while a halt and reports go on."""

import asyncio
import tempfile
import time
from collections.abc import Awaitable, Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from sqlalchemy import func, select, text
from sqlalchemy.ext.asyncio import AsyncConnection

from bench.figure import Figure
from mellow_herald.core.keys import fingerprint, raw_public
from mellow_herald.core.plan import Plan
from mellow_herald.core.rollout import RingState
from mellow_herald.service.app import open_context
from mellow_herald.service.context import Context
from mellow_herald.service.rollouts import life as service
from mellow_herald.service.rollouts.conductor import Conductor
from mellow_herald.service.rollouts.planning import draw, prepare
from mellow_herald.service.rollouts.previewing import preview
from mellow_herald.service.settings import Settings
from mellow_herald.store import rings, rollouts, tallies
from mellow_herald.store.cluster import Cluster
from mellow_herald.store.database import Pools
from mellow_herald.store.rings import fact_text
from mellow_herald.store.selector_sql import compile_selector
from mellow_herald.store.tables import Device
from mellow_herald.wire.plan import PlanDocument
from tests.harness.firmware import BOARD, DOMAIN, LINE, Publisher, make_image

DEVICES, OPENED = 1_000_000, 300_000
SITES = ("fernhollow", "quillmere", "ottersedge", "bramblecote", "saltgrass")
RINGS = [
    {"name": "bench", "where": "has bench", "soak": "1h"},
    {"name": "pilot", "count": 200, "spread_over": ["hw_rev", "site"]},
    {"name": "tenth", "share": 0.1, "spread_over": ["hw_rev", "site"]},
    {"name": "third", "count": OPENED, "spread_over": ["hw_rev", "site"]},
    {"name": "rest"},
]
PLAN = {
    "name": "bench",
    "release": f"{BOARD}/{LINE}/2.5.0",
    "target": f"board = {BOARD} and line = {LINE}",
    "rings": RINGS,
}


def measure() -> list[Figure]:
    """In a cluster of its own, in this process: what the calls do, without HTTP around it."""
    with own_cluster() as (folder, url):
        return asyncio.run(_measure(folder, url))


@contextmanager
def own_cluster() -> Iterator[tuple[Path, str]]:
    """A folder, and the address of a PostgreSQL in it that nobody else uses."""
    with tempfile.TemporaryDirectory(prefix="herald-bench-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        cluster = Cluster(folder / "postgres")
        cluster.start()
        try:
            yield folder, cluster.url
        finally:
            cluster.stop()


async def _measure(folder: Path, url: str) -> list[Figure]:
    pools = Pools(url)
    context = (await open_context(Settings(data_dir=folder), pools)).through(pools.work)  # which may take its time
    try:
        await fill(context)
        document = PlanDocument.model_validate(PLAN)
        return [*await _previews(context, document), *await _opening(context, document)]
    finally:
        await context.engine.dispose()


async def fill(context: Context, pulses: str | None = None, devices: int = DEVICES) -> None:
    """A board, a release, and so many devices that run the one before; ``pulses`` is the statement that adds their
    last calls."""
    publisher = Publisher()
    images = {version: make_image(version) for version in ("2.4.0", "2.5.0")}
    now = context.clock.now()
    async with context.engine.begin() as connection:
        await _add(
            connection,
            "board",
            {
                "name": BOARD,
                "vendor_domain": DOMAIN,
                "lines": [LINE],
                "hw_revs": [1, 2, 3],
                "slots": [],
                "runs": "anywhere",
                "check_in_s": 300,
                "check_in_exceptions": [],
                "added_at": now,
            },
        )
        await _add(
            connection,
            "key_list",
            {
                "number": 1,
                "root": raw_public(publisher.root),
                "body": publisher.key_list_bytes(),
                "published_at": now,
            },
        )
        kid = fingerprint(raw_public(publisher.key))
        for number, (version, image) in enumerate(images.items(), 1):
            await _add(connection, "image", {"digest": image.digest, "size": image.size, "stored_at": now})
            await _add(
                connection,
                "release",
                {
                    "id": number,
                    "board": BOARD,
                    "line": LINE,
                    "version": version,
                    "version_key": b"",
                    "state": "published",
                    "floor": 4,
                    "hw_rev_min": 0,
                    "hw_rev_max": 99,
                    "needs": {},
                    "independent": False,
                    "notes": "",
                    "labels": {},
                    "revision": 1,
                    "checks": [],
                    "manifest_digest": version,
                    "authentication": b"",
                    "manifest": b"",
                    "kid": kid,
                    "uploaded_at": now,
                    "uploaded_by": "bench",
                    "published_at": now,
                    "published_by": "bench",
                },
            )
            await _add(
                connection,
                "release_image",
                {
                    "release_id": number,
                    "component": "app",
                    "slot": -1,
                    "position": 0,
                    "digest": image.digest,
                    "version": version,
                    "updater": 1,
                    "build_id": "",
                    "build_time": 0,
                    "after": [],
                    "read": True,
                },
            )
        await connection.execute(
            text(FLEET),
            {"board": BOARD, "line": LINE, "digest": images["2.4.0"].digest, "now": now, "devices": devices},
        )
        await connection.execute(text(pulses or PULSES), {"now": now})
    async with context.engine.connect() as connection:
        await connection.execution_options(isolation_level="AUTOCOMMIT")
        await connection.execute(text("VACUUM ANALYZE"))


FLEET = f"""
INSERT INTO device (serial, board, line, hw_rev, labels, admission, generation, token_used, may_enrol_again, note,
  running, standby, version, version_key, version_keys, digest, floor, updater, enrolled_at, changed_at, arriving)
SELECT 'TA-' || lpad(n::text, 7, '0'), :board, :line, 1 + n % 3,
  jsonb_build_object('site', (ARRAY{list(SITES)!r})[1 + (n / 7) % 5])
    || CASE WHEN n % 20000 = 0 THEN '{{"bench": "window"}}'::jsonb ELSE '{{}}'::jsonb END,
  'admitted', 1, true, false, '', '{{}}', '{{}}', '2.4.0', '\\x00', '{{}}', :digest, 4, 1, :now, :now, false
FROM generate_series(1, CAST(:devices AS integer)) AS n
"""
PULSES = """
INSERT INTO pulse (device_id, seen_at, boots, seq, interval_s, next_s, condition, readings)
SELECT id, CAST(:now AS timestamptz) - random() * interval '5 minutes', 1, 1, 300, 300, '{}', '{}' FROM device
"""
REPORT = text(
    "WITH heard AS (UPDATE pulse SET seq = seq + 1 WHERE device_id = :id) "
    "UPDATE device SET changed_at = changed_at WHERE id = :id"
)


async def _add(connection: AsyncConnection, table: str, values: dict[str, object]) -> None:
    from mellow_herald.store.tables import Base

    await connection.execute(Base.metadata.tables[table].insert().values(**values))


async def _timed(work: Callable[[], Awaitable[object]], times: int = 3) -> float:
    """The median of so many runs, in seconds."""
    took = []
    for _ in range(times):
        began = time.monotonic()
        await work()
        took.append(time.monotonic() - began)
    return sorted(took)[len(took) // 2]


async def _previews(context: Context, document: PlanDocument) -> list[Figure]:
    now = context.clock.now()
    async with context.engine.connect() as connection:
        prepared = await prepare(connection, document)
        where = compile_selector(prepared.target.where, now)

        async def floor() -> None:
            keys = [fact_text(name, now) for name in ("hw_rev", "site")]
            await connection.execute(select(*keys, func.count()).select_from(Device).where(where).group_by(*keys))

        async def counts() -> None:
            await rings.count_target(connection, prepared.target, now)

        async def drawing() -> None:
            await draw(connection, prepared.plan, prepared.target, now)

        plain, counted, drawn = await _timed(floor), await _timed(counts), await _timed(drawing)
    whole = await _timed(lambda: preview(context, document))
    return [
        Figure(
            "preview's counts over 1,000,000 devices ÷ the plain count(*) by group they rest on",
            counted / plain,
            "<= 2",
            {"ms": 1000 * counted, "ms of the count": 1000 * plain},
        ),
        Figure(
            "preview with placement of 1,000,000 devices ÷ 2 s",
            whole / 2,
            "<= 1",
            {"ms": 1000 * whole, "ms of placement": 1000 * drawn},
        ),
    ]


async def _opening(context: Context, document: PlanDocument) -> list[Figure]:
    began = time.monotonic()
    rollout_id, _ = await service.start(context, document, "bench", None)
    started = time.monotonic() - began
    other, _ = await service.start(
        context,
        PlanDocument.model_validate({**PLAN, "name": "other", "rings": [{"name": "few", "count": 50}]}),
        "bench",
        None,
    )
    async with context.engine.begin() as connection:
        for position in range(3):
            await rollouts.move_ring(connection, rollout_id, position, RingState.DONE)
    conductor = Conductor(context)
    async with context.engine.connect() as connection:
        (row,) = await rollouts.list_rollouts(connection, rollout_id=rollout_id)
    plan: Plan = document.to_plan()
    began = time.monotonic()
    opening = asyncio.create_task(conductor._open_ring(row, plan, 3))
    slowest = await _write_meanwhile(context, opening)
    await opening
    opened = time.monotonic() - began
    halted = await _halt_while_the_last_opens(context, conductor, rollout_id, plan)
    async with context.engine.connect() as connection:
        given = sum(c["attempts"] for c in await tallies.count_attempts(connection, [rollout_id]) if c["ring"] == 3)
    if given != OPENED:
        raise RuntimeError(f"{given} of {OPENED} devices were given an attempt")
    assert other
    return [
        Figure(
            "opening a ring of 300,000 ÷ 5 s",
            opened / 5,
            "<= 1",
            {"s": opened, "ms of the slowest report meanwhile": 1000 * slowest, "s to start over 1,000,000": started},
        ),
        Figure("a halt while a ring opens ÷ 1.5 s", halted / 1.5, "<= 1", {"ms": 1000 * halted}),
    ]


async def _write_meanwhile(context: Context, opening: "asyncio.Task[None]") -> float:
    """Devices go on to be written while a ring opens; the slowest write, in seconds."""
    slowest, number = 0.0, 0
    while not opening.done():
        number += 1
        began = time.monotonic()
        async with context.engine.begin() as connection:
            await connection.execute(REPORT, {"id": number})
        slowest = max(slowest, time.monotonic() - began)
        await asyncio.sleep(0.01)
    return slowest


async def _halt_while_the_last_opens(context: Context, conductor: Conductor, rollout_id: int, plan: Plan) -> float:
    async with context.engine.connect() as connection:
        (row,) = await rollouts.list_rollouts(connection, rollout_id=rollout_id)
    opening = asyncio.create_task(conductor._open_ring(row, plan, 4))
    await asyncio.sleep(1.0)
    began = time.monotonic()
    await service.halt(context, rollout_id, "bench", "to see how long it takes")
    took = time.monotonic() - began
    await opening
    return took
