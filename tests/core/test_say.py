"""What people have to say before a ring opens."""

from dataclasses import replace

import pytest

from mellow_herald.core.decide import AskForGo, MovesAgain, OpenRing, RingProgress, StandsStill, decide
from mellow_herald.core.plan import Opens
from mellow_herald.core.refusal import Refused
from mellow_herald.core.rollout import RingState
from mellow_herald.core.say import ApprovalRule, Asks, Say
from tests.core.test_decide import INNER_DONE, T0, TWO, brake, outwards

RULE = ApprovalRule(rings=("all",))
APPROVED_OF = replace(TWO, approval=RULE)
LACKS = Say(wanted=frozenset({0, 1}), approved=frozenset({0}))
NAMES = [ring.name for ring in TWO.rings]


def closed(**more: object) -> tuple[RingProgress, ...]:
    """The inner ring done, the next with what was last written down of it."""
    return (INNER_DONE[0], RingProgress(**{"state": RingState.CLOSED, **more}))  # type: ignore[arg-type]


def test_rings_are_named_or_larger_than_a_share_of_all() -> None:
    planned = [5, 20, 75]
    names = ["bench", "pilot", "rest"]
    assert ApprovalRule(("pilot",)).wanted(names, planned) == {1}
    assert ApprovalRule(("all",)).wanted(names, planned) == {0, 1, 2}
    assert ApprovalRule(share_above=0.2).wanted(names, planned) == {2}, "20 of 100 are not more than a fifth"
    assert ApprovalRule(("bench",), 0.19).wanted(names, planned) == {0, 1, 2}
    assert ApprovalRule(("all",)).wanted(["bench", "all"], [1, 9]) == {1}, "a ring of that name is meant by it"


@pytest.mark.parametrize(
    ("rule", "says"), [(ApprovalRule(("pilto",)), "no ring of the plan"), (ApprovalRule(), "of no ring")]
)
def test_an_approval_that_no_ring_needs_is_a_mistake(rule: ApprovalRule, says: str) -> None:
    with pytest.raises(Refused, match=says):
        rule.check(["bench", "pilot"])


def test_a_ring_asks_for_an_approval_once_and_opens_with_it_without_a_go() -> None:
    (asks,) = decide(APPROVED_OF, outwards(closed(), say=LACKS), T0)
    assert (
        isinstance(asks, AskForGo)
        and asks.asks is Asks.APPROVAL
        and "another person with the role operator" in asks.why
    )
    waits = closed(state=RingState.AWAITING_GO, asks=asks.asks, asks_why=asks.why)
    assert decide(APPROVED_OF, outwards(waits, say=LACKS), T0) == [], "said once"
    given = replace(LACKS, approved=frozenset({0, 1}))
    assert decide(APPROVED_OF, outwards(waits, say=given), T0) == [OpenRing(1)]


def test_an_approval_is_no_go_and_a_go_is_no_approval() -> None:
    by_hand = replace(APPROVED_OF, rings=(TWO.rings[0], replace(TWO.rings[1], opens=Opens.BY_HAND)))
    given = replace(LACKS, approved=frozenset({0, 1}))
    (asks,) = decide(by_hand, outwards(closed(), say=given), T0)
    assert isinstance(asks, AskForGo) and asks.asks is Asks.GO
    (still,) = decide(by_hand, outwards(closed(), say=LACKS, go=frozenset({1})), T0)
    assert isinstance(still, AskForGo) and still.asks is Asks.APPROVAL


def test_with_an_approval_a_brake_that_is_near_still_asks() -> None:
    given = replace(LACKS, approved=frozenset({0, 1}))
    (asks,) = decide(APPROVED_OF, outwards(closed(), say=given, brakes=(brake(10, 180),), bad=10), T0)
    assert isinstance(asks, AskForGo) and asks.asks is Asks.GO and "a brake is near" in asks.why


def test_where_nobody_is_left_who_may_approve_the_ring_stands_still() -> None:
    alone = replace(LACKS, able=0)
    (still,) = decide(APPROVED_OF, outwards(closed(), say=alone), T0)
    assert isinstance(still, StandsStill) and "nobody is left who may give it" in still.why
    stands = closed(stands_why=still.why)
    assert decide(APPROVED_OF, outwards(stands, say=alone), T0) == []
    assert decide(APPROVED_OF, outwards(stands, say=LACKS), T0) == [MovesAgain(1)]
    # What was approved before the last of them left stands.
    given = replace(alone, approved=frozenset({0, 1}))
    assert decide(APPROVED_OF, outwards(closed(), say=given), T0) == [OpenRing(1)]


def test_what_was_heard_outside_holds_the_next_ring_until_somebody_has_looked() -> None:
    (asks,) = decide(TWO, outwards(closed(), say=Say(unseen=2)), T0)
    assert asks == AskForGo(1, "there are 2 pieces of outside evidence that nobody has acknowledged", Asks.EVIDENCE)
    waits = closed(state=RingState.AWAITING_GO, asks=asks.asks, asks_why=asks.why)
    (fewer,) = decide(TWO, outwards(waits, say=Say(unseen=1)), T0)
    assert isinstance(fewer, AskForGo) and "there is 1 piece of" in fewer.why
    assert decide(TWO, outwards(waits, say=Say(unseen=0)), T0) == [OpenRing(1)]
    assert isinstance(decide(TWO, outwards(waits, say=Say(unseen=1), go=frozenset({1})), T0)[0], AskForGo)
    (both,) = decide(APPROVED_OF, outwards(closed(), say=replace(LACKS, unseen=1)), T0)
    assert isinstance(both, AskForGo) and both.asks is Asks.APPROVAL and "there is 1 piece" in both.why


def test_a_ring_that_asked_for_a_go_goes_on_asking_for_it() -> None:
    asked = closed(state=RingState.AWAITING_GO, asks=Asks.GO, asks_why="a brake is near")
    assert decide(TWO, outwards(asked), T0) == []
    (heard,) = decide(TWO, outwards(asked, say=Say(unseen=1)), T0)
    assert isinstance(heard, AskForGo) and heard.asks is Asks.EVIDENCE
