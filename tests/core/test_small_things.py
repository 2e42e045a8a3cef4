from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.behaviour import Behaviour, Fault, encode_behaviour, faults_of, find_behaviour
from mellow_herald.core.duration import parse_duration, write_duration
from mellow_herald.core.eligibility import Candidate, PassedOver, passed_over, rules_for
from mellow_herald.core.estimate import LEAST_FOUND, estimate
from mellow_herald.core.journal import GENESIS, first_broken, link_hash
from mellow_herald.core.plan import Plan, Ring
from mellow_herald.core.presence import Presence, presence
from mellow_herald.core.refusal import Refused
from mellow_herald.core.release_name import parse_release_name
from mellow_herald.core.token import DeviceToken, make_token, read_token

T0 = datetime(2026, 11, 23, 6, tzinfo=UTC)


@given(st.integers(0, 10**8))
def test_durations_are_written_as_they_are_read(seconds: int) -> None:
    assert parse_duration(write_duration(timedelta(seconds=seconds))) == timedelta(seconds=seconds)


@pytest.mark.parametrize("text", ["", "5", "m", "5 m", "1.5h", "-3s", "3s2m", "1h1h", "٣s"])
def test_what_is_no_duration_is_refused(text: str) -> None:
    with pytest.raises(Refused, match="is not a duration"):
        parse_duration(text)


@pytest.mark.parametrize(
    ("minutes", "expected"), [(0, "online"), (2, "online"), (2.1, "late"), (5, "late"), (5.1, "offline")]
)
def test_presence_is_judged_by_the_devices_own_interval(minutes: float, expected: str) -> None:
    assert presence(T0, timedelta(minutes=1), T0 + timedelta(minutes=minutes)) == expected
    assert presence(T0, timedelta(hours=1), T0 + timedelta(hours=minutes)) == expected


def test_a_device_that_never_called_is_never_seen() -> None:
    assert presence(None, timedelta(minutes=1), T0) is Presence.NEVER_SEEN


def test_tokens_are_good_only_as_they_were_made() -> None:
    keys = {1: b"a" * 32, 2: b"b" * 32}
    token = DeviceToken(device_id=17, generation=3, key_id=2)
    text = make_token(token, keys[2])
    assert read_token(text, keys) == token
    assert read_token(text, {1: keys[1]}) is None
    for at, character in enumerate(text):
        for other in "0Az.":
            if other != character:
                assert read_token(text[:at] + other + text[at + 1 :], keys) is None
    for garbage in ("", "....", "mh1.1.1.1.", "mh1.x.1.1.aaaa", "mh1.1.1.1.\u00e9", "9" * 5000):
        assert read_token(garbage, keys) is None


def test_the_journals_chain_shows_any_change() -> None:
    chain, previous = [], GENESIS
    for link in range(1, 6):
        entry = {"who": "ada", "what": f"thing {link}"}
        previous = link_hash(previous, link, entry)
        chain.append((link, previous, entry))
    assert first_broken(chain) is None
    changed = [*chain[:2], (3, chain[2][1], {"who": "bob", "what": "thing 3"}), *chain[3:]]
    assert first_broken(changed) == 3
    assert first_broken([*chain[:2], *chain[3:]]) == 4
    assert first_broken([chain[1], chain[0]]) == 2


def test_behaviour_travels_in_the_image_and_repeats_itself() -> None:
    rules = (Behaviour("hw_rev = 2", Fault.FAIL_SELF_TEST), Behaviour("site = quillmere", Fault.FAIL_SELF_TEST, 500))
    image = b"code" * 100 + encode_behaviour(rules) + b"more"
    assert find_behaviour(image) == rules
    assert find_behaviour(b"none here") == ()
    assert faults_of(rules, {"serial": "x", "hw_rev": 2}, "d", 1) == {Fault.FAIL_SELF_TEST}
    assert faults_of(rules, {"serial": "x", "hw_rev": 1}, "d", 1) == frozenset()
    shown = [bool(faults_of(rules, {"serial": f"s{n}", "site": "quillmere"}, "d", 1)) for n in range(1000)]
    again = [bool(faults_of(rules, {"serial": f"s{n}", "site": "quillmere"}, "d", 1)) for n in range(1000)]
    assert shown == again
    assert 430 < sum(shown) < 570, "a chance of 500 per mille, within 4 standard deviations"


RELEASE = Candidate("comb-s1", "hive-scale", "2.5.0", 4, ("d" * 64,), 1, 2, "2.3.0")
ELIGIBLE = {
    "admission": "admitted",
    "board": "comb-s1",
    "line": "hive-scale",
    "hw_rev": 1,
    "version": "2.4.0",
    "floor": 4,
    "digest": "c" * 64,
    "runs": "release",
    "updater": 1,
    "in_rollout": False,
}


@pytest.mark.parametrize(
    ("change", "reason"),
    [
        ({}, None),
        ({"version": None, "digest": None, "runs": None, "updater": None, "floor": None}, None),
        ({"admission": "asking"}, PassedOver.NOT_ADMITTED),
        ({"board": "comb-s2"}, PassedOver.WRONG_BOARD),
        ({"line": "feed-pump"}, PassedOver.WRONG_LINE),
        ({"hw_rev": 3}, PassedOver.WRONG_REVISION),
        ({"runs": "unknown-build"}, PassedOver.UNKNOWN_BUILD),
        ({"runs": "bench-build"}, PassedOver.BENCH_BUILD),
        ({"digest": "d" * 64, "runs": "unknown-build"}, PassedOver.ALREADY_RUNNING),
        ({"version": "2.5.1"}, PassedOver.NEWER_RUNNING),
        ({"floor": 5}, PassedOver.BELOW_FLOOR),
        ({"updater": 0}, PassedOver.NO_UPDATER),
        ({"in_rollout": True}, PassedOver.IN_OTHER_ROLLOUT),
        ({"board": "comb-s2", "in_rollout": True}, PassedOver.WRONG_BOARD),
    ],
)
def test_the_first_rule_that_matches_is_the_reason(change: dict[str, object], reason: PassedOver | None) -> None:
    assert passed_over(rules_for(RELEASE), {**ELIGIBLE, **change}) is reason


@pytest.mark.parametrize("text", ["", "comb-s1", "comb-s1/hive-scale", "a/b/two", "a//1.0.0", "a/b/1.0.0/c"])
def test_what_names_no_release_is_refused(text: str) -> None:
    with pytest.raises(Refused):
        parse_release_name(text)


def test_a_plan_is_checked() -> None:
    def plan(**more: object) -> Plan:
        values = {"name": "p", "release": parse_release_name("a/b/1.0.0"), "target": "board = a"}
        return Plan(**{**values, "rings": (Ring("r", timedelta(0)),), **more})  # type: ignore[arg-type]

    plan().check()
    soak = timedelta(0)
    for rings, said in (
        ((Ring("r", soak),) * 2, "ring 'r' is there twice"),
        ((Ring("all", soak), Ring("more", soak, count=3)), "nothing is left for the rings after it"),
        ((Ring("both", soak, count=3, share=0.1),), "takes devices in 2 ways"),
        ((Ring("odd", soak, where="site ="),), "ends too early"),
    ):
        with pytest.raises(Refused, match=said):
            plan(rings=rings).check()
    plan(rings=(Ring("few", soak, count=3), Ring("half", soak, share=0.5), Ring("rest", soak))).check()
    with pytest.raises(Refused, match="ends too early"):
        plan(target="board =").check()


@given(st.integers(LEAST_FOUND, 10_000), st.integers(10_000, 10**7))
def test_about_how_many_is_told_to_two_digits(found: int, among: int) -> None:
    told = estimate(found, 10_000, among)
    assert told is not None
    assert abs(told - among * found / 10_000) <= max(0.5, told * 0.05 + 1)
    assert str(told)[2:].strip("0") == ""


def test_of_few_in_a_sample_nothing_is_told() -> None:
    assert estimate(LEAST_FOUND - 1, 10_000, 10**6) is None
    assert estimate(4120, 10_000, 10**6) == 410_000
