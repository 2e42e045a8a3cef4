from collections.abc import Iterator
from dataclasses import replace
from datetime import UTC, datetime, timedelta

import pytest

from mellow_herald.core.attempt import AT_RISK, BEFORE_SWITCH, Attempt, Runs, State
from mellow_herald.core.order import CLEARANCE, Order, Situation, Standby, answer, may_be_cleared
from mellow_herald.core.rollout import RolloutState, may_move

T0 = datetime(2026, 11, 23, 6, tzinfo=UTC)
READY = Situation(check_in=True, ready=True)
BUSY = Situation(check_in=True)
REPORT = Situation(check_in=False)
HOLDS = Situation(check_in=True, ready=True, standby=Standby.HOLDS)
RUNNING, HELD, HALTED = RolloutState.RUNNING, RolloutState.HELD, RolloutState.HALTED


def numbers() -> Iterator[int]:
    yield from range(100, 200)


def ask(
    attempt: Attempt, rollout: RolloutState, situation: Situation, now: datetime = T0
) -> tuple[Order | None, Attempt]:
    found = answer(attempt, rollout, situation, now, numbers())
    return found.order, found.attempt


def test_a_queued_device_is_offered_and_asked_again_is_offered_again() -> None:
    order, attempt = ask(Attempt(), RUNNING, READY)
    assert (order, attempt.state) == (Order.FETCH, State.OFFERED)
    assert ask(attempt, RUNNING, READY) == (Order.FETCH, attempt)


def test_an_image_that_is_there_already_is_told_of_once_and_not_fetched_again() -> None:
    here = replace(HOLDS, ready=False)
    order, told = ask(Attempt(), RUNNING, here)
    assert (order, told.state) == (Order.FETCH, State.OFFERED), "it has no manifest for what stands by"
    order, staged = ask(told, RUNNING, here)
    assert (order, staged.state, staged.fetched) == (Order.STAY, State.STAGED, 100)
    again = replace(staged, state=State.QUEUED)
    assert ask(again, RUNNING, here)[0] is Order.STAY, "it knows the manifest by now"
    order, back = ask(Attempt(), RUNNING, replace(here, back=True))
    assert (order, back.state) == (Order.STAY, State.STAGED), "what it came from it has verified long ago"


def test_clearance_is_given_to_a_device_that_could_switch_now_and_checks_in() -> None:
    staged = Attempt(state=State.STAGED, offered_at=T0)
    assert ask(staged, RUNNING, REPORT)[0] is Order.STAY
    assert ask(staged, RUNNING, BUSY)[0] is Order.STAY
    order, cleared = ask(staged, RUNNING, READY)
    assert (order, cleared.state, cleared.clearance) == (Order.SWITCH, State.CLEARED, 100)
    assert cleared.clearance_until == T0 + CLEARANCE


def test_a_lost_answer_gives_the_same_clearance_an_expired_one_a_new_one() -> None:
    _, cleared = ask(Attempt(state=State.STAGED, offered_at=T0), RUNNING, READY)
    assert ask(cleared, RUNNING, READY, T0 + CLEARANCE / 2) == (Order.SWITCH, cleared)
    late = T0 + CLEARANCE + timedelta(seconds=1)
    found = answer(cleared, RUNNING, READY, late, iter([555]))
    assert (found.order, found.attempt.clearance) == (Order.SWITCH, 555)
    assert len(found.events) == 2, "first its old clearance ends, then a new one is given"


@pytest.mark.parametrize("state", sorted(BEFORE_SWITCH | AT_RISK))
@pytest.mark.parametrize("situation", [READY, BUSY, REPORT, HOLDS])
@pytest.mark.parametrize("rollout", [state for state in RolloutState if state is not RUNNING])
def test_nothing_is_granted_unless_the_rollout_runs(state: State, situation: Situation, rollout: RolloutState) -> None:
    attempt = Attempt(state=state, offered_at=T0, clearance_until=T0 + CLEARANCE if state is State.CLEARED else None)
    assert not may_be_cleared(rollout, situation)
    order, after = ask(attempt, rollout, situation)
    assert order in (None, Order.STAY, Order.ABANDON)
    assert after.state not in (State.OFFERED, State.CLEARED) or after.state is attempt.state


def test_a_halt_lets_go_of_who_had_no_clearance_and_of_who_had_and_stayed() -> None:
    downloading = Attempt(state=State.DOWNLOADING, offered_at=T0)
    order, off = ask(downloading, HALTED, REPORT)
    assert (order, off.state) == (Order.ABANDON, State.CALLED_OFF)
    cleared = Attempt(state=State.CLEARED, exposed_at=T0, clearance_until=T0 + CLEARANCE)
    order, off = ask(cleared, HALTED, HOLDS)
    assert (order, off.state) == (Order.ABANDON, State.CALLED_OFF)
    installing = Attempt(state=State.INSTALLING, exposed_at=T0)
    assert ask(installing, HALTED, READY) == (None, installing)


def test_a_called_off_device_is_told_to_drop_what_it_holds_and_no_more() -> None:
    off = Attempt(state=State.CALLED_OFF, closed=True)
    assert ask(off, RolloutState.FINISHED, HOLDS)[0] is Order.ABANDON
    assert ask(off, RolloutState.FINISHED, READY)[0] is None


def test_while_held_a_staged_device_stays_and_a_queued_one_hears_nothing() -> None:
    assert ask(Attempt(), HELD, READY) == (None, Attempt())
    assert ask(Attempt(state=State.STAGED, offered_at=T0), HELD, READY)[0] is Order.STAY


def test_the_next_try_begins_when_its_pause_is_over() -> None:
    bad = Attempt(state=State.FAILED, tries=2, retry_at=T0 + timedelta(minutes=5), offered_at=T0)
    assert ask(bad, RUNNING, READY)[0] is None
    order, attempt = ask(bad, RUNNING, READY, T0 + timedelta(minutes=5))
    assert (order, attempt.try_number, attempt.state) == (Order.FETCH, 2, State.OFFERED)


def test_moves_of_a_rollout() -> None:
    assert may_move(RUNNING, HALTED) and may_move(HALTED, RUNNING) and may_move(HELD, RUNNING)
    assert not may_move(HALTED, HELD)
    for state in RolloutState:
        assert not may_move(RolloutState.FINISHED, state) and not may_move(RolloutState.CANCELLED, state)


# Ways back ---------------------------------------------------------------------------------------------------------

BACK = replace(HOLDS, back=True)


def test_a_device_that_still_has_what_it_came_from_switches_back_without_a_download() -> None:
    order, attempt = ask(Attempt(), RUNNING, BACK)
    assert (order, attempt.state) == (Order.SWITCH_BACK, State.CLEARED)
    assert ask(attempt, RUNNING, BACK)[0] is Order.SWITCH_BACK, "a lost answer is answered alike"
    assert ask(Attempt(state=State.STAGED), HELD, BACK)[0] is Order.STAY


def test_what_no_slot_holds_is_fetched_if_there_is_a_release() -> None:
    gone = replace(READY, back=True)
    assert ask(Attempt(), RUNNING, gone)[0] is Order.FETCH
    order, attempt = ask(Attempt(), RUNNING, replace(gone, fetchable=False))
    assert (order, attempt.state, attempt.reason) == (None, State.CALLED_OFF, "image-gone")


def test_a_halted_way_back_leaves_alone_what_stands_by() -> None:
    order, attempt = ask(Attempt(), HALTED, BACK)
    assert (order, attempt.state) == (None, State.CALLED_OFF)


# What runs, and what stands by ---------------------------------------------------------------------------------------


@pytest.mark.parametrize("updater", [1, 2])
@pytest.mark.parametrize("state", [State.QUEUED, State.STAGED, State.CLEARED])
def test_who_runs_the_target_is_never_told_to_switch(state: State, updater: int) -> None:
    attempt = Attempt(state=state, offered_at=T0, exposed_at=T0, clearance_until=T0 + CLEARANCE)
    for standby in Standby:
        situation = replace(READY, runs=Runs.TARGET, standby=standby, updater=updater)
        assert ask(attempt, RUNNING, situation)[0] not in (Order.SWITCH, Order.SWITCH_BACK)


@pytest.mark.parametrize(("standby", "order"), [(Standby.HOLDS, Order.SWITCH), (Standby.UNSAID, Order.STAY)])
def test_updater_1_switches_only_if_its_standby_slot_says_to_what(standby: Standby, order: Order) -> None:
    staged = Attempt(state=State.STAGED, offered_at=T0)
    assert ask(staged, RUNNING, replace(READY, updater=1, standby=standby))[0] is order
    assert ask(staged, RUNNING, replace(READY, updater=1, standby=standby, runs=Runs.UNREADABLE))[0] is Order.STAY
    assert ask(staged, RUNNING, replace(READY, standby=standby))[0] is Order.SWITCH, "updater 2 is told to what"


def test_what_no_longer_stands_by_is_fetched_again() -> None:
    staged = Attempt(state=State.STAGED, offered_at=T0)
    order, attempt = ask(staged, RUNNING, replace(READY, standby=Standby.OTHER))
    assert (order, attempt.state) == (Order.FETCH, State.OFFERED)
    assert ask(staged, HELD, replace(READY, standby=Standby.OTHER))[0] is Order.STAY
    cleared = Attempt(state=State.CLEARED, exposed_at=T0, clearance_until=T0 + CLEARANCE)
    assert ask(cleared, RUNNING, replace(READY, standby=Standby.OTHER)) == (None, cleared), "never to something else"


def test_a_clearance_does_not_run_out_on_one_that_does_not_know_what_it_runs() -> None:
    cleared = Attempt(state=State.CLEARED, exposed_at=T0, clearance_until=T0)
    unreadable = replace(READY, runs=Runs.UNREADABLE)
    assert ask(cleared, HALTED, unreadable, T0 + CLEARANCE)[1].state is State.CLEARED
    assert ask(cleared, HALTED, READY, T0 + CLEARANCE)[1].state is State.CALLED_OFF
