"""The harm budget's promise, held by study: fixed seeds, margins from the study's own binomial error."""

from math import comb, exp, sqrt

import numpy as np
import pytest

from mellow_herald.core.harm.budget import HarmBudget
from mellow_herald.core.harm.forecast import good_waves
from mellow_herald.core.harm.rate import log_e, upper_rate
from mellow_herald.core.harm.study import Fleet, Player
from mellow_herald.core.harm.waves import Counts, Given, HarmProgress, Wave, begin_wave, used_up, wave_due, wave_size
from mellow_herald.core.refusal import Refused

RUNS = 300


def exceeded_at_most(promised: float, runs: int = RUNS) -> float:
    """The share of runs beyond the budget that a study of a promise kept may show: three of its own standard errors."""
    return promised + 3 * sqrt(promised * (1 - promised) / runs)


# The rate ----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("rate", [0.01, 0.2, 0.9])
def test_at_the_true_rate_the_mean_of_the_evidence_against_it_is_one(rate: float) -> None:
    seen = 30
    mean = sum(
        comb(seen, bad) * rate**bad * (1 - rate) ** (seen - bad) * exp(log_e(bad, seen, rate))
        for bad in range(seen + 1)
    )
    assert mean == pytest.approx(1, rel=1e-9)


def test_the_upper_rate_falls_with_good_devices_and_rises_with_bad_ones() -> None:
    assert upper_rate(0, 0, 0.025) == 1 and upper_rate(7, 7, 0.025) == 1
    good = [upper_rate(0, seen, 0.05) for seen in (10, 50, 300, 10_000)]
    assert good == sorted(good, reverse=True)
    assert good[:3] == pytest.approx([0.2929, 0.0674, 0.01159], rel=1e-3)
    bad = [upper_rate(f, 300, 0.05) for f in (0, 1, 5, 50, 299)]
    assert bad == sorted(bad) and all(rate > f / 300 for f, rate in zip((0, 1, 5, 50, 299), bad, strict=True))


@pytest.mark.parametrize("rate", [0.02, 0.1, 0.5])
def test_the_true_rate_is_rarely_above_the_upper_one_however_often_one_looks(rate: float) -> None:
    rng, missed = np.random.default_rng(3), 0
    for _ in range(RUNS):
        bad = np.cumsum(rng.random(400) < rate)
        looks = range(1, 401, 7)
        missed += any(upper_rate(int(bad[n - 1]), n, 0.025) < rate for n in looks)
    assert missed / RUNS <= exceeded_at_most(0.025)


# Waves -------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("room", "rate"), [(5, 0.29), (20, 0.01), (6, 0.2)])
def test_a_wave_is_as_large_as_its_chance_allows_and_no_larger(room: int, rate: float) -> None:
    def beyond(size: int) -> float:
        return 1 - sum(comb(size, bad) * rate**bad * (1 - rate) ** (size - bad) for bad in range(room + 1))

    size = wave_size(room, rate, 0.01, 10**6)
    assert size > room and beyond(size) <= 0.01 < beyond(size + 1)


def test_what_is_left_may_always_be_given_and_never_more_than_the_widest_wave() -> None:
    assert wave_size(7, 1.0, 1e-9, 100) == 7 and wave_size(7, 0.99, 1e-9, 100) == 7
    assert wave_size(0, 0.001, 0.5, 100) == wave_size(-3, 0.001, 0.5, 100) == 0
    assert wave_size(7, 1e-6, 0.01, 100) == 100 and wave_size(700, 0.5, 0.01, 100) == 100


def test_a_good_release_takes_few_waves() -> None:
    wide = 10**6
    assert [good_waves(HarmBudget(most, widest=wide), [10_000]) for most in (5, 20, 100)] == [[42], [6], [3]]
    # No wave holds more than ten times the budget, unless the plan says so.
    assert good_waves(HarmBudget(20), [10_000]) == [52]
    # Each ring begins a wave of its own, as large as all before it allow.
    assert good_waves(HarmBudget(20), [5, 20, 0, 300]) == [1, 1, 0, 3]
    assert good_waves(HarmBudget(20, sure=True), [5, 20, 41]) == [1, 1, 3]
    assert good_waves(HarmBudget(20, cluster_by="site", of_a_cluster=5), [20, 20]) == [1, 1]


def test_the_first_wave_holds_what_may_be_hurt_and_the_next_waits_until_all_are_decided() -> None:
    budget = HarmBudget(10)
    first = wave_due(budget, HarmProgress())
    assert first is not None and (first.number, first.size, first.room, first.rate) == (1, 10, 10, 1.0)
    assert not first.beyond_room
    waiting = Counts(10, 0, 9)
    assert wave_due(budget, HarmProgress(waiting, waiting, wave=first, in_wave=waiting)) is None
    through = Counts(10)
    second = wave_due(budget, HarmProgress(through, through, wave=first, in_wave=through))
    assert second is not None and second.number == 2 and second.size > 10 and second.beyond_room


def test_a_wave_that_was_given_to_nobody_yet_is_not_followed_by_another() -> None:
    wave = Wave(3, 12, 5, 0.1)
    assert wave_due(HarmBudget(10), HarmProgress(Counts(40), Counts(40), wave=wave, beyond=2)) is None


def test_stragglers_hold_the_next_wave_only_as_far_as_they_could_use_the_budget_up() -> None:
    budget = HarmBudget(20)
    wave = Wave(1, 20, 20, 1.0)
    late = Counts(20, 0, 1)
    next_wave = wave_due(budget, HarmProgress(late, late, wave=wave, in_wave=late))
    assert next_wave is not None and next_wave.room == 19 and next_wave.size >= 20
    whole = wave_due(budget, HarmProgress(Counts(20), Counts(20), wave=wave, in_wave=Counts(20)))
    assert whole is not None and whole.size > next_wave.size
    half = Counts(20, 0, 12)
    assert wave_due(budget, HarmProgress(half, half, wave=wave, in_wave=half)) is None
    # Until the wave is full nobody is counted as bad who is only late: there is leave left to give.
    some = Counts(12, 0, 1)
    assert wave_due(budget, HarmProgress(some, some, wave=wave, in_wave=some)) is None


def test_a_budget_that_is_used_up_gives_no_more_until_it_is_raised() -> None:
    spent = HarmProgress(Counts(30, 5), Counts(30, 5), wave=Wave(2, 25, 5, 0.1), in_wave=Counts(25, 5))
    assert used_up(HarmBudget(5), spent) and wave_due(HarmBudget(5), spent) is None
    raised = wave_due(HarmBudget(12), spent)
    assert raised is not None and raised.room == 7 and not used_up(HarmBudget(12), spent)


def test_a_value_that_earlier_waves_lacked_gets_what_is_left_and_no_more() -> None:
    budget, foreseen = HarmBudget(10), {"hw_rev": ["1", "2"]}
    one = ("hw_rev", "1")
    progress = HarmProgress(
        Counts(200), Counts(200), {one: Counts(200)}, foreseen, wave=Wave(2, 190, 10, 0.3), in_wave=Counts(190)
    )
    wave = wave_due(budget, progress)
    assert wave is not None and wave.of_new == 10 < wave.by_value[one] <= wave.size
    given = Given(budget, wave, wave.size)
    for _ in range(10):
        assert given.may_be([("hw_rev", "2")], None)
        given.note([("hw_rev", "2")], None)
    assert not given.may_be([("hw_rev", "2")], None) and given.may_be([one], None)


def test_clusters_are_counted_once_a_wave_and_give_at_most_so_many_devices() -> None:
    budget = HarmBudget(10, cluster_by="site", of_a_cluster=3)
    wave = begin_wave(budget, HarmProgress())
    assert wave.size == wave.room == 3, "three sites of three devices each are nine of ten"
    given = Given(budget, wave, wave.size)
    for site in ("a", "a", "a", "b", "c"):
        assert given.may_be([], site)
        given.note([], site)
    assert not given.may_be([], "a") and not given.may_be([], "d") and given.may_be([], "b")
    with pytest.raises(Refused, match="would ever be given leave"):
        HarmBudget(2, cluster_by="site", of_a_cluster=3).check()


# The promise -------------------------------------------------------------------------------------------------------


def played(
    budget: HarmBudget, rate: float, devices: int, rng: np.random.Generator, after: tuple[float, float] = (1.0, 1.0)
) -> int:
    """How many are hurt where good and bad devices are decided after about so long."""
    bad = rng.random(devices) < rate
    took = np.where(bad, after[1], after[0]) * rng.uniform(0.5, 1.5, devices)
    return Player(budget, Fleet(bad.tolist(), took.tolist())).play().hurt


@pytest.mark.parametrize("rate", [0.01, 0.03, 0.1, 0.4])
@pytest.mark.parametrize("most", [5, 20])
def test_the_budget_is_exceeded_no_more_often_than_its_certainty_allows(rate: float, most: int) -> None:
    rng, budget = np.random.default_rng(7), HarmBudget(most, widest=10**6)
    hurt = [played(budget, rate, 400, rng) for _ in range(RUNS)]
    assert sum(one > most for one in hurt) / RUNS <= exceeded_at_most(0.05)
    assert max(hurt) > 0, "the study saw harm at all"


@pytest.mark.parametrize("after", [(1.0, 6.0), (6.0, 1.0)])
def test_bad_news_that_is_later_than_good_does_not_break_it(after: tuple[float, float]) -> None:
    rng, budget = np.random.default_rng(8), HarmBudget(10)
    hurt = [played(budget, 0.05, 400, rng, after) for _ in range(RUNS)]
    assert sum(one > 10 for one in hurt) / RUNS <= exceeded_at_most(0.05)


def test_sites_that_fail_together_stay_within_it_where_it_counts_sites() -> None:
    rng, budget = np.random.default_rng(9), HarmBudget(24, cluster_by="site", of_a_cluster=4)
    sites = [f"site {n // 12}" for n in range(600)]
    beyond = 0
    for _ in range(RUNS // 3):
        failing = {site for site in dict.fromkeys(sites) if rng.random() < 0.1}
        bad = [site in failing for site in sites]
        outcome = Player(budget, Fleet(bad, rng.uniform(0.5, 1.5, 600).tolist(), sites)).play()
        beyond += outcome.hurt > 24
    assert beyond / (RUNS // 3) <= exceeded_at_most(0.05, RUNS // 3)


def test_a_value_that_fails_while_another_did_well_hurts_no_more_than_the_widest_wave() -> None:
    rng, budget = np.random.default_rng(10), HarmBudget(10)
    for _ in range(40):
        # The second revision comes late, and fails whole.
        values = [[("hw_rev", "1" if n < 300 else "2")] for n in range(400)]
        bad = [n >= 300 for n in range(400)]
        after = rng.uniform(0.5, 1.5, 400).tolist()
        fleet = Fleet(bad, after, values=values, foreseen={"hw_rev": ["1", "2"]})
        assert Player(budget, fleet).play().hurt <= 10, "a new value is given what is left"
        blind = Player(budget, Fleet(bad, after)).play()
        assert 10 < blind.hurt <= budget.at_most + budget.wave_at_most


def test_a_release_that_gets_worse_hurts_no_more_than_the_widest_wave_beyond_the_budget() -> None:
    rng, budget = np.random.default_rng(11), HarmBudget(10)
    for _ in range(40):
        rates = np.where(np.arange(900) < 500, 0.0, 0.8)
        bad = (rng.random(900) < rates).tolist()
        outcome = Player(budget, Fleet(bad, rng.uniform(0.5, 1.5, 900).tolist())).play()
        assert outcome.hurt <= budget.at_most + budget.wave_at_most
