"""The components of one device inside an attempt, and the alarms that its update explains."""

from datetime import UTC, datetime, timedelta

from mellow_herald.core.alarms import UpdateTime, explained_by
from mellow_herald.core.attempt import State
from mellow_herald.core.parts import PartTold, PartWord, after_check_in, after_word, at_first, failed_parts, worst

WANTED = {"app": ["a2"], "pump": ["p2"], "file/sounds": ["f2"]}
RUNNING = {"app": {"digest": "a1", "version": "1.0.0"}, "pump": {"digest": "p1"}, "file/sounds": {"digest": "f2"}}
NOW = datetime(2026, 11, 29, 14, tzinfo=UTC)


def states(parts: dict[str, dict[str, object]]) -> dict[str, object]:
    return {name: part["state"] for name, part in parts.items()}


def test_what_runs_already_is_not_changed() -> None:
    parts = at_first(WANTED, RUNNING)
    assert states(parts) == {"app": "queued", "pump": "queued", "file/sounds": "confirmed"}
    assert (parts["app"]["from_version"], parts["app"]["from_digest"]) == ("1.0.0", "a1")
    after = after_word(parts, PartWord(State.STAGED))
    assert states(after) == {"app": "staged", "pump": "staged", "file/sounds": "confirmed"}


def test_a_word_of_each_part_is_bound_to_that_part() -> None:
    parts = after_word(at_first(WANTED, RUNNING), PartWord(State.STAGED))
    word = PartWord(
        State.PROVING, parts={"app": PartTold(State.CONFIRMED), "nobody": PartTold(State.FAILED, "no-room")}
    )
    assert states(after_word(parts, word)) == {"app": "confirmed", "pump": "staged", "file/sounds": "confirmed"}


def test_those_switched_before_the_one_that_failed_go_back_with_it() -> None:
    parts = at_first({**WANTED, "later": ["l2"]}, RUNNING)
    parts = after_word(parts, PartWord(State.STAGED))
    parts = after_word(
        parts, PartWord(State.PROVING, parts={"app": PartTold(State.CONFIRMED), "pump": PartTold(State.INSTALLING)})
    )
    told = {"pump": PartTold(State.REVERTED, "stream-broken", None, "block 31")}
    parts = after_word(parts, PartWord(State.REVERTED, reason="stream-broken", parts=told))
    assert states(parts) == {"app": "reverted", "pump": "reverted", "file/sounds": "confirmed", "later": "staged"}
    assert worst(parts) == (State.REVERTED, "stream-broken") and failed_parts(parts) == ["pump"]
    assert parts["app"]["reason"] is None, "it went back because of another"


def test_what_a_check_in_shows_of_the_parts() -> None:
    parts = after_word(at_first(WANTED, RUNNING), PartWord(State.INSTALLING))
    now = {**RUNNING, "app": {"digest": "a2"}}
    shown = after_check_in(parts, WANTED, now, {}, State.PROVING)
    assert states(shown) == {"app": "proving", "pump": "installing", "file/sounds": "confirmed"}
    assert shown["app"]["digest"] == "a2" and shown["app"]["from_digest"] == "a1"


def test_an_alarm_is_explained_by_the_restart_that_it_is_about() -> None:
    update = UpdateTime("TA-G", 7, NOW, NOW + timedelta(minutes=2), timedelta(minutes=30))
    going = UpdateTime("TA-G", 9, NOW + timedelta(hours=2), None, timedelta(minutes=30))
    for at, due in (
        (NOW - timedelta(minutes=5), None),
        (NOW, 7),
        (NOW + timedelta(minutes=31), 7),
        (NOW + timedelta(minutes=33), None),
        (NOW + timedelta(hours=9), 9),
    ):
        assert explained_by(at, "TA-1", "TA-Y", [update, going]) == due, at
    assert explained_by(NOW, "TA-1", "TA-Y", []) is None
    assert explained_by(NOW, "TA-1", "TA-1", [update]) is None, "what it notices of itself is not its gateway's doing"
    assert explained_by(NOW, "TA-G", "TA-G", [update]) == 7
