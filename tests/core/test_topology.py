"""Gateways before gateways: who is behind whom, circles, and an order in which nobody is cut off too early."""

from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.topology import Topology, cut_off, waves

YARD = Topology({"relay": "gateway", "s1": "relay", "s2": "relay", "s3": "gateway"})


def test_who_is_behind_and_before_whom() -> None:
    assert YARD.behind("gateway") == ["relay", "s3", "s1", "s2"]
    assert YARD.before("s1") == ["relay", "gateway"] and YARD.before("gateway") == []
    assert YARD.roots() == ["gateway"] and YARD.circles() == []


def test_a_circle_is_found_once_and_ends_nothing() -> None:
    tree = Topology({"b": "a", "c": "b", "a": "c", "d": "a", "x": "x"})
    assert tree.circles() == [["a", "c", "b"], ["x"]]
    assert set(tree.behind("a")) == {"b", "c", "d"} and tree.before("a") == ["c", "b"]


def test_a_restart_cuts_off_those_outside_and_those_that_are_through() -> None:
    (cut,) = cut_off(YARD, ["gateway"], frozenset({"gateway", "s1"}), {"gateway": 42.0})
    assert (cut.outside, cut.inside, cut.seconds) == (("relay", "s3", "s2"), 1, 42.0)
    assert list(cut_off(YARD, ["s1"], frozenset({"s1"}), {})) == [], "nobody is behind it"


def forests() -> st.SearchStrategy[dict[str, str]]:
    """Each device may have one of those with a smaller number before it."""
    rows = st.lists(st.integers(-1, 40), max_size=40)
    return rows.map(lambda above: {f"d{n}": f"d{a}" for n, a in enumerate(above) if 0 <= a < n})


@given(forests(), st.sets(st.integers(0, 39)))
def test_in_waves_nobody_goes_before_all_members_behind_it(gateways: dict[str, str], numbers: set[int]) -> None:
    tree, members = Topology(gateways), {f"d{n}" for n in numbers}
    groups = waves(tree, members)
    assert sorted(one for group in groups for one in group) == sorted(members)
    turn = {one: number for number, group in enumerate(groups) for one in group}
    for one in members:
        assert all(turn[other] < turn[one] for other in tree.behind(one) if other in members)


def test_a_long_chain_is_no_matter_of_recursion() -> None:
    chain = Topology({f"d{n}": f"d{n - 1}" for n in range(1, 5000)})
    groups = waves(chain, {"d0", "d4999"})
    assert groups == [["d4999"], ["d0"]]
