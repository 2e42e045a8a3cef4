"""Which device gets which of two releases, and which comparisons make sense."""

from datetime import timedelta
from itertools import pairwise

import numpy as np
import pytest

from mellow_herald.core.arms import Arm, find_arm
from mellow_herald.core.brake import ARM, Watch, stream_weights
from mellow_herald.core.lot import by_lot
from mellow_herald.core.plan import Plan, Ring
from mellow_herald.core.refusal import Refused
from mellow_herald.core.release_name import parse_release_name
from mellow_herald.core.rings import Ids, place
from tests.core.test_rings import groups

OLD, NEW = (Arm(name, parse_release_name(f"b/l/{v}")) for name, v in (("old filter", "2.5.0"), ("new", "2.5.1")))
RINGS = (Ring("early", timedelta(), count=10), Ring("rest", timedelta()))


def plan(*arms: Arm, rings: tuple[Ring, ...] = RINGS) -> Plan:
    return Plan("p", OLD.release, "has x", rings, arms=arms)


def ids(*sizes: int) -> list[Ids]:
    ends = np.cumsum([0, *sizes])
    return [np.arange(a + 1, b + 1, dtype=np.int64) for a, b in pairwise(ends)]


@pytest.mark.parametrize("share", [0.5, 0.2, 0.9])
def test_each_stratum_has_its_share_to_within_a_device_and_all_together_too(share: float) -> None:
    strata = ids(40, 7, 1, 1, 1, 1, 200)
    for salt in range(20):
        second = by_lot(strata, share, salt)
        for one in (*strata, np.concatenate(strata)):
            assert abs(np.isin(one, second).sum() - share * len(one)) <= 1
        assert second.tolist() == by_lot(strata, share, salt).tolist() == sorted(set(second.tolist()))


def test_every_device_has_the_same_chance_also_where_a_stratum_is_one_device() -> None:
    strata, times = ids(1, 1, 1, 3, 5), 3000
    got = sum(np.isin(np.arange(1, 12), by_lot(strata, 0.3, salt)).astype(int) for salt in range(times))
    assert np.abs(got / times - 0.3).max() < 4 * np.sqrt(0.3 * 0.7 / times)


def test_the_lot_is_another_draw_than_that_of_the_rings() -> None:
    """Or whoever is served first would have the same release."""
    (early, _) = place(RINGS, groups({"1": 400}, 2), {}, salt=11)
    second = by_lot(early.strata, 0.5, 11)
    firsts = [np.isin(place(RINGS, groups({"1": 400}, 2), {}, salt=s)[0].ids[:5], second).sum() for s in range(50)]
    assert 0 < np.mean(firsts) < 5
    assert by_lot([], 0.5, 1).tolist() == []


@pytest.mark.parametrize(
    ("arms", "rings", "said"),
    [
        ((OLD,), RINGS, "compares two releases, not 1"),
        ((OLD, OLD), RINGS, "both are the same"),
        ((NEW, OLD), RINGS, "the first must bring the plan's release"),
        ((OLD, Arm("x", parse_release_name("b/other/2.5.1"))), RINGS, "for other devices"),
        ((Arm("old", OLD.release, 0.7), NEW), RINGS, "not 1 together"),
        ((OLD, NEW), RINGS[1:], "the last ring is the rest"),
    ],
)
def test_a_comparison_that_makes_no_sense_is_refused(arms: tuple[Arm, ...], rings: tuple[Ring, ...], said: str) -> None:
    with pytest.raises(Refused, match=said):
        plan(*arms, rings=rings).check()
    plan(OLD, NEW).check()
    plan(Arm("old", OLD.release, 0.7), Arm("new", NEW.release, 0.3)).check()


def test_each_arm_has_a_stream_of_evidence_of_its_own_and_all_together_are_one() -> None:
    watch = Watch(2, {"hw_rev": ["1", "2"], ARM: ["old filter", "new"]})
    arrived = [(ARM, "new"), ("hw_rev", "3"), ("hw_rev", "1")]
    weights = stream_weights(watch, arrived)
    assert weights[ARM, "new"] == weights[ARM, "old filter"] == pytest.approx(0.2)
    assert weights["whole", ""] == pytest.approx(0.4)
    assert sum(weights.values()) <= 1
    alone = stream_weights(Watch(2, {ARM: ["old filter", "new"]}), [])
    assert sum(alone.values()) == pytest.approx(1)
    assert stream_weights(Watch(2, {"hw_rev": ["1", "2"]}), [])["whole", ""] == pytest.approx(0.8)


@pytest.mark.parametrize(("name", "position"), [("old filter", 0), ("2.5.0", 0), ("b/l/2.5.1", 1)])
def test_an_arm_is_named_by_itself_its_release_or_its_version(name: str, position: int) -> None:
    assert find_arm((OLD, NEW), name) == position


def test_what_names_no_arm_or_both_is_refused() -> None:
    swapped = (Arm("2.5.1", OLD.release), Arm("2.5.0", NEW.release))
    for arms, name in (((OLD, NEW), "newest"), (swapped, "2.5.1")):
        with pytest.raises(Refused, match=r"compares no '.*'\. Choose '.*' or '.*'\."):
            find_arm(arms, name)
