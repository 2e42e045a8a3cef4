from collections.abc import Iterator
from datetime import UTC, datetime, timedelta

import pytest

from mellow_herald.core.attempt import AT_RISK, BEFORE_SWITCH, Attempt, State
from mellow_herald.core.order import CLEARANCE, Order, Word, answer, may_be_cleared
from mellow_herald.core.rollout import RolloutState, may_move

T0 = datetime(2026, 11, 23, 6, tzinfo=UTC)
READY = Word(check_in=True, ready=True)
BUSY = Word(check_in=True)
REPORT = Word(check_in=False)
RUNNING, HELD, HALTED = RolloutState.RUNNING, RolloutState.HELD, RolloutState.HALTED


def numbers() -> Iterator[int]:
    yield from range(100, 200)


def ask(attempt: Attempt, rollout: RolloutState, word: Word, now: datetime = T0) -> tuple[Order | None, Attempt]:
    found = answer(attempt, rollout, word, now, numbers())
    return found.order, found.attempt


def test_a_queued_device_is_offered_and_asked_again_is_offered_again() -> None:
    order, attempt = ask(Attempt(), RUNNING, READY)
    assert (order, attempt.state) == (Order.FETCH, State.OFFERED)
    assert ask(attempt, RUNNING, READY) == (Order.FETCH, attempt)


def test_an_image_that_is_there_already_is_not_fetched() -> None:
    order, attempt = ask(Attempt(), RUNNING, Word(True, ready=False, standby_holds=True))
    assert (order, attempt.state) == (Order.STAY, State.STAGED)


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
@pytest.mark.parametrize("word", [READY, BUSY, REPORT, Word(True, ready=True, standby_holds=True)])
@pytest.mark.parametrize("rollout", [state for state in RolloutState if state is not RUNNING])
def test_nothing_is_granted_unless_the_rollout_runs(state: State, word: Word, rollout: RolloutState) -> None:
    attempt = Attempt(state=state, offered_at=T0, clearance_until=T0 + CLEARANCE if state is State.CLEARED else None)
    assert not may_be_cleared(rollout, word)
    order, after = ask(attempt, rollout, word)
    assert order in (None, Order.STAY, Order.ABANDON)
    assert after.state not in (State.OFFERED, State.CLEARED) or after.state is attempt.state


def test_a_halt_lets_go_of_who_had_no_clearance_and_of_who_had_and_stayed() -> None:
    downloading = Attempt(state=State.DOWNLOADING, offered_at=T0)
    order, off = ask(downloading, HALTED, REPORT)
    assert (order, off.state) == (Order.ABANDON, State.CALLED_OFF)
    cleared = Attempt(state=State.CLEARED, exposed_at=T0, clearance_until=T0 + CLEARANCE)
    order, off = ask(cleared, HALTED, Word(True, ready=True, standby_holds=True))
    assert (order, off.state) == (Order.ABANDON, State.CALLED_OFF)
    installing = Attempt(state=State.INSTALLING, exposed_at=T0)
    assert ask(installing, HALTED, READY) == (None, installing)


def test_a_called_off_device_is_told_to_drop_what_it_holds_and_no_more() -> None:
    off = Attempt(state=State.CALLED_OFF, closed=True)
    assert ask(off, RolloutState.FINISHED, Word(True, ready=True, standby_holds=True))[0] is Order.ABANDON
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

BACK = Word(check_in=True, ready=True, back=True, standby_holds=True)


def test_a_device_that_still_has_what_it_came_from_switches_back_without_a_download() -> None:
    order, attempt = ask(Attempt(), RUNNING, BACK)
    assert (order, attempt.state) == (Order.SWITCH_BACK, State.CLEARED)
    assert ask(attempt, RUNNING, BACK)[0] is Order.SWITCH_BACK, "a lost answer is answered alike"
    assert ask(Attempt(state=State.STAGED), HELD, BACK)[0] is Order.STAY


def test_what_no_slot_holds_is_fetched_if_there_is_a_release() -> None:
    gone = Word(check_in=True, ready=True, back=True)
    assert ask(Attempt(), RUNNING, gone)[0] is Order.FETCH
    order, attempt = ask(Attempt(), RUNNING, Word(check_in=True, ready=True, back=True, fetchable=False))
    assert (order, attempt.state, attempt.reason) == (None, State.CALLED_OFF, "image-gone")


def test_a_device_that_is_back_already_has_nothing_to_do() -> None:
    order, attempt = ask(Attempt(), RUNNING, Word(check_in=True, ready=True, back=True, runs_already=True))
    assert (order, attempt.state, attempt.reason) == (None, State.CONFIRMED, "already-back")


def test_a_halted_way_back_leaves_alone_what_stands_by() -> None:
    order, attempt = ask(Attempt(), HALTED, BACK)
    assert (order, attempt.state) == (None, State.CALLED_OFF)
