"""Both readers of a selector pick the same devices, on random trees and random devices."""

import random
from datetime import UTC, datetime
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import insert, select
from sqlalchemy.ext.asyncio import AsyncEngine

from mellow_herald.core.placement import Candidate, passed_over, rules_for
from mellow_herald.core.selector import And, Compare, Node, Not, OneOf, Or, matches
from mellow_herald.core.version import version_key
from mellow_herald.store.database import make_engine
from mellow_herald.store.selector_sql import compile_reason, compile_selector
from mellow_herald.store.tables import Board, Device, ImageRow, Release, ReleaseImage

T0 = datetime(2026, 11, 23, 6, tzinfo=UTC)
KNOWN = ["a" * 64, "b" * 64]
WORDS = ["fernhollow", "quillmere", "x", ""]
VERSIONS = ["2.4.0", "2.5.0-rc.1", "2.5.0", "2.10.0"]
RNG = random.Random(3)
# Mostly eligible, so that the later rules have somebody to speak about.
DEVICES: list[dict[str, Any]] = [
    {
        "serial": f"TA-{n}",
        "board": RNG.choice(["comb-s1"] * 5 + ["comb-s2"]),
        "line": RNG.choice(["hive-scale"] * 5 + ["feed-pump"]),
        "hw_rev": RNG.choice([1, 1, 2, 2, 3]),
        "version": RNG.choice([*VERSIONS, None]),
        "digest": RNG.choice([*KNOWN, *KNOWN, "c" * 64, None]),
        "floor": RNG.choice([None, 3, 4, 5]),
        "updater": RNG.choice([None, 0, 1, 1]),
        "admission": RNG.choice(["admitted"] * 6 + ["asking", "retired"]),
        "gateway": RNG.choice([None, "TA-0"]),
        "labels": {key: RNG.choice(WORDS) for key in ("site", "yard") if RNG.random() < 0.7},
    }
    for n in range(120)
]

texts = st.sampled_from(["site", "yard", "label.site", "board", "line", "serial", "gateway", "admission"])
ordering = st.sampled_from(["=", "!=", "<", "<=", ">", ">="])
equality = st.sampled_from(["=", "!="])
words = st.sampled_from([*WORDS, "TA-3", "comb-s1"])
comparisons = (
    st.builds(Compare, texts, ordering, words)
    | st.builds(Compare, st.sampled_from(["hw_rev", "floor", "updater"]), ordering, st.integers(0, 5))
    | st.builds(Compare, st.just("version"), ordering, st.sampled_from(VERSIONS))
    | st.builds(Compare, st.sampled_from(["known_build", "in_rollout"]), equality, st.booleans())
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


def facts(device: dict[str, Any]) -> dict[str, Any]:
    known = None if device["digest"] is None else device["digest"] in KNOWN
    return {**device["labels"], **device, "known_build": known, "in_rollout": False}


@pytest.fixture(scope="module")
async def fleet(databases: Any) -> Any:
    engine = make_engine(databases.fresh())
    async with engine.begin() as connection:
        for name in ("comb-s1", "comb-s2"):
            values = {
                "vendor_domain": "x.example", "lines": [], "hw_revs": [], "slots": [], "check_in_s": 60,
                "position_dependent": False, "check_in_exceptions": [],
            }  # fmt: skip
            await connection.execute(insert(Board).values(name=name, added_at=T0, **values))
        release = {
            "id": 1, "board": "comb-s1", "line": "hive-scale", "version": "1.0.0", "version_key": b"", "kid": "k",
            "state": "published", "floor": 1, "hw_rev_min": 0, "hw_rev_max": 9, "notes": "", "manifest": b"",
            "manifest_digest": "m", "authentication": b"", "published_at": T0, "published_by": "ada", "uploaded_at": T0,
            "uploaded_by": "ada", "labels": {}, "needs": {}, "checks": [], "revision": 1, "independent": False,
        }  # fmt: skip
        await connection.execute(insert(Release).values(**release))
        for number, digest in enumerate(KNOWN):
            await connection.execute(insert(ImageRow).values(digest=digest, size=1, stored_at=T0))
            row = {
                "release_id": 1, "component": f"c{number}", "slot": -1, "position": number, "digest": digest,
                "version": "1.0.0", "updater": 1, "build_id": "", "build_time": 0, "after": [], "read": True,
            }  # fmt: skip
            await connection.execute(insert(ReleaseImage).values(**row))
        for device in DEVICES:
            more = {
                "generation": 1, "token_used": True, "running": {}, "standby": {}, "enrolled_at": T0, "changed_at": T0,
                "version_key": version_key(device["version"]) if device["version"] else None,
            }  # fmt: skip
            await connection.execute(insert(Device).values(**device, **more))
    yield engine
    await engine.dispose()


@given(tree=trees)
@settings(max_examples=150, suppress_health_check=[HealthCheck.function_scoped_fixture])
async def test_both_readers_agree(fleet: AsyncEngine, tree: Node) -> None:
    async with fleet.connect() as connection:
        rows = await connection.execute(select(Device.serial).where(compile_selector(tree)))
        in_sql = {row.serial for row in rows}
    assert in_sql == {device["serial"] for device in DEVICES if matches(tree, facts(device))}


async def test_the_reasons_to_pass_over_are_the_same_in_both(fleet: AsyncEngine) -> None:
    rules = rules_for(Candidate("comb-s1", "hive-scale", "2.5.0", 4, ("b" * 64, "d" * 64), 1, 2, "2.5.0-rc.1"))
    async with fleet.connect() as connection:
        rows = await connection.execute(select(Device.serial, compile_reason(rules).label("reason")))
        in_sql = {row.serial: row.reason for row in rows}
    in_memory = {device["serial"]: passed_over(rules, facts(device)) for device in DEVICES}
    assert in_sql == in_memory
    assert len(set(in_sql.values())) > 5, "the sample must reach most rules"
