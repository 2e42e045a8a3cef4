from datetime import timedelta

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.plan import Ring
from mellow_herald.core.rings import NONE, Group, apportion, place

SOAK = timedelta(0)


def ring(name: str = "r", **how: object) -> Ring:
    return Ring(name, SOAK, **how)  # type: ignore[arg-type]


def groups(sizes: dict[str, int], rings: int = 1) -> list[Group]:
    """Groups by hw_rev with ids that follow one another."""
    made, at = [], 1
    for value, size in sizes.items():
        made.append(Group({"hw_rev": value}, (False,) * rings, np.arange(at, at + size, dtype=np.int64)))
        at += size
    return made


@given(sizes=st.lists(st.integers(0, 500), min_size=1, max_size=8), data=st.data())
def test_places_are_exact_fair_and_leave_nobody_out_who_could_be_in(sizes: list[int], data: st.DataObject) -> None:
    wanted = data.draw(st.integers(0, sum(sizes)))
    got = apportion(sizes, wanted)
    assert sum(got) == wanted
    assert all(0 <= n <= size for n, size in zip(got, sizes, strict=True))
    filled = [n for n, size in zip(got, sizes, strict=True) if size]
    if wanted >= len(filled):
        assert all(filled), "at least one of each stratum where there are places enough"
    for n, size in zip(got, sizes, strict=True):
        exact = wanted * size / sum(sizes) if wanted else 0
        assert n >= int(exact) - len(sizes), "places given to small strata come from the large ones, a few at most"


def test_a_spread_ring_looks_like_the_fleet() -> None:
    rings = (ring("pilot", count=40, spread_over=("hw_rev",)), ring("rest"))
    pilot, rest = place(rings, groups({"1": 300, "2": 97, "3": 3}, 2), {}, salt=7)
    taken = {dict(c.values)["hw_rev"]: (c.taken, c.eligible) for c in pilot.coverage}
    assert taken == {"1": (30, 300), "2": (9, 97), "3": (1, 3)}
    assert len(rest.ids) == 360 and not set(pilot.ids) & set(rest.ids)


def test_a_share_is_of_all_eligible_devices_and_what_was_given_before_counts() -> None:
    rings = (ring("a", share=0.05), ring("b", share=0.2), ring("c", share=0.5), ring("d"))
    placed = place(rings, groups({"1": 400}, 4), {}, salt=1)
    assert [len(one.ids) for one in placed] == [20, 80, 200, 100]
    assert len({int(i) for one in placed for i in one.ids}) == 400
    left = [Group({}, (False,) * 4, np.setdiff1d(np.arange(1, 401, dtype=np.int64), placed[0].ids))]
    again = place(rings, left, {}, salt=1, first=1, given=20)
    assert [len(one.ids) for one in again] == [80, 200, 100]


def test_a_share_of_a_small_fleet_is_still_somebody() -> None:
    first, rest = place((ring("a", share=0.01), ring("b")), groups({"1": 5}, 2), {}, salt=1)
    assert (len(first.ids), len(rest.ids)) == (1, 4)


def test_who_is_named_by_a_later_ring_is_not_drawn_before() -> None:
    named = np.array([3, 5], np.int64)
    rings = (ring("draw", count=8), ring("named", serials=("TA-3", "TA-5")), ring("rest"))
    draw, listed, rest = place(rings, groups({"1": 10}, 3), {1: named}, salt=3)
    assert len(draw.ids) == 8 and not {3, 5} & set(draw.ids.tolist())
    assert set(listed.ids.tolist()) == {3, 5} and len(rest.ids) == 0


def test_a_selector_takes_all_that_it_picks_and_no_earlier_ring_took() -> None:
    bench = Group({}, (True, False), np.array([1, 2], np.int64))
    others = Group({}, (False, False), np.array([3, 4, 5], np.int64))
    first, rest = place((ring("bench", where="has bench"), ring("rest")), [bench, others], {}, salt=0)
    assert set(first.ids.tolist()) == {1, 2} and set(rest.ids.tolist()) == {3, 4, 5}


@given(salt=st.integers(0, 2**64 - 1), count=st.integers(1, 60))
def test_the_same_inputs_give_the_same_rings_whatever_the_order_of_the_groups(salt: int, count: int) -> None:
    fleet = groups({"1": 30, "2": 20, "3": 10}, 2)
    rings = (ring("some", count=count, spread_over=("hw_rev",)), ring("rest"))
    one = place(rings, fleet, {}, salt=salt)
    other = place(rings, list(reversed(fleet)), {}, salt=salt)
    assert [placed.ids.tolist() for placed in one] == [placed.ids.tolist() for placed in other]
    assert sum(len(placed.ids) for placed in one) == 60


def test_another_salt_meets_other_devices_first() -> None:
    fleet, rings = groups({"1": 1000}, 2), (ring("some", count=50), ring("rest"))
    one, other = (set(place(rings, fleet, {}, salt=salt)[0].ids.tolist()) for salt in (1, 2))
    assert len(one & other) < 15


def test_no_devices_at_all() -> None:
    assert [p.ids.tolist() for p in place((ring("a", share=0.5), ring("b")), [], {0: NONE}, salt=1)] == [[], []]
