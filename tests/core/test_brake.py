"""The brake's promise, held by study: fixed seeds, margins from the study's own binomial error."""

from math import comb, log, sqrt

import numpy as np
import pytest
from scipy import integrate

from mellow_herald.core.brake import (
    BrakeKind,
    Tally,
    Watch,
    evidence_over_time,
    halts_at,
    read_brake,
    stream_weights,
)
from mellow_herald.core.brake_study import Lane, first_halt, foresee_faults, lanes
from mellow_herald.core.evidence import COUNTING, TIMES, Rule, log_evidence
from tests.harness.some import some

LIMIT, ALPHA = 0.02, 0.05
HALT = halts_at(1, ALPHA)
RUNS = 400


def share_at_most(promised: float, runs: int = RUNS) -> float:
    """The share of halted runs that a study of a promise kept may show: three of its own standard errors above it."""
    return promised + 3 * sqrt(promised * (1 - promised) / runs)


def whole(devices: int) -> list[Lane]:
    return [Lane(1.0, np.ones(devices, bool))]


def in_rings(devices: int, watched: int = 3) -> tuple[Watch, list[Lane]]:
    """Four rings and a fact of so many values, none of them foreseen beyond the first three."""
    names = [str(n % watched) for n in range(devices)]
    watch = Watch(4, {"hw_rev": [str(n) for n in range(min(3, watched))]})
    rings = np.searchsorted([devices // 100, devices // 20, devices // 4], np.arange(devices), side="right")
    return watch, lanes(watch, rings, {"hw_rev": names})


# The formula -------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("bad", "seen"), [(0, 0), (1, 1), (3, 4), (0, 50), (10, 180), (2, 400)])
@pytest.mark.parametrize("limit", [0.001, LIMIT, 0.2, 0.97])
def test_the_evidence_is_the_mean_of_the_likelihood_ratios_it_stands_for(bad: int, seen: int, limit: float) -> None:
    rates = [min(times * limit, max(0.9, (1 + limit) / 2)) for times in TIMES]
    ratios = [(q / limit) ** bad * ((1 - q) / (1 - limit)) ** (seen - bad) for q in rates]
    mean = sum(weight * ratio for weight, ratio in zip(COUNTING, ratios, strict=True))
    assert np.exp(log_evidence(bad, seen, limit)) == pytest.approx(mean, rel=1e-9)
    assert sum(COUNTING) == pytest.approx(1) and all(limit < q < 1 for q in rates)


@pytest.mark.parametrize("limit", [0.005, LIMIT, 0.3])
@pytest.mark.parametrize("rule", Rule)
def test_at_the_limit_the_mean_of_the_evidence_never_grows(limit: float, rule: Rule) -> None:
    seen = 40
    chances = [comb(seen, f) * limit**f * (1 - limit) ** (seen - f) for f in range(seen + 1)]
    logs = log_evidence(np.arange(seen + 1), np.full(seen + 1, seen), limit, rule)
    assert sum(chances * np.exp(logs)) == pytest.approx(1, rel=1e-9)


@pytest.mark.parametrize(("bad", "seen"), [(0, 0), (1, 1), (3, 4), (0, 50), (10, 180), (2, 400)])
def test_the_evidence_of_earlier_rollouts_is_the_ratio_of_the_integrals_it_stands_for(bad: int, seen: int) -> None:
    a, b = 0.5, 0.5 * 9

    def ratio(p: float) -> float:
        """How much likelier the counts are at p than at the limit, times the prior."""
        return float((p / LIMIT) ** bad * ((1 - p) / (1 - LIMIT)) ** (seen - bad) * p ** (a - 1) * (1 - p) ** (b - 1))

    top = integrate.quad(ratio, LIMIT, 1, points=[0.05, 0.1, 0.3], limit=500)[0]
    bottom = integrate.quad(lambda p: p ** (a - 1) * (1 - p) ** (b - 1), LIMIT, 1)[0]
    assert np.exp(log_evidence(bad, seen, LIMIT, Rule.BETA)) == pytest.approx(top / bottom, rel=1e-6)


def test_the_tail_goes_over_smoothly_where_the_beta_function_underflows() -> None:
    seen = np.arange(10_000, 80_000, 50)
    logs = log_evidence(np.zeros_like(seen), seen, LIMIT, Rule.BETA)
    assert np.isfinite(logs).all()
    steps = np.diff(logs)
    assert (steps < 0).all() and np.abs(np.diff(steps)).max() < 1e-4, "no jump where the expansion takes over"


def test_evidence_rises_with_bad_news_and_falls_with_good() -> None:
    bad, seen = np.meshgrid(np.arange(0, 60), np.arange(60, 400, 7))
    logs = log_evidence(bad, seen, LIMIT)
    assert (np.diff(logs, axis=1) > 0).all() and (np.diff(logs, axis=0) < 0).all()


def test_a_later_round_asks_for_more() -> None:
    assert [halts_at(k, 0.05) for k in (1, 2, 3)] == [40, 120, 240]
    assert sum(1 / halts_at(k, 1.0) for k in range(1, 10_000)) <= 1, "over all rounds each brake has all of alpha"


# Streams -----------------------------------------------------------------------------------------------------------


def test_weights_are_fixed_at_the_start_and_never_more_than_one() -> None:
    watch = Watch(4, {"hw_rev": ["1", "2"], "site": []})
    arrived = [("site", f"s{n}") for n in range(500)] + [("hw_rev", "9"), ("hw_rev", "1")]
    weights = stream_weights(watch, arrived)
    assert sum(weights.values()) <= 1 + 1e-12
    assert weights[("whole", "")] == 0.8 and weights[("ring", "3")] == 0.02
    assert weights[("hw_rev", "1")] == pytest.approx(0.06 / 3)
    assert weights[("site", "s1")] == pytest.approx(0.06 / 6), "the second value not foreseen has 1/(2·3)"
    fewer = stream_weights(watch, arrived[:2])
    assert all(weights[key] == weight for key, weight in some(fewer.items())), "what comes later changes nothing"


def test_a_rollout_keeps_the_rule_that_it_started_with() -> None:
    began_before = Watch.from_dict({"rings": 4, "foreseen": {"hw_rev": ["1", "2"]}})
    weights = stream_weights(began_before, [])
    assert (weights[("whole", "")], weights[("ring", "3")]) == (0.5, 0.0625)
    assert weights[("hw_rev", "1")] == pytest.approx(0.25 / 3)
    tallies = [Tally(0, {"hw_rev": "1"}, 180, 10)]
    shown = read_brake(BrakeKind.FIRMWARE, tallies, began_before, LIMIT, HALT)
    assert shown.whole.log_evidence == pytest.approx(float(log_evidence(10, 180, LIMIT, Rule.BETA)))
    begins_now = Watch(4, {"hw_rev": ["1", "2"]})
    assert Watch.from_dict(begins_now.as_dict()) == begins_now and begins_now.rule is Rule.POINTS


def test_many_good_devices_in_one_place_cannot_hide_bad_ones_in_another() -> None:
    watch = Watch(1, {"site": ["fernhollow", "quillmere"]})
    tallies = [Tally(0, {"site": "fernhollow"}, 10_000, 20), Tally(0, {"site": "quillmere"}, 400, 60)]
    shown = read_brake(BrakeKind.FIRMWARE, tallies, watch, LIMIT, HALT)
    assert shown.whole.bad / shown.whole.seen < LIMIT and shown.halts
    assert "60 bad" not in shown.summary() and shown.summary().endswith("site quillmere shows most of all")


def test_the_brake_says_in_words_what_it_shows() -> None:
    tallies = [Tally(0, {}, 100, 4), Tally(1, {}, 80, 6)]
    shown = read_brake(BrakeKind.FIRMWARE, tallies, Watch(2, {}), LIMIT, HALT)
    assert shown.summary(["bench", "pilot"]).startswith("firmware brake: evidence ")
    assert "of 40; 10 bad of 180 exposed (5.6 %, limit 2 %)" in shown.summary(["bench", "pilot"])
    nothing = read_brake(BrakeKind.DELIVERY, [], Watch(2, {"hw_rev": []}), 0.1, HALT)
    assert nothing.evidence == pytest.approx(1.0) and not nothing.near and not nothing.halts


def test_history_ends_where_the_present_stands() -> None:
    watch = Watch(2, {"hw_rev": ["1"]})
    over_time = [
        Tally(0, {"hw_rev": "1"}, np.array([5, 9, 9]), np.array([0, 1, 2])),
        Tally(1, {"hw_rev": "2"}, np.array([0, 4, 30]), np.array([0, 2, 3])),
    ]
    now = [Tally(0, {"hw_rev": "1"}, 9, 2), Tally(1, {"hw_rev": "2"}, 30, 3)]
    logs = evidence_over_time(over_time, watch, LIMIT)
    assert logs[-1] == pytest.approx(read_brake(BrakeKind.FIRMWARE, now, watch, LIMIT, HALT).log_evidence)
    assert logs[0] < logs[1]


# False halts -------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("devices", [50, 500, 5000])
@pytest.mark.parametrize("times", [0.5, 1.0])
def test_a_release_within_its_limit_is_halted_at_most_as_often_as_promised(devices: int, times: float) -> None:
    rng, (_, streams) = np.random.default_rng(devices), in_rings(devices)
    halted = sum(first_halt(streams, rng.random(devices) < times * LIMIT, LIMIT, HALT) is not None for _ in range(RUNS))
    assert halted / RUNS <= share_at_most(ALPHA / 2)


@pytest.mark.parametrize("news", ["bad first", "good first", "shuffled"])
def test_the_order_in_which_news_arrives_does_not_break_the_promise(news: str) -> None:
    rng, devices, at_once, halted = np.random.default_rng(7), 3000, 300, 0
    _, streams = in_rings(devices)
    for _ in range(RUNS):
        bad, order = rng.random(devices) < LIMIT, np.arange(devices)
        block_end = (order // at_once + 1) * at_once
        heard = {
            "bad first": order + 1,
            "good first": block_end,
            "shuffled": np.minimum(order + 1 + rng.integers(0, at_once, devices), devices),
        }[news]
        halted += first_halt(streams, bad, LIMIT, HALT, heard) is not None
    assert halted / RUNS <= share_at_most(ALPHA / 2)


def test_silent_devices_that_come_back_and_retries_count_once() -> None:
    """A device that went silent and came back, or failed and then succeeded, stays bad: what is heard later changes
    nothing, so it is enough to play whether each was ever bad, and when that was first heard."""
    rng, devices, halted = np.random.default_rng(11), 3000, 0
    for _ in range(RUNS):
        silent = rng.random(devices) < LIMIT / 2
        failing = (rng.random(devices) < LIMIT / 2) & ~silent
        # Silence is noticed late, a failure at once; further tries and words after that are no news.
        heard = np.arange(devices) + 1 + np.where(silent, 200, 0)
        halted += first_halt(whole(devices), silent | failing, LIMIT, HALT, heard) is not None
    assert halted / RUNS <= share_at_most(ALPHA / 2)


def test_forty_watched_values_that_open_over_time_cost_no_false_halts() -> None:
    rng, devices, halted = np.random.default_rng(13), 4000, 0
    values = [f"site-{min(39, int(40 * n / devices) + int(n % 3))}" for n in range(devices)]
    streams = lanes(Watch(3, {"site": []}), np.arange(devices) * 3 // devices, {"site": values})
    for _ in range(RUNS):
        halted += first_halt(streams, rng.random(devices) < LIMIT, LIMIT, HALT) is not None
    assert halted / RUNS <= share_at_most(ALPHA / 2)


@pytest.mark.parametrize("devices", [50, 200, 1000, 5000])
def test_a_finite_fleet_of_which_exactly_the_limit_is_bad(devices: int) -> None:
    """Without replacement: the running mean of what may still come exceeds the limit after good luck, so the promise is
    of the whole fleet's order being drawn at random; the study shows that it holds there, too."""
    rng, bad, halted = np.random.default_rng(17), np.zeros(devices, bool), 0
    bad[: int(LIMIT * devices)] = True
    for _ in range(RUNS):
        halted += first_halt(whole(devices), rng.permutation(bad), LIMIT, HALT) is not None
    assert halted / RUNS <= share_at_most(ALPHA / 2)


# What it costs -----------------------------------------------------------------------------------------------------


def test_a_fault_is_halted_after_hardly_more_devices_than_any_rule_needs() -> None:
    rng, (_, streams), ratios = np.random.default_rng(19), in_rings(5000), []
    for times in (2, 3, 5, 7, 10):
        p, exposed = times * LIMIT, []
        for _ in range(200):
            stop = first_halt(streams, rng.random(5000) < p, LIMIT, HALT)
            exposed.append(stop[0] if stop else 5000)
        # A rule that knows p and halts a good release as rarely as this brake does: with a chance of 1/HALT.
        least = log(HALT) / (p * log(p / LIMIT) + (1 - p) * log((1 - p) / (1 - LIMIT)))
        ratios.append(np.mean(exposed) / least)
    assert np.mean(ratios) <= 1.6


def test_half_of_the_devices_failing_is_seen_after_a_handful() -> None:
    rng = np.random.default_rng(23)
    stops = [first_halt(whole(100), rng.random(100) < 0.5, LIMIT, HALT) for _ in range(200)]
    assert np.mean([stop[0] for stop in stops if stop]) < 8


def test_the_preview_says_how_much_of_each_ring_a_fault_would_cost() -> None:
    watch = Watch(3, {"hw_rev": ["1", "2"]})
    shares = {"hw_rev": {"1": 0.5, "2": 0.5}}
    rng = np.random.default_rng(29)
    faults = foresee_faults([10, 100, 2000], watch, LIMIT, HALT, [10, 40, 40], rng, runs=60, shares=shares)
    assert [fault.times for fault in faults] == [1, 2, 5, 10, 25]
    least, worst = faults[0], faults[-1]
    assert least.exposed == (10, 100, 2000) or least.halted > 0
    assert worst.halted == 1 and sum(worst.exposed) < 40 and worst.exposed[2] == 0
    assert all(sum(one.hurt) <= sum(one.exposed) for one in some(faults))
    totals = [sum(one.exposed) for one in faults]
    assert totals == sorted(totals, reverse=True), "the worse the fault, the sooner it is halted"
