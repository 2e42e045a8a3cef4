"""Both readers of a selector pick the same devices, on random trees and random devices."""

import random
from collections import Counter
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import insert, select
from sqlalchemy.ext.asyncio import AsyncEngine

from mellow_herald.core.eligibility import Candidate, passed_over, rules_for
from mellow_herald.core.presence import presence
from mellow_herald.core.selector import And, Compare, Has, Like, Node, Not, OneOf, Or, matches
from mellow_herald.core.selector.tree import FACTS, Kind
from mellow_herald.core.version import version_key
from mellow_herald.store.database import make_engine
from mellow_herald.store.selector_sql import IN_ROLLOUT_OF_ALL, compile_reason, compile_selector
from mellow_herald.store.selector_terms import MOST, values
from mellow_herald.store.tables import Board, Device, DeviceEvent, ImageRow, Pulse, Release, ReleaseImage
from tests.harness.rows import add_attempt

T0 = datetime(2026, 11, 23, 6, tzinfo=UTC)
KNOWN = ["a" * 64, "b" * 64]
TRIED = ("e" * 64,)  # on the bench
WORDS = ["fernhollow", "quillmere", "x", ""]
VERSIONS = ["2.4.0", "2.5.0-rc.1", "2.5.0", "2.10.0"]
RNG = random.Random(3)


def some_pulse() -> dict[str, Any] | None:
    """When a device called and what it said of itself; some never did, some say little."""
    said = {"battery": RNG.randint(0, 100), "charging": RNG.random() < 0.5, "link": RNG.choice(["wifi", "cellular"])}
    condition = {name: value for name, value in said.items() if RNG.random() < 0.8}
    return {"age": RNG.choice([10, 100, 130, 400, 90_000]), "condition": condition} if RNG.random() < 0.8 else None


# Mostly eligible, so that the later rules have somebody to speak about.
DEVICES: list[dict[str, Any]] = [
    {
        "serial": f"TA-{n}",
        "board": RNG.choice(["comb-s1"] * 5 + ["comb-s2"]),
        "line": RNG.choice(["hive-scale"] * 5 + ["feed-pump"]),
        "hw_rev": RNG.choice([1, 1, 2, 2, 3]),
        "version": RNG.choice([*VERSIONS, None]),
        "digest": RNG.choice([*KNOWN, *KNOWN, *TRIED, "c" * 64, None]),
        "floor": RNG.choice([None, 3, 4, 5]),
        "updater": RNG.choice([None, 0, 1, 1]),
        "admission": RNG.choice(["admitted"] * 6 + ["asking", "retired"]),
        "gateway": RNG.choice([None, "TA-0"]),
        "pinned_until": RNG.choice([None, None, T0, T0 + timedelta(days=9)]),
        "labels": {key: RNG.choice(WORDS) for key in ("site", "yard") if RNG.random() < 0.7},
        "components": {"radio": RNG.choice(VERSIONS)} if RNG.random() < 0.6 else {},
        "pulse": some_pulse(),
        "rescued_at": RNG.choice([None, None, T0]),
        "on_bench": RNG.random() < 0.3,
        "radio": RNG.choice([None, None, "ready", "no-packages", "no-key"]),
        "radio_region": RNG.choice([None, "EU868", "US915"]),
        "says": RNG.choice([VERSIONS[0], None]),
        "cloned_at": RNG.choice([None, None, T0]),
        "slot": RNG.choice(["a", "a", "b", "recovery"]),
        "restarts": RNG.choice([0, 0, 1, 5, 9]),
        "under_way": n % 4 == 0,
    }
    for n in range(120)
]

NOW = T0 + timedelta(days=2)
INTERVAL_S = 60
texts = st.sampled_from(["site", "yard", "label.site", "board", "line", "serial", "gateway", "admission", "link"])
ordering = st.sampled_from(["=", "!=", "<", "<=", ">", ">="])
equality = st.sampled_from(["=", "!="])
words = st.sampled_from([*WORDS, "TA-3", "comb-s1", "wifi"])
patterns = st.text("*?fernhoqul_%\\", max_size=6) | st.sampled_from(["fern*", "*mere", "?", "comb-s?", "*"])
versioned = st.sampled_from(["version", "radio.version", "boot.version"])
everything = st.sampled_from(
    ["site", "yard", "gateway", "battery", "version", "runs", "radio.version", "boot.version", "seen"]
)
FLAGS = [
    "version_differs",
    "on_bench",
    "known_build",
    "in_rollout",
    "charging",
    "pinned",
    "rescued",
    "cloned",
    "restart_loop",
]
comparisons = (
    st.builds(Compare, texts, ordering, words)
    | st.builds(Compare, st.sampled_from(["hw_rev", "floor", "updater"]), ordering, st.integers(0, 5))
    | st.builds(Compare, st.just("battery"), ordering, st.integers(0, 100))
    | st.builds(Compare, st.just("seen"), ordering, st.sampled_from([100, 120, 3600, 200_000]))
    | st.builds(Compare, st.just("presence"), equality, st.sampled_from(["online", "late", "offline", "never-seen"]))
    | st.builds(Compare, versioned, ordering, st.sampled_from(VERSIONS))
    | st.builds(Compare, st.sampled_from(FLAGS), equality, st.booleans())
    | st.builds(
        Compare, st.just("runs"), equality, st.sampled_from(["release", "bench-build", "unknown-build", "recovery"])
    )
    | st.builds(Like, texts, patterns)
    | st.builds(Has, everything)
    | st.builds(OneOf, texts, st.lists(words, min_size=1, max_size=3).map(tuple))
)
trees = st.recursive(
    comparisons,
    lambda inner: (
        st.builds(Not, inner)
        | st.builds(And, st.lists(inner, min_size=1, max_size=3).map(tuple))
        | st.builds(Or, st.lists(inner, min_size=1, max_size=3).map(tuple))
    ),
    max_leaves=6,
)


NOT_COLUMNS = ("says", "components", "pulse", "slot", "restarts", "under_way")


def pinned(device: dict[str, Any]) -> bool:
    return device["pinned_until"] is not None and device["pinned_until"] > NOW


def facts(device: dict[str, Any]) -> dict[str, Any]:
    recovery = device["slot"] == "recovery"
    known = None if device["digest"] is None or recovery else device["digest"] in KNOWN
    runs = "unreadable" if device["digest"] is None else "recovery" if recovery else None
    pulse = device["pulse"] or {"age": None, "condition": {}}
    seen_at = None if pulse["age"] is None else NOW - timedelta(seconds=pulse["age"])
    timed = {"seen": pulse["age"], "presence": presence(seen_at, timedelta(seconds=INTERVAL_S), NOW)}
    return {
        **device["labels"],
        **device,
        **pulse["condition"],
        **timed,
        "known_build": known,
        "runs": runs or ("release" if known else "bench-build" if device["digest"] in TRIED else "unknown-build"),
        "version_differs": None not in (device["version"], device["says"]) and device["version"] != device["says"],
        "rescued": device["rescued_at"] is not None,
        "cloned": device["cloned_at"] is not None,
        "restart_loop": device["restarts"] >= 5,
        "in_rollout": device["under_way"],
        "pinned": pinned(device),
    }


@pytest.fixture(scope="module")
async def fleet(databases: Any) -> Any:
    engine = make_engine(databases.fresh())
    async with engine.begin() as connection:
        for name in ("comb-s1", "comb-s2"):
            values = {
                "vendor_domain": "x.example",
                "lines": [],
                "hw_revs": [],
                "slots": [],
                "check_in_s": 60,
                "runs": "anywhere",
                "check_in_exceptions": [],
            }
            await connection.execute(insert(Board).values(name=name, added_at=T0, **values))
        release = {
            "id": 1,
            "board": "comb-s1",
            "line": "hive-scale",
            "version": "1.0.0",
            "version_key": b"",
            "kid": "k",
            "state": "published",
            "floor": 1,
            "hw_rev_min": 0,
            "hw_rev_max": 9,
            "notes": "",
            "manifest": b"",
            "manifest_digest": "m",
            "authentication": b"",
            "published_at": T0,
            "published_by": "ada",
            "uploaded_at": T0,
            "uploaded_by": "ada",
            "labels": {},
            "needs": {},
            "checks": [],
            "revision": 1,
            "independent": False,
        }
        drafted = "c" * 64  # a draft is no release yet
        for number, state in enumerate(("published", "scratch", "draft"), 1):
            own = {"id": number, "version": f"{number}.0.0", "manifest_digest": f"m{number}", "state": state}
            await connection.execute(insert(Release).values(**{**release, **own}))
        for number, digest in enumerate((*KNOWN, *TRIED, drafted)):
            of = 2 if digest in TRIED else 3 if digest == drafted else 1
            await connection.execute(insert(ImageRow).values(digest=digest, size=1, stored_at=T0))
            row = {
                "release_id": of,
                "component": f"c{number}",
                "slot": -1,
                "position": number,
                "digest": digest,
                "version": "1.0.0",
                "updater": 1,
                "build_id": "",
                "build_time": 0,
                "after": [],
                "read": True,
            }
            await connection.execute(insert(ReleaseImage).values(**row))
        for number, device in enumerate(DEVICES, 1):
            own = {name: value for name, value in device.items() if name not in NOT_COLUMNS}
            more = {
                "id": number,
                "version_keys": {n: version_key(v).hex() for n, v in device["components"].items()},
                "generation": 1,
                "token_used": True,
                "may_enrol_again": False,
                "note": "",
                "running": {"app": {"slot": device["slot"], "version": device["says"]}},
                "standby": {},
                "arriving": False,
                "enrolled_at": T0,
                "changed_at": T0,
                "version_key": version_key(device["version"]) if device["version"] else None,
            }
            await connection.execute(insert(Device).values(**own, **more))
            for minutes in (30, 90):  # only those within the hour count
                event = {"what": "restarted", "count": device["restarts"], "detail": ""}
                at = NOW - timedelta(minutes=minutes)
                await connection.execute(insert(DeviceEvent).values(device_id=number, at=at, **event))
            if device["under_way"]:
                await add_attempt(connection, number, T0, ring=0, live=True)
            if device["pulse"]:
                said = {"condition": device["pulse"]["condition"], "readings": {}, "boots": 1, "seq": 1, "next_s": 60}
                seen_at = NOW - timedelta(seconds=device["pulse"]["age"])
                await connection.execute(
                    insert(Pulse).values(device_id=number, seen_at=seen_at, interval_s=INTERVAL_S, **said)
                )
    yield engine
    await engine.dispose()


@given(tree=trees, one_by_one=st.booleans())
@settings(max_examples=300, suppress_health_check=[HealthCheck.function_scoped_fixture])
async def test_both_readers_agree(fleet: AsyncEngine, tree: Node, one_by_one: bool) -> None:
    async with fleet.connect() as connection:
        condition = compile_selector(tree, NOW, one_by_one=one_by_one)
        rows = await connection.execute(select(Device.serial).where(condition))
        in_sql = {row.serial for row in rows}
    assert in_sql == {device["serial"] for device in DEVICES if matches(tree, facts(device))}


@pytest.mark.parametrize("in_rollout", [None, IN_ROLLOUT_OF_ALL])
async def test_the_reasons_to_pass_over_are_the_same_in_both(fleet: AsyncEngine, in_rollout: Any) -> None:
    rules = rules_for(Candidate("comb-s1", "hive-scale", "2.5.0", 4, ("b" * 64, "d" * 64), 1, 2, "2.5.0-rc.1"))
    async with fleet.connect() as connection:
        rows = await connection.execute(
            select(Device.serial, compile_reason(rules, NOW, in_rollout=in_rollout).label("reason"))
        )
        in_sql = {row.serial: row.reason for row in rows}
    in_memory = {device["serial"]: passed_over(rules, facts(device)) for device in DEVICES}
    assert in_sql == in_memory
    assert len(set(in_sql.values())) > 5, "the sample must reach most rules"


# Ages and versions are told otherwise; of the rest, these have no values in this fleet, or one and the same.
NO_VALUES = {"in_list", "overtakable", "parts", "rollout", "ring"}
TOLD = [name for name, kind in FACTS.items() if kind not in (Kind.AGE, Kind.VERSION) and name not in NO_VALUES]


@pytest.mark.parametrize("name", TOLD)
async def test_the_values_of_a_fact_are_those_that_devices_have(fleet: AsyncEngine, name: str) -> None:
    async with fleet.connect() as connection:
        told = dict(await values(connection, name, NOW))
    have = [facts(device).get(name) for device in DEVICES]
    words = ["yes" if one is True else "no" if one is False else str(one) for one in have if one is not None]
    counted = Counter(words)
    assert told.keys() <= counted.keys() and all(counted[word] == devices for word, devices in told.items())
    assert len(told) == min(MOST, len(counted)) and (len(told) > 1 or name == "gateway")
