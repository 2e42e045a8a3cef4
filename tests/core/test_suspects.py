"""Suspects on planted causes, and on none: fixed seeds."""

from collections.abc import Mapping, Sequence
from math import sqrt

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import fisher_exact

from mellow_herald.core.selector import matches, parse_selector
from mellow_herald.core.suspects import Suspect, find_suspects, fisher, leading_candidate

SITES = ("fernhollow", "quillmere", "ottersedge", "bramblecote", "saltgrass")
DEVICES, RATE = 400, 0.05


def fleet(rng: np.random.Generator, devices: int = DEVICES) -> dict[str, list[str]]:
    return {
        "hw_rev": [str(one) for one in rng.integers(1, 4, devices)],
        "site": [SITES[one] for one in rng.integers(0, 5, devices)],
        "yard": [f"yard {one}" for one in rng.integers(0, 8, devices)],
        "version": ["2.4.0" if one else "2.3.9" for one in rng.random(devices) < 0.9],
        "owner": [str(one) for one in rng.integers(0, 200, devices)],
    }


def struck(facts: Mapping[str, Sequence[str]], where: Mapping[str, str], rng: np.random.Generator) -> np.ndarray:
    """Bad with 60 % where a fault strikes, with 1 % elsewhere."""
    has = np.ones(len(facts["hw_rev"]), bool)
    for name, value in where.items():
        has &= np.asarray(facts[name]) == value
    return rng.random(len(has)) < np.where(has, 0.6, 0.01)


def names(found: list[Suspect]) -> list[dict[str, str]]:
    return [dict(one.facts) for one in found]


@pytest.mark.parametrize(("x", "n", "y", "m"), [(4, 4, 0, 14), (3, 10, 1, 90), (0, 5, 5, 5), (12, 40, 60, 400)])
def test_the_test_is_fishers(x: int, n: int, y: int, m: int) -> None:
    has = np.repeat([True, False], [n, m])
    bad = np.concatenate([np.arange(n) < x, np.arange(m) < y])
    expected = fisher_exact([[x, n - x], [y, m - y]], alternative="greater").pvalue
    assert fisher(has, bad) == pytest.approx(expected)


def test_a_single_cause_is_named_first() -> None:
    rng, first = np.random.default_rng(1), 0
    for _ in range(40):
        facts = fleet(rng)
        found = find_suspects(facts, struck(facts, {"hw_rev": "2"}, rng))
        first += bool(found) and dict(found[0].facts) == {"hw_rev": "2"}
    assert first == 40


def test_a_pair_is_named_where_it_takes_both() -> None:
    rng, first = np.random.default_rng(2), 0
    for _ in range(40):
        facts = fleet(rng)
        cause = {"hw_rev": "2", "site": "saltgrass"}
        found = find_suspects(facts, struck(facts, cause, rng))
        first += bool(found) and dict(found[0].facts) == cause
    assert first >= 38


def test_where_there_is_no_cause_hardly_anything_is_named() -> None:
    """With no true cause every name is false: the share of runs that name anything is at most the rate."""
    rng, runs, named = np.random.default_rng(3), 400, 0
    for _ in range(runs):
        facts = fleet(rng)
        named += bool(find_suspects(facts, rng.random(DEVICES) < 0.05, rate=RATE))
    assert named / runs <= RATE + 3 * sqrt(RATE * (1 - RATE) / runs)


def test_beside_a_true_cause_few_false_ones_are_named() -> None:
    """Values of facts that have nothing to do with the cause; a pair with the cause in it tells no lie."""
    rng, shares = np.random.default_rng(4), []
    for _ in range(150):
        facts = fleet(rng)
        found = find_suspects(facts, struck(facts, {"hw_rev": "2"}, rng), rate=RATE)
        false = [one for one in found if ("hw_rev", "2") not in one.facts]
        shares.append(len(false) / len(found) if found else 0.0)
    assert np.mean(shares) <= RATE + 3 * np.std(shares) / sqrt(len(shares))


def test_a_handful_of_devices_is_enough_for_a_plain_cause() -> None:
    facts = {"hw_rev": ["2"] * 4 + ["1"] * 7 + ["3"] * 7, "site": [SITES[n % 5] for n in range(18)]}
    found = find_suspects(facts, [True] * 4 + [False] * 14)
    assert [one.selector for one in found] == ["hw_rev = 2"]
    assert (found[0].bad, found[0].devices, found[0].other_bad, found[0].others) == (4, 4, 0, 14)
    assert 0.4 < found[0].low < 1 <= found[0].high + 1e-9


def test_nothing_is_named_for_too_few_or_for_all() -> None:
    facts = {"hw_rev": ["1", "2"] * 10}
    assert find_suspects(facts, [True, True] + [False] * 18) == []
    assert find_suspects(facts, [True] * 20) == []


@pytest.mark.parametrize("value", ["fernhollow", "two words", 'a "quoted" one', "back\\slash", "1.5", "(none)", "and"])
def test_the_selector_can_be_pasted(value: str) -> None:
    facts = {"site": [value] * 6 + ["x"] * 30}
    (found,) = find_suspects(facts, [True] * 6 + [False] * 30)
    node = parse_selector(found.selector)
    device = {"board": "comb-s1"} if value == "(none)" else {"site": value}
    assert matches(node, device) and not matches(node, {"site": "x"})


def test_the_leading_candidate_is_named_before_it_is_beyond_chance() -> None:
    facts = {"site": ["a", "b"] * 5, "hw_rev": ["2"] * 3 + ["1"] * 7}
    bad = [True] * 2 + [False] * 8
    assert find_suspects(facts, bad) == []
    found = leading_candidate(facts, bad)
    assert found is not None and found.facts == (("hw_rev", "2"),)
    assert (found.bad, found.devices, found.other_bad, found.others) == (2, 3, 0, 7) and found.p > 0.05
    assert leading_candidate(facts, [False] * 10) is None and leading_candidate(facts, [True] * 10) is None


@given(st.lists(st.tuples(st.booleans(), st.sampled_from("ab"), st.sampled_from("12")), min_size=1, max_size=30))
def test_the_leading_candidate_is_worse_than_the_others_and_no_other_fact_is_likelier(
    devices: list[tuple[bool, str, str]],
) -> None:
    facts = {"site": [one[1] for one in devices], "hw_rev": [one[2] for one in devices]}
    bad = np.array([one[0] for one in devices])
    found = leading_candidate(facts, bad)
    if found is None:
        for values in facts.values():
            rates = {v: bad[np.array(values) == v].mean() for v in values}
            assert len(set(rates.values())) == 1
    else:
        assert found.rate > found.other_rate
        others = [fisher(np.array(values) == v, bad) for values in facts.values() for v in set(values)]
        assert found.p <= min(others) + 1e-12
