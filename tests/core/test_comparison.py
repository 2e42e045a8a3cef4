"""Two releases side by side: what is certain holds however often one looks, on fixed seeds."""

import math

import numpy as np
import pytest

from mellow_herald.core.comparison import (
    ALPHA,
    Came,
    Counts,
    Exposed,
    compare_means,
    compare_rates,
    count_in_order,
    rate_evidence,
)

RUNS, DEVICES = 400, 120
# Of RUNS, what chance may add to a share of ALPHA: three binomial standard errors.
ERROR = 3 * math.sqrt(ALPHA * (1 - ALPHA) / RUNS)


def course(rng: np.random.Generator, first: float, second: float) -> tuple[np.ndarray, np.ndarray]:
    """Bad and seen devices of both arms after each of so many, of which the lot decides: (devices, 2) each."""
    arm = rng.integers(0, 2, DEVICES)
    bad = rng.random(DEVICES) < np.where(arm == 0, first, second)
    of = arm[:, None] == np.arange(2)
    return np.cumsum(of & bad[:, None], axis=0), np.cumsum(of, axis=0)


def evidence(bad: np.ndarray, seen: np.ndarray) -> float:
    return rate_evidence(Counts(int(bad[0]), int(seen[0])), Counts(int(bad[1]), int(seen[1])))


@pytest.mark.parametrize("rate", [0.02, 0.3])
def test_two_alike_are_told_apart_in_no_more_runs_than_promised_although_one_looks_after_every_device(
    rate: float,
) -> None:
    rng = np.random.default_rng(24)
    wrong = 0
    for _ in range(RUNS):
        bad, seen = course(rng, rate, rate)
        # Only a bad device adds evidence worth a look.
        wrong += any(evidence(bad[k], seen[k]) >= -math.log(ALPHA) for k in np.flatnonzero(np.diff(bad.sum(1))) + 1)
    assert wrong / RUNS <= ALPHA + ERROR


def test_one_that_is_bad_on_a_third_is_told_from_one_that_is_good() -> None:
    rng, told = np.random.default_rng(5), 0
    for _ in range(50):
        bad, seen = course(rng, 0.01, 0.35)
        rates = compare_rates(*(Counts(int(f), int(n)) for f, n in zip(bad[-1], seen[-1], strict=True)))
        told += rates.differ
        assert rates.differ == (rates.log_evidence >= math.log(20))
        assert not rates.differ or rates.difference.low > -0.02
    assert told >= 45


def test_the_intervals_hold_at_every_look() -> None:
    rng, outside = np.random.default_rng(7), np.zeros(3)
    truth = (0.05, 0.25)
    for _ in range(100):
        bad, seen = course(rng, *truth)
        missed = np.zeros(3, bool)
        for k in range(4, DEVICES, 5):
            rates = compare_rates(*(Counts(int(f), int(n)) for f, n in zip(bad[k], seen[k], strict=True)))
            spans = [*zip(rates.arms, truth, strict=True), (rates.difference, truth[1] - truth[0])]
            missed |= [not span.low <= true <= span.high for span, true in spans]
        outside += missed
    assert (outside / 100 <= ALPHA + 3 * math.sqrt(ALPHA * (1 - ALPHA) / 100)).all()


def test_without_devices_nothing_is_known_and_with_one_arm_alone_no_difference() -> None:
    none = compare_rates(Counts(), Counts())
    assert (none.arms[0].low, none.arms[0].high) == (0, 1)
    assert (none.difference.low, none.difference.high, none.log_evidence) == (-1, 1, 0)
    alone = compare_rates(Counts(20, 20), Counts())
    assert alone.arms[0].low > 0.7 and alone.log_evidence <= 0 and not alone.differ


def test_more_devices_make_it_narrower_and_the_arms_may_change_places() -> None:
    few, many = (compare_rates(Counts(n // 10, n), Counts(n // 5, n)) for n in (20, 2000))
    assert many.difference.high - many.difference.low < (few.difference.high - few.difference.low) / 4
    assert many.difference.low < 0.1 < many.difference.high
    other = compare_rates(Counts(400, 2000), Counts(200, 2000))
    assert other.difference.low == pytest.approx(-many.difference.high, abs=0.002)
    assert other.log_evidence == pytest.approx(many.log_evidence)


def test_devices_count_in_the_order_of_their_exposure_up_to_the_first_that_is_not_decided() -> None:
    good, bad, open_ = (lambda arm: Exposed(arm, Came.GOOD)), (lambda arm: Exposed(arm, Came.BAD)), Came.UNDECIDED
    row = [good(0), bad(1), good(1), Exposed(0, open_), bad(0), bad(0)]
    assert count_in_order(row) == (Counts(0, 1), Counts(1, 2))
    assert count_in_order([one for one in row if one.came is not open_]) == (Counts(2, 3), Counts(1, 2))


def test_bad_news_that_comes_sooner_than_good_does_not_prove_a_difference() -> None:
    """The second arm's devices are exposed later: whoever counted each device as it is known would see the first's bad
    and good ones, and of the second only bad ones."""
    rng, wrong = np.random.default_rng(9), 0
    for _ in range(100):
        arm = np.repeat([0, 1], 60)
        bad, known = rng.random(120) < 0.2, np.arange(120.0)
        known += np.where(bad, 1, 50)
        for now in range(60, 170, 5):
            row = [
                Exposed(int(a), (Came.BAD if f else Came.GOOD) if k <= now else Came.UNDECIDED)
                for a, f, k in zip(arm, bad, known, strict=True)
            ]
            if rate_evidence(*count_in_order(row)) >= -math.log(ALPHA):
                wrong += 1
                break
    assert wrong / 100 <= ALPHA + 3 * math.sqrt(ALPHA * (1 - ALPHA) / 100)


def test_means_of_a_reading_are_told_apart_when_they_differ_and_seldom_when_not() -> None:
    rng, wrong, right = np.random.default_rng(3), 0, 0
    for _ in range(200):
        first, same, worse = rng.normal(0, 2, 150), rng.normal(0, 2, 150), rng.normal(-2, 2, 150)
        looks = range(20, 151, 5)
        wrong += any(compare_means(first[:k], same[:k]).differ for k in looks)
        right += compare_means(first, worse).differ
    assert wrong / 200 <= ALPHA + 3 * math.sqrt(ALPHA * (1 - ALPHA) / 200)
    assert right == 200


def test_too_few_devices_say_nothing_of_a_reading() -> None:
    told = compare_means([1.0], [2.0, 3.0])
    assert (told.means, told.devices, told.difference, told.interval) == ((1.0, 2.5), (1, 2), None, None)
    assert compare_means([], []).means == (None, None)
