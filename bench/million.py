"""Every page that console and command line read, over a million devices with a past: how long it takes, warm."""

import asyncio
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from urllib.parse import quote

import httpx
from sqlalchemy import text

from bench.checkins import PASSWORD, free_port, running
from bench.figure import Figure
from bench.rings import fill, own_cluster
from mellow_herald.client import Herald
from mellow_herald.service.app import open_context
from mellow_herald.service.context import Context
from mellow_herald.service.rollouts import life
from mellow_herald.service.settings import Settings
from mellow_herald.store.database import Pools
from mellow_herald.wire.plan import PlanDocument
from tests.harness.firmware import BOARD, LINE

# A tenth of the fleet in each rollout.
DEVICES, ROLLOUTS, TIMES = 1_000_000, 3, 3
MOST_S = 0.3
SELECTORS = {
    "simple": "hw_rev = 2",
    "label": "site = fernhollow",
    "rare label": "bench = window",
    "presence": "presence = offline",
    "seen": "seen > 1d",
    "battery": "battery < 3",
    "link and charging": "link = cellular and charging = yes",
    "glob": 'serial ~ "TA-09*77"',
    "or": "site = quillmere or battery < 2",
    "not": "not (site = quillmere or presence = online)",
    "build": "runs = unknown-build",
    "version": "version >= 2.5.0",
    "in a rollout": "in_rollout = yes",
    "restarts": "restart_loop = yes",
}
# One in ten is away, one in a hundred for days; batteries are spread evenly; one in a thousand never called.
PULSES = """
INSERT INTO pulse (device_id, seen_at, boots, seq, interval_s, next_s, condition, readings)
SELECT id,
  CAST(:now AS timestamptz) - CASE WHEN id % 100 = 7 THEN interval '3 days' WHEN id % 10 = 3 THEN interval '2 hours'
    ELSE random() * interval '5 minutes' END,
  1, 1, 300, 300,
  jsonb_build_object('battery', id % 101, 'charging', id % 4 = 0,
    'link', (ARRAY['wifi', 'cellular', 'radio'])[1 + id % 3]),
  jsonb_build_object('weight', 30 + id % 7)
FROM device WHERE id % 1000 <> 5
"""
# Nine of ten are confirmed.
PAST = """
INSERT INTO attempt (rollout_id, device_id, ring, from_version, from_digest, came_from, facts, parts, created_at,
  changed_at, live, state, reason, try_number, tries, soak_s, retry_pause_s, exposed_at, confirmed_at, harmed_at,
  harmed_why, first_bad_at, first_bad_why, first_bad_try, fetched, retry_bad, installs, vouched, before, closed,
  left_out)
SELECT :rollout, id, 0, '2.4.0', digest, '{}',
  jsonb_build_object('hw_rev', hw_rev::text, 'site', labels->>'site'), '{}',
  CAST(:at AS timestamptz), CAST(:at AS timestamptz) + (id % 3600) * interval '1 second', false,
  CASE WHEN id % 10 = 9 THEN 'reverted' ELSE 'confirmed' END, CASE WHEN id % 10 = 9 THEN 'self-test' END, 1, 1, 3600, 0,
  CAST(:at AS timestamptz) + (id % 1800) * interval '1 second',
  CASE WHEN id % 10 <> 9 THEN CAST(:at AS timestamptz) + (id % 3600) * interval '1 second' END,
  CASE WHEN id % 10 = 9 THEN CAST(:at AS timestamptz) + (id % 3600) * interval '1 second' END,
  CASE WHEN id % 10 = 9 THEN 'self-test' END,
  CASE WHEN id % 10 = 9 THEN CAST(:at AS timestamptz) + (id % 3600) * interval '1 second' END,
  CASE WHEN id % 10 = 9 THEN 'self-test' END, CASE WHEN id % 10 = 9 THEN 1 END,
  100, false, 1, true, '{}', true, false
FROM (SELECT * FROM device ORDER BY id OFFSET :first LIMIT :many) AS chosen
"""
TOLD = """
INSERT INTO attempt_event (attempt_id, at, said_by, what, try_number, state, reason, detail, tests, log)
SELECT attempt.id, attempt.created_at + step.number * (1 + attempt.id % 300) * interval '1 second', 'device',
  CASE WHEN step.number = 1 THEN 'order' ELSE 'report' END, 1,
  CASE WHEN step.number = 6 THEN attempt.state ELSE step.state END,
  CASE WHEN step.number = 6 THEN attempt.reason END, '', '[]', CASE WHEN step.number = 6 AND attempt.state = 'reverted'
    THEN 'E scale: drift ' || attempt.id % 900 || ' ug' ELSE '' END
FROM attempt, (VALUES (1, 'offered'), (2, 'downloading'), (3, 'staged'), (4, 'installing'), (5, 'proving'),
  (6, 'confirmed')) AS step (number, state)
WHERE attempt.rollout_id = :rollout
"""
HAPPENED = """
INSERT INTO device_event (device_id, at, what, count, detail)
SELECT 1 + (n::bigint * 7919) % CAST(:devices AS bigint), CAST(:now AS timestamptz) - (n % 86400) * interval '1 second',
  (ARRAY['restarted', 'enrolled', 'labelled'])[1 + n % 3], 1 + n % 6, ''
FROM generate_series(1, CAST(:devices AS integer) * 3 / 10) AS n
"""
ENDED = """
UPDATE rollout SET state = 'finished', outcome = 'carried-out', ended_at = CAST(:at AS timestamptz) + interval '4 hours'
WHERE id = :rollout
"""
DONE = "UPDATE ring SET state = 'done', opened_at = :at, soak_until = :at, done_at = :at WHERE rollout_id = :rollout"


def measure() -> list[Figure]:
    """The slowest answer of each sort, in seconds; ``measured`` has those that are too slow."""
    with there() as (http, herald):
        took = {name: _timed(http, path) for name, path in paths(herald).items()}
    for name, seconds in sorted(took.items(), key=lambda item: -item[1]):
        print(f"  {seconds * 1000:7.0f} ms  {name}", flush=True)
    slow = {name: seconds * 1000 for name, seconds in took.items() if seconds > MOST_S}
    return [Figure("the slowest page of a million devices ÷ 0.3 s", max(took.values()) / MOST_S, "<= 1", slow)]


def paths(herald: Herald, devices: int = DEVICES) -> dict[str, str]:
    """What is read, by a name: every GET of console and command line but exports, first page and deep."""
    late = f"TA-{devices * 9 // 10:07}"
    rollout = herald.rollouts.list(limit=1).items[0].id
    attempt = herald.rollouts.attempts(rollout, limit=1).items[0].id
    of = f"/rollouts/{rollout}"
    listed = {f"devices, {name}": f"/devices?where={quote(where)}" for name, where in SELECTORS.items()}
    deep = {
        "devices": "/devices",
        "devices, deep": f"/devices?after={late}",
        "devices by battery": "/devices?order=-battery",
        "devices by label, deep": f"/devices?order=label.site&after={devices * 9 // 10}",
        "devices, label and deep": f"/devices?where=site%20%3D%20fernhollow&after={late}",
        "a device": "/devices/TA-0000077",
        "a device's releases": "/devices/TA-0000077/releases",
        "a device that is not there": "/devices?where=serial%20%3D%20none",
    }
    facts = {f"values of {name}": f"/facts/{name}" for name in ("site", "presence", "battery", "runs", "in_rollout")}
    rollouts = {
        "rollouts": "/rollouts",
        "a rollout": of,
        "its attempts": f"{of}/attempts",
        "its attempts that went bad": f"{of}/attempts?ever_bad=true",
        "its attempts of a state": f"{of}/attempts?state=reverted&after={devices // 20}",
        "its attempts at a site": f"{of}/attempts?where=site%20%3D%20fernhollow",
        "its brake": f"{of}/brake",
        "its course": f"{of}/course",
        "its failures": f"{of}/failures",
        "its suspects": f"{of}/suspects",
        "its report": f"{of}/report",
        "an attempt": f"/attempts/{attempt}",
        "an attempt's timeline": f"/attempts/{attempt}/timeline",
    }
    rest = {
        "overview": "/overview",
        "facts": "/facts",
        "presence": "/presence",
        "lineage": f"/lineage/{BOARD}/{LINE}",
        "visits": "/visits",
        "topology": "/topology",
        "alarms": "/alarms",
        "journal": "/journal",
        "latest events": "/events/latest",
        "boards": "/boards",
        "releases": "/releases",
        "selections": "/selections",
        "baselines": "/baselines",
    }
    made = {name: f"/api/v1{path}" for name, path in (listed | deep | facts | rollouts | rest).items()}
    return {**made, "metrics": "/metrics"}


def _timed(http: httpx.Client, path: str) -> float:
    """The median of the times after the first, in seconds."""
    took = []
    for _ in range(1 + TIMES):
        began = time.monotonic()
        answer = http.get(path)
        took.append(time.monotonic() - began)
        if answer.is_error:
            raise RuntimeError(f"{path}: {answer.status_code} {answer.text[:300]}")
        if took[-1] > 60:
            break
    return sorted(took[1:] or took)[len(took[1:]) // 2]


@contextmanager
def there(devices: int = DEVICES) -> Iterator[tuple[httpx.Client, Herald]]:
    """A service over so many devices, called over the network."""
    with own_cluster() as (folder, database):
        began = time.monotonic()
        asyncio.run(_fill(folder, database, devices))
        print(f"  filled in {time.monotonic() - began:.0f} s", flush=True)
        port = free_port()
        serve = ["-m", "mellow_herald.cli.main", "serve", "--data-dir", str(folder), "--port", str(port)]
        with running([*serve, "--database-url", database], None, port):
            url = f"http://127.0.0.1:{port}"
            with Herald(url) as herald:
                herald.people.sign_in("admin", PASSWORD)
                token = herald.people.make_token().token
            headers = {"authorization": f"Bearer {token}"}
            with (
                Herald(url, token=token) as herald,
                httpx.Client(base_url=url, headers=headers, timeout=120, trust_env=False) as http,
            ):
                yield http, herald


async def _fill(folder: Path, url: str, devices: int) -> None:
    pools = Pools(url)
    context = (await open_context(Settings(data_dir=folder), pools)).through(pools.work)  # which may take its time
    try:
        await fill(context, PULSES, devices)
        for number in range(ROLLOUTS):
            await _past(context, number, devices // 10)
        async with context.engine.begin() as connection:
            await connection.execute(text(HAPPENED), {"now": context.clock.now(), "devices": devices})
            await connection.execute(text("UPDATE device SET digest = repeat('0', 64) WHERE id % 50000 = 9"))
        async with context.engine.connect() as connection:
            await connection.execution_options(isolation_level="AUTOCOMMIT")
            await connection.execute(text("VACUUM ANALYZE"))
    finally:
        await context.pools.dispose()


async def _past(context: Context, number: int, attempts: int) -> None:
    """A rollout that so many devices went through."""
    document = PlanDocument.model_validate(
        {
            "name": f"2.5.0, part {number + 1}",
            "release": f"{BOARD}/{LINE}/2.5.0",
            "target": f"board = {BOARD} and line = {LINE}",
            "rings": [{"name": "all", "count": attempts}],
        }
    )
    rollout_id, _ = await life.start(context, document, "bench", None)
    given = {"rollout": rollout_id, "at": context.clock.now()}
    async with context.engine.begin() as connection:
        await connection.execute(text(PAST), {**given, "first": number * attempts, "many": attempts})
        await connection.execute(text(TOLD), {"rollout": rollout_id})
        await connection.execute(text(ENDED), given)
        await connection.execute(text(DONE), given)


if __name__ == "__main__":
    for figure in measure():
        print(figure.line())
