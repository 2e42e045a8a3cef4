from dataclasses import replace
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from mellow_herald.core.attempt import (
    AT_RISK,
    BAD,
    BEFORE_SWITCH,
    ENDURING,
    FORWARD,
    RANK,
    REASONS,
    REPORTABLE,
    RETRIED,
    UNDER_WAY,
    Attempt,
    CallOff,
    Clear,
    Close,
    Effect,
    EndTries,
    Event,
    Offer,
    OneMore,
    Refusal,
    Relapse,
    Report,
    Resume,
    RolledBack,
    Runs,
    Shown,
    Silence,
    StandbyHolds,
    StandbyLost,
    State,
    StayedOld,
    Step,
    TryAgain,
    Wait,
    WaitingFor,
    advance,
)

T0 = datetime(2026, 11, 23, 6, tzinfo=UTC)
SOAK = timedelta(minutes=10)


def at(state: State, **more: object) -> Attempt:
    """An attempt that stands at a state."""
    exposed = None if state in BEFORE_SWITCH or state is State.CALLED_OFF else T0
    values = {"soak": SOAK, "exposed_at": exposed, "offered_at": T0, **more}
    if state is State.CONFIRMED:
        values |= {"soak_until": T0 + SOAK}
    return Attempt(state=state, **values)  # type: ignore[arg-type]


def report(state: State, seq: int = 1, **more: object) -> Report:
    more.setdefault("reason", {State.FAILED: "download-broken", State.REVERTED: "power-lost"}.get(state))
    more.setdefault("names", Runs.TARGET if state is State.CONFIRMED else None)
    return Report(state=state, seq=seq, **{"boots": 1, **more})  # type: ignore[arg-type]


def step(attempt: Attempt, event: Event, now: datetime = T0) -> Attempt:
    outcome = advance(attempt, event, now)
    assert isinstance(outcome, Step), outcome
    return outcome.attempt


def refused(attempt: Attempt, event: Event, now: datetime = T0) -> None:
    assert isinstance(advance(attempt, event, now), Refusal)


# Reports ----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("state", sorted(UNDER_WAY))
@pytest.mark.parametrize("said", sorted(REPORTABLE))
def test_reports_only_move_forward_and_may_jump(state: State, said: State) -> None:
    moved = step(at(state), report(said))
    if said in (State.FAILED, State.REVERTED):
        assert moved.state is said
    elif state in BEFORE_SWITCH and said in (State.PROVING, State.CONFIRMED):
        assert (moved.state, moved.reason) == (State.CALLED_OFF, "arrived-otherwise"), "it had no leave to switch"
    else:
        assert moved.state is max(state, said, key=RANK.__getitem__)


def test_a_whole_passage() -> None:
    attempt = step(Attempt(soak=SOAK), Offer())
    for seq, said in enumerate([State.DOWNLOADING, State.STAGED], start=1):
        attempt = step(attempt, report(said, seq))
    assert attempt.exposed_at is None
    attempt = step(attempt, Clear(7, T0 + timedelta(seconds=600)))
    assert (attempt.state, attempt.clearance, attempt.exposed_at) == (State.CLEARED, 7, T0)
    for seq, said in enumerate([State.INSTALLING, State.PROVING, State.CONFIRMED], start=3):
        attempt = step(attempt, report(said, seq), T0 + timedelta(seconds=seq))
    assert not attempt.live
    assert attempt.soak_until == T0 + timedelta(seconds=5) + SOAK
    assert not attempt.ever_bad


def test_progress_updates_without_moving() -> None:
    outcome = advance(at(State.DOWNLOADING), report(State.DOWNLOADING, percent=40, rate=9000), T0)
    assert isinstance(outcome, Step) and outcome.effect is Effect.UPDATED
    assert (outcome.attempt.percent, outcome.attempt.rate) == (40, 9000)


@given(st.lists(st.tuples(st.integers(1, 3), st.integers(1, 4)), max_size=12))
def test_a_report_sent_twice_or_late_has_no_second_effect(order: list[tuple[int, int]]) -> None:
    attempt, newest = at(State.OFFERED), (0, 0)
    for boots, seq in order:
        outcome = advance(attempt, Report(State.DOWNLOADING, boots, seq, percent=boots * 10 + seq), T0)
        assert isinstance(outcome, Step)
        if (boots, seq) <= newest:
            assert outcome.effect is Effect.REPEATED and outcome.attempt == attempt
        else:
            newest = (boots, seq)
            assert outcome.attempt.percent == boots * 10 + seq
        attempt = outcome.attempt


def test_a_report_about_an_earlier_try_is_noted_only() -> None:
    outcome = advance(at(State.OFFERED, try_number=2, tries=3), report(State.FAILED, try_number=1), T0)
    assert isinstance(outcome, Step) and outcome.effect is Effect.NOTED
    assert outcome.attempt.state is State.OFFERED


def test_a_report_about_a_try_that_never_was_is_refused() -> None:
    refused(at(State.OFFERED), report(State.STAGED, try_number=2))


@pytest.mark.parametrize("said", sorted(set(State) - REPORTABLE))
def test_what_a_device_cannot_say_is_refused(said: State) -> None:
    refused(at(State.OFFERED), Report(said, 1, 1))


# Silence, retries, clearance --------------------------------------------------------------------------------------


@pytest.mark.parametrize("said", sorted(REPORTABLE))
def test_a_late_word_corrects_silence_unless_the_device_is_busy_elsewhere(said: State) -> None:
    silent = step(at(State.PROVING), Silence())
    assert silent.ever_bad
    late = step(silent, report(said))
    assert late.state is said
    assert late.ever_bad, "the brake's count stays"
    elsewhere = advance(silent, report(said, other_live=True), T0)
    assert isinstance(elsewhere, Step) and elsewhere.effect is Effect.NOTED and elsewhere.attempt.state is State.SILENT


def test_silence_needs_an_order_that_went_out() -> None:
    refused(at(State.QUEUED), Silence())
    for state in UNDER_WAY - {State.QUEUED}:
        assert step(at(state), Silence()).state is State.SILENT


def test_tries_pause_longer_each_time_and_end() -> None:
    attempt = Attempt(tries=3, retry_pause=timedelta(minutes=5))
    pauses = []
    for number in (1, 2, 3):
        attempt = step(step(attempt, Offer()), report(State.FAILED, seq=number, try_number=number))
        if number < 3:
            assert attempt.live and attempt.retry_at is not None
            pauses.append(attempt.retry_at - T0)
            refused(attempt, TryAgain(), attempt.retry_at - timedelta(seconds=1))
            attempt = step(attempt, TryAgain(), attempt.retry_at)
            assert (attempt.state, attempt.try_number) == (State.QUEUED, number + 1)
    assert pauses == [timedelta(minutes=5), timedelta(minutes=10)]
    assert not attempt.live and attempt.retry_at is None
    refused(attempt, TryAgain())


def test_ending_tries_makes_a_bad_attempt_final() -> None:
    bad = step(at(State.PROVING, tries=5), report(State.REVERTED))
    assert bad.live
    assert not step(bad, EndTries()).live


@pytest.mark.parametrize("reason", sorted(ENDURING))
def test_what_ran_and_was_found_bad_is_not_given_again_unless_the_plan_says_so(reason: str) -> None:
    said = State.FAILED if reason in REASONS[State.FAILED] else State.REVERTED
    on_its_way = at(State.PROVING if said is State.REVERTED else State.STAGED, tries=3)
    bad = step(on_its_way, report(said, reason=reason))
    assert not bad.live and bad.retry_at is None
    refused(bad, TryAgain(), T0 + 9 * SOAK)
    assert step(bad, OneMore()).state is State.QUEUED, "by hand it may be"
    assert step(replace(on_its_way, retry_bad=True), report(said, reason=reason)).live


def test_wrong_bytes_are_fetched_once_more_and_not_thrice() -> None:
    first = step(at(State.DOWNLOADING, tries=5), report(State.FAILED, reason="digest-mismatch"))
    second = step(step(first, TryAgain(), T0 + SOAK), report(State.FAILED, 2, try_number=2, reason="digest-mismatch"))
    assert first.live and not second.live


def test_the_devices_own_later_word_says_why_it_went_bad() -> None:
    inferred = step(at(State.PROVING, tries=2), Shown(Runs.FORMER, 5, 9))
    assert (inferred.reason, inferred.first_bad_why, inferred.live) == ("power-lost", "power-lost", True)
    told = step(inferred, report(State.REVERTED, 6, boots=6, reason="self-test-failed"))
    assert (told.reason, told.first_bad_why, told.harmed_why, told.live) == (*3 * ("self-test-failed",), False)
    tried = step(inferred, TryAgain(), T0 + SOAK)
    late = step(tried, report(State.REVERTED, 6, boots=6, try_number=1, reason="self-test-failed"))
    assert (late.state, late.first_bad_why, late.first_bad_try) == (State.QUEUED, "self-test-failed", 1)


def test_waiting_for_a_condition_begins_once_and_a_window_neither_begins_nor_ends_it() -> None:
    def waits(attempt: Attempt, waiting_for: WaitingFor, hours: int) -> Attempt:
        return step(attempt, Wait(waiting_for), T0 + timedelta(hours=hours))

    window = waits(at(State.STAGED), WaitingFor.WINDOW, 1)
    assert window.waiting_since is None
    flat = waits(window, WaitingFor.BATTERY, 8)
    again = waits(waits(flat, WaitingFor.WINDOW, 10), WaitingFor.CHARGER, 32)
    assert flat.waiting_since == again.waiting_since == T0 + timedelta(hours=8)
    assert waits(again, WaitingFor.PACE, 33).waiting_since is None, "it meets them now: the service makes it wait"
    assert step(again, Clear(1, T0 + SOAK)).waiting_since is None


@pytest.mark.parametrize("said", [State.INSTALLING, State.CONFIRMED])
def test_who_switches_without_clearance_is_believed_and_marked(said: State) -> None:
    assert step(at(State.STAGED), report(said)).unasked_at == T0
    assert step(at(State.CLEARED), report(said)).unasked_at is None
    assert step(at(State.CALLED_OFF), report(said)).unasked_at == T0
    late = report(said, shown=Shown(Runs.FORMER, 2, 9))
    assert step(at(State.STAGED, clearance=7), late).unasked_at is None, "it may have had leave when it said so"


def test_who_names_another_clearance_than_its_own_acted_without() -> None:
    cleared = at(State.CLEARED, clearance=7)
    assert step(cleared, report(State.INSTALLING, clearance=7)).unasked_at is None
    assert step(cleared, report(State.INSTALLING)).unasked_at is None, "it names none"
    other = step(cleared, report(State.INSTALLING, clearance=6))
    assert (other.unasked_at, other.state) == (T0, State.INSTALLING), "believed, and marked"
    assert step(replace(cleared, leave_unknown=True), report(State.INSTALLING, clearance=6)).unasked_at is None


def test_a_clearance_runs_out_only_when_the_device_itself_speaks() -> None:
    cleared = step(at(State.STAGED), Clear(3, T0 + timedelta(seconds=600)))
    later = T0 + timedelta(seconds=601)
    assert step(cleared, StayedOld(halted=False)).state is State.CLEARED
    assert step(cleared, StayedOld(halted=False), later).state is State.STAGED
    assert step(cleared, report(State.STAGED), later).state is State.STAGED
    again = step(step(cleared, StayedOld(halted=False), later), Clear(9, later + timedelta(seconds=600)), later)
    assert again.clearance == 9 and again.exposed_at == cleared.exposed_at, "exposed from its first clearance on"


def test_a_halt_calls_off_a_cleared_device_only_by_its_own_word() -> None:
    cleared = step(at(State.STAGED), Clear(3, T0 + timedelta(seconds=600)))
    refused(cleared, CallOff("halted"))
    assert step(cleared, StayedOld(halted=True)).state is State.CALLED_OFF
    assert step(cleared, report(State.PROVING)).state is State.PROVING


@pytest.mark.parametrize("state", sorted(BEFORE_SWITCH))
def test_what_was_not_cleared_can_be_called_off_and_resumed(state: State) -> None:
    off = step(at(state), CallOff("halted"))
    assert (off.state, off.reason, off.live) == (State.CALLED_OFF, "halted", False)
    back = step(off, Resume())
    assert back.state is State.QUEUED and back.live


def test_a_device_that_switched_although_called_off_is_shown_where_it_is() -> None:
    off = step(at(State.STAGED), CallOff("halted"))
    assert step(off, report(State.STAGED)).state is State.CALLED_OFF
    switched = step(off, report(State.INSTALLING))
    assert switched.state is State.INSTALLING and switched.exposed_at == T0
    otherwise = step(off, report(State.PROVING))
    assert (otherwise.state, otherwise.reason, otherwise.exposed) == (State.CALLED_OFF, "arrived-otherwise", False)


# After confirming -------------------------------------------------------------------------------------------------


def test_relapse_only_within_the_soak() -> None:
    good = at(State.CONFIRMED)
    assert step(good, Relapse("crash-looping"), T0 + SOAK).state is State.RELAPSED
    refused(good, Relapse("crash-looping"), T0 + SOAK + timedelta(seconds=1))
    fell = step(good, report(State.REVERTED), T0 + timedelta(minutes=1))
    assert (fell.state, fell.reason, fell.ever_bad) == (State.RELAPSED, "fell-back", True)
    assert step(good, report(State.REVERTED), T0 + 2 * SOAK).state is State.CONFIRMED


def test_only_exposed_devices_are_rolled_back() -> None:
    for state in (State.CONFIRMED, State.REVERTED, State.SILENT, State.RELAPSED):
        assert step(at(state), RolledBack()).state is State.ROLLED_BACK
    refused(at(State.FAILED, exposed_at=None), RolledBack())
    for state in AT_RISK:
        refused(at(state), RolledBack())


def test_closing_waits_for_devices_at_risk_and_then_nothing_moves() -> None:
    for state in AT_RISK:
        refused(at(state), Close())
    closed = step(at(State.DOWNLOADING), Close())
    assert closed.closed and closed.state is State.CALLED_OFF
    for event in (Offer(), Resume(), Silence(), EndTries(), RolledBack()):
        refused(closed, event)
    taken_back = step(step(at(State.CONFIRMED), Close()), RolledBack())
    assert taken_back.state is State.ROLLED_BACK and taken_back.closed, "that is another rollout's doing"
    outcome = advance(closed, report(State.CONFIRMED), T0)
    assert isinstance(outcome, Step) and outcome.effect is Effect.NOTED and outcome.attempt.state is State.CALLED_OFF


def test_waiting_is_carried_by_queued_and_staged_only() -> None:
    waiting = step(at(State.STAGED), Wait(WaitingFor.BATTERY, T0 + SOAK))
    assert (waiting.waiting_for, waiting.waiting_until) == (WaitingFor.BATTERY, T0 + SOAK)
    assert step(waiting, report(State.INSTALLING)).waiting_for is None
    refused(at(State.PROVING), Wait(WaitingFor.BATTERY))


def test_a_staged_image_is_not_fetched_again() -> None:
    assert step(Attempt(), StandbyHolds()).state is State.STAGED
    refused(at(State.PROVING), StandbyHolds())


def test_each_brake_counts_its_own_bad_ones_once() -> None:
    broken = step(at(State.DOWNLOADING, tries=3, retry_bad=True), report(State.FAILED, reason="download-broken"))
    assert (broken.undelivered_at, broken.undelivered_why, broken.harmed_at) == (T0, "download-broken", None)
    again = step(step(broken, TryAgain(), T0 + SOAK), report(State.INSTALLING, 5, try_number=2), T0 + SOAK)
    hurt = step(again, report(State.REVERTED, 6, try_number=2, reason="hung"), T0 + 2 * SOAK)
    assert (hurt.harmed_at, hurt.harmed_why, hurt.undelivered_at) == (T0 + 2 * SOAK, "hung", T0)
    good = step(step(hurt, TryAgain(), T0 + 9 * SOAK), report(State.CONFIRMED, 7, try_number=3))
    assert good.harmed_why == "hung", "later good news does not undo it"


def test_a_resume_lets_the_delivery_count_anew() -> None:
    off = step(at(State.STAGED, offered_at=T0, undelivered_at=T0, undelivered_why="no-room"), CallOff("halted"))
    again = step(off, Resume(), T0 + SOAK)
    assert (again.offered_at, again.undelivered_at, again.ever_bad) == (None, None, False)


def test_installing_over_and_over_is_an_install_loop() -> None:
    attempt = step(at(State.CLEARED, tries=2), report(State.INSTALLING, 3))
    attempt = step(attempt, report(State.PROVING, 4))
    attempt = step(attempt, report(State.INSTALLING, 5))
    assert attempt.state is State.PROVING and attempt.installs == 2
    looping = step(attempt, report(State.INSTALLING, 6))
    assert (looping.state, looping.reason, looping.live) == (State.FAILED, "install-loop", False)
    confirmed = step(attempt, report(State.CONFIRMED, 6))
    assert step(confirmed, report(State.INSTALLING, 7)).reason == "install-loop"


def test_silence_in_the_soak_counts_from_when_it_was_last_heard() -> None:
    good = at(State.CONFIRMED)
    late = T0 + 3 * SOAK
    assert step(good, Relapse("went-silent", T0 + SOAK / 2), late).reason == "went-silent"
    refused(good, Relapse("went-silent", T0 + 2 * SOAK), late)


# Any sequence at all ----------------------------------------------------------------------------------------------

ALLOWED_BY_SERVICE = {
    Offer: {State.QUEUED: {State.OFFERED}},
    StandbyHolds: dict.fromkeys((State.QUEUED, State.OFFERED, State.DOWNLOADING), {State.STAGED}),
    Clear: {State.STAGED: {State.CLEARED}},
    StayedOld: {State.CLEARED: {State.STAGED, State.CALLED_OFF}},
    Silence: dict.fromkeys(UNDER_WAY - {State.QUEUED}, {State.SILENT}),
    CallOff: dict.fromkeys(BEFORE_SWITCH, {State.CALLED_OFF}),
    TryAgain: dict.fromkeys(RETRIED, {State.QUEUED}),
    Resume: {State.CALLED_OFF: {State.QUEUED}},
    Relapse: {State.CONFIRMED: {State.RELAPSED}},
    RolledBack: dict.fromkeys(BAD | {State.CONFIRMED}, {State.ROLLED_BACK}),
    StandbyLost: {State.STAGED: {State.QUEUED}},
    Shown: {
        **dict.fromkeys(BEFORE_SWITCH, {State.CALLED_OFF, State.PROVING, State.CONFIRMED, State.FAILED}),
        **dict.fromkeys(AT_RISK, {State.PROVING, State.CONFIRMED, State.REVERTED, State.FAILED}),
        **dict.fromkeys(RETRIED | {State.CALLED_OFF}, {State.PROVING, State.CONFIRMED, State.CALLED_OFF}),
        State.CONFIRMED: {State.RELAPSED},
    },
    Close: dict.fromkeys(BEFORE_SWITCH, {State.CALLED_OFF}),
    EndTries: {},
    Wait: {},
}


class AnyPassage(RuleBasedStateMachine):
    """Throws every event at an attempt in any order and holds the moves against the vocabulary."""

    @initialize(tries=st.integers(1, 3), retry_bad=st.booleans())
    def begin(self, tries: int, retry_bad: bool) -> None:
        self.attempt = Attempt(tries=tries, soak=SOAK, retry_bad=retry_bad)
        self.now, self.seq = T0, 0
        self.shown: Shown | None = None
        self.was_exposed = self.was_bad = False

    def apply(self, event: Event) -> None:
        before = self.attempt
        outcome = advance(before, event, self.now)
        assert outcome == advance(before, event, self.now), "the same arguments give the same answer"
        if isinstance(outcome, Refusal):
            return
        after = outcome.attempt
        if after.state is not before.state or after.try_number != before.try_number:
            assert outcome.effect is Effect.MOVED
            assert not before.closed or isinstance(event, RolledBack), "only another rollout moves what is closed"
            if not isinstance(event, Report):
                assert after.state in ALLOWED_BY_SERVICE[type(event)].get(before.state, set())
        assert after.fetched >= before.fetched and (before.unasked_at in (None, after.unasked_at))
        if before.ever_bad:
            assert (after.first_bad_at, after.first_bad_try) == (before.first_bad_at, before.first_bad_try)
            assert after.first_bad_why == before.first_bad_why or before.first_bad_why == "power-lost"
        if isinstance(event, TryAgain) and not before.retry_bad:
            assert before.reason not in ENDURING, "what is bad for good is not given again"
        self.attempt = after

    @rule(seconds=st.integers(0, 900))
    def wait(self, seconds: int) -> None:
        self.now += timedelta(seconds=seconds)

    @rule(
        state=st.sampled_from(sorted(REPORTABLE)),
        late=st.integers(0, 3),
        earlier=st.booleans(),
        other=st.booleans(),
        names=st.sampled_from([*Runs, None]),
        data=st.data(),
    )
    def device_reports(
        self, state: State, late: int, earlier: bool, other: bool, names: Runs | None, data: st.DataObject
    ) -> None:
        self.seq += 1
        number, seq = max(1, self.attempt.try_number - earlier), max(1, self.seq - late)
        older = self.shown is not None and seq < self.shown.seq
        reason = data.draw(st.sampled_from(sorted(REASONS[state]))) if state in REASONS else None
        names = names if state is State.CONFIRMED else None
        told = {"reason": reason, "shown": self.shown if older else None, "names": names}
        self.apply(report(state, seq, try_number=number, other_live=other, **told))

    @rule(runs=st.sampled_from(Runs), trial=st.sampled_from((True, False, None)), again=st.booleans())
    def device_checks_in(self, runs: Runs, trial: bool | None, again: bool) -> None:
        self.seq += 1
        self.shown = Shown(runs, 1, self.seq, trial, again=again)
        before = self.attempt
        self.apply(self.shown)
        after = self.attempt
        if runs is Runs.TARGET and not again and not before.closed:
            assert after.state not in (State.QUEUED, State.OFFERED, State.DOWNLOADING, State.STAGED, State.CLEARED)
            assert after.state is not State.CALLED_OFF or not after.exposed, "who had leave is exposed, not called off"

    @rule(
        event=st.sampled_from(
            [
                Offer(),
                StandbyHolds(),
                Silence(),
                CallOff("halted"),
                TryAgain(),
                EndTries(),
                Resume(),
                Relapse("crash-looping"),
                RolledBack(),
                Wait(WaitingFor.PACE),
                StayedOld(halted=True),
                StayedOld(halted=False),
                StandbyLost(),
            ]
        )
    )
    def service_says(self, event: Event) -> None:
        self.apply(event)

    @rule(seconds=st.integers(1, 900), number=st.integers(1, 99))
    def service_clears(self, seconds: int, number: int) -> None:
        self.apply(Clear(number, self.now + timedelta(seconds=seconds)))

    @precondition(lambda self: self.seq > 6)
    @rule()
    def rollout_ends(self) -> None:
        self.apply(Close())

    @invariant()
    def holds(self) -> None:
        if not hasattr(self, "attempt"):
            return
        attempt = self.attempt
        assert attempt.live != attempt.decided
        assert not (attempt.live and attempt.closed)
        assert attempt.try_number <= attempt.tries
        assert (attempt.state in AT_RISK) <= (attempt.exposed_at is not None)
        self.was_exposed |= attempt.exposed_at is not None
        self.was_bad |= attempt.state in BAD
        assert self.was_exposed == (attempt.exposed_at is not None), "once exposed, always exposed"
        assert attempt.ever_bad >= self.was_bad, "ever bad stays bad"
        self.was_bad = attempt.ever_bad  # a word that comes late may tell of it, too
        assert (attempt.state in BAD and attempt.state is not State.SILENT) <= (attempt.reason is not None)
        assert attempt.waiting_for is None or attempt.state in (State.QUEUED, State.STAGED)
        assert attempt.clearance_until is None or attempt.state is State.CLEARED


AnyPassage.TestCase.settings = settings(max_examples=250, stateful_step_count=40)
TestAnyPassage = AnyPassage.TestCase


def test_the_states_are_those_of_the_vocabulary() -> None:
    assert set(State) == set(FORWARD) | BAD | {State.CALLED_OFF, State.ROLLED_BACK}
    assert replace(Attempt(), tries=2).try_number == 1
