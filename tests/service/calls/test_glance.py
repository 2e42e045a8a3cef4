import json
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from mellow_herald.service.calls import glance
from mellow_herald.service.calls.glance import glance_at
from mellow_herald.wire.device import CheckinIn

CONTENT = {"version": "2.4.0", "digest": "a" * 64, "slot": "a", "floor": 4}
SAID: dict[str, Any] = {
    "boots": 1,
    "seq": 7,
    "ready": True,
    "running": {"app": CONTENT},
    "standby": {},
    "updater": 2,
    "trial": False,
    "condition": {"battery": 80, "charging": False, "link": "wifi"},
    "uptime_s": 86400,
    "readings": {"temperature": 21.5, "free_memory": 41000},
    "settings_digest": "5" * 64,
    "after_restart": False,
    "parts": ["app"],
    "alarms": [],
    "of the maker's own": [1],
}
PASSING = {"seq", "uptime_s", "condition", "readings", "alarms", "after_restart"}
# What a call could hold instead, right or wrong, and what Python takes for the same though JSON does not.
ODD = [
    None,
    True,
    False,
    0,
    1,
    1.0,
    -1,
    2**53,
    2**64,
    1e300,
    "",
    "1",
    "a b",
    [],
    {},
    {"app": CONTENT},
    {"battery": 101},
]
ODD += [{"battery": 80.0}, {"battery": 12, "owner_until": "2026-11-29T10:00:00Z"}, {"link": "wi fi"}, {"t": True}]
ODD += [{"t": 1}, {"t": "1"}, {"t t": 1}, [{"kind": "door"}], ["app"]]
NAMES = st.sampled_from(sorted(SAID))


def _body(said: object) -> bytes:
    return json.dumps(said).encode()


def test_what_passes_is_told_and_what_is_stated_is_compared() -> None:
    seen = glance_at(_body(SAID))
    later = glance_at(_body({**SAID, "seq": 8, "uptime_s": 9, "condition": {"battery": 79}}))
    assert seen is not None and later is not None and seen.statement == later.statement
    assert (later.boots, later.seq, later.condition) == (1, 8, {"battery": 79})
    for name in SAID.keys() - PASSING:
        other = glance_at(_body({**SAID, name: {"x": 1}}))
        assert other is None or other.statement != seen.statement, name
    assert glance_at(_body({**SAID, "readings": {"temperature": 1.5}})).statement != seen.statement, "a name less"  # type: ignore[union-attr]
    assert glance_at(_body({**SAID, "updater": True, "boots": 1.0})).statement != seen.statement  # type: ignore[union-attr]


def test_a_restart_and_an_alarm_are_news() -> None:
    for news in ({"after_restart": True}, {"alarms": [{"kind": "door-open"}]}):
        seen = glance_at(_body({**SAID, **news}))
        assert seen is not None and seen.is_news


def test_what_is_no_check_in_is_left_to_the_full_reading() -> None:
    for body in (b"", b"[]", b"7", b"null", b"{", b'{"seq": 1}', b'{"boots": 1, "seq": NaN}', b"\xff", b"[" * 5000):
        assert glance_at(body) is None, body
    for text in ('"t": NaN', '"t": 1e999', '"t": -Infinity'):
        assert glance_at(_body(SAID).replace(b'"temperature": 21.5', text.encode())) is None


def test_what_is_kept_of_conditions_is_bounded(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(glance, "CONDITIONS_KEPT", 10)
    monkeypatch.setattr(glance, "_conditions", {})
    for number in range(25):
        condition = {"battery": number, "of its own": "x" * (5000 if number % 2 else 1)}
        seen = glance_at(_body({**SAID, "condition": condition}))
        assert seen is not None and seen.condition == {"battery": number}
        assert len(glance._conditions) <= 10 and all(len(written) < 400 for written in glance._conditions)


@settings(max_examples=500)
@given(st.dictionaries(NAMES, st.sampled_from(ODD), max_size=3), st.sets(NAMES, max_size=1))
def test_nothing_is_taken_at_a_glance_that_a_full_reading_refuses(changed: dict[str, Any], left_out: set[str]) -> None:
    usual = glance_at(_body(SAID))
    assert usual is not None
    body = _body({name: value for name, value in {**SAID, **changed}.items() if name not in left_out})
    seen = glance_at(body)
    if seen is None or seen.is_news or seen.statement != usual.statement:
        return
    try:
        read = CheckinIn.model_validate_json(body)
    except ValidationError as error:
        raise AssertionError(f"taken at a glance: {body!r}") from error
    stated = {name for name in CheckinIn.model_fields if name not in PASSING}
    assert read.model_dump(include=stated) == CheckinIn.model_validate(SAID).model_dump(include=stated)
    assert (seen.boots, seen.seq, seen.readings) == (read.boots, read.seq, read.readings)
    assert seen.condition == read.condition.model_dump(exclude_none=True)
