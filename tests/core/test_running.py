"""What a device runs decides: the table of docs/concepts.md, row by row, and what an older report may still tell."""

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.attempt import (
    AT_RISK,
    BEFORE_SWITCH,
    UNDER_WAY,
    Attempt,
    Effect,
    Report,
    Runs,
    Shown,
    State,
    Step,
    advance,
    is_again,
    judge,
    target_digests,
)

T0 = datetime(2026, 11, 23, 6, tzinfo=UTC)
SOAK = timedelta(minutes=10)
OLD, NEW, THIRD, RADIO_OLD, RADIO_NEW = ("a" * 64, "b" * 64, "c" * 64, "d" * 64, "e" * 64)


def at(state: State, *, exposed: bool | None = None, **more: object) -> Attempt:
    """An attempt that stands at a state, its newest report from boot 5."""
    if exposed is None:
        exposed = state in AT_RISK or state in (State.CONFIRMED, State.REVERTED, State.RELAPSED)
    values = {"soak": SOAK, "offered_at": T0, "exposed_at": T0 if exposed else None, "last": (5, 9), **more}
    if state is State.CONFIRMED:
        values["soak_until"] = T0 + SOAK
    return Attempt(state=state, **values)  # type: ignore[arg-type]


def shown(runs: Runs, boots: int = 6, trial: bool | None = False, **more: object) -> Shown:
    return Shown(runs, boots, 1, trial, **more)  # type: ignore[arg-type]


def step(attempt: Attempt, event: Shown | Report, now: datetime = T0) -> Attempt:
    outcome = advance(attempt, event, now)
    assert isinstance(outcome, Step), outcome
    return outcome.attempt


def stands(attempt: Attempt) -> tuple[State, str | None]:
    return attempt.state, attempt.reason


# What a device runs --------------------------------------------------------------------------------------------------

APP_ONLY, BOTH, RADIO_ONLY = {"app": {NEW}}, {"app": {NEW}, "radio": {RADIO_NEW}}, {"radio": {RADIO_NEW}}
FORMER = {"app": OLD, "radio": RADIO_OLD}


@pytest.mark.parametrize(
    ("wanted", "running", "found"),
    [
        (APP_ONLY, {"app": NEW, "radio": RADIO_OLD}, Runs.TARGET),
        (APP_ONLY, {"app": OLD}, Runs.FORMER),
        (APP_ONLY, {"app": THIRD}, Runs.OTHER),
        (APP_ONLY, {}, Runs.UNREADABLE),
        (BOTH, {"app": NEW, "radio": RADIO_NEW}, Runs.TARGET),
        (BOTH, {"app": NEW, "radio": RADIO_OLD}, Runs.PARTLY),
        (BOTH, {"app": OLD, "radio": RADIO_NEW}, Runs.PARTLY),
        (BOTH, {"app": OLD, "radio": RADIO_OLD}, Runs.FORMER),
        (BOTH, {"app": NEW, "radio": THIRD}, Runs.OTHER),
        (BOTH, {"app": NEW}, Runs.UNREADABLE),
        # A release without app: what app runs says nothing about it.
        (RADIO_ONLY, {"app": OLD, "radio": RADIO_NEW}, Runs.TARGET),
        (RADIO_ONLY, {"app": OLD, "radio": RADIO_OLD}, Runs.FORMER),
        (RADIO_ONLY, {"app": THIRD, "radio": RADIO_OLD}, Runs.FORMER),
    ],
)
def test_every_component_of_the_release_counts(
    wanted: dict[str, set[str]], running: dict[str, str], found: Runs
) -> None:
    assert judge(wanted, FORMER, running) is found


def test_an_image_of_any_slot_is_the_target() -> None:
    for digest in (NEW, THIRD):
        assert judge({"app": {NEW, THIRD}}, FORMER, {"app": digest}) is Runs.TARGET


def test_recovery_is_neither_the_target_nor_somebody_elses_doing() -> None:
    assert judge(APP_ONLY, FORMER, {"app": THIRD}, in_recovery=True) is Runs.RECOVERY
    assert judge(RADIO_ONLY, FORMER, {"app": THIRD}, in_recovery=True) is Runs.RECOVERY
    assert judge(APP_ONLY, FORMER, {}, in_place={"app"}) is Runs.RECOVERY, "a copy that was cut off half-way"
    assert judge(APP_ONLY, {"app": THIRD}, {"app": THIRD}, in_recovery=True) is Runs.FORMER, "that is where it was"


def test_where_nothing_was_known_before_the_first_word_is_what_it_came_from() -> None:
    assert judge(APP_ONLY, {"app": None}, {"app": THIRD}) is Runs.FORMER
    assert judge(APP_ONLY, {}, {}) is Runs.FORMER


def test_the_same_release_again() -> None:
    assert is_again(APP_ONLY, {"app": NEW}) and not is_again(BOTH, {"app": NEW, "radio": RADIO_OLD})


@given(
    st.dictionaries(st.sampled_from(("app", "radio")), st.sampled_from((OLD, NEW, RADIO_NEW, THIRD))),
    st.dictionaries(st.sampled_from(("app", "radio")), st.sampled_from((OLD, NEW, RADIO_NEW, THIRD))),
)
def test_an_order_never_names_what_is_not_of_the_release(running: dict[str, str], standby: dict[str, str]) -> None:
    for name, digest in target_digests(BOTH, running, standby).items():
        assert digest in BOTH[name]
    several = {"app": {NEW, THIRD}}
    named = target_digests(several, running, standby).get("app")
    if running.get("app") in several["app"]:
        assert named == running["app"], "who runs it stays with that"
    elif standby.get("app") in several["app"]:
        assert named == standby["app"], "the one for its own slot"
    else:
        assert named is None, "which of the two is not known"


# The table: what it runs, where the attempt stood, where it stands then ----------------------------------------------


@pytest.mark.parametrize("state", sorted(UNDER_WAY | {State.CALLED_OFF, State.SILENT, State.FAILED, State.REVERTED}))
@pytest.mark.parametrize(("trial", "then"), [(False, State.CONFIRMED), (True, State.PROVING)])
def test_who_had_leave_and_runs_the_target_is_proving_or_confirmed(state: State, trial: bool, then: State) -> None:
    attempt = at(state, exposed=True, reason="power-lost" if state is State.REVERTED else None)
    after = step(attempt, shown(Runs.TARGET, trial=trial))
    assert after.state is then and after.exposed
    assert (after.soak_until == T0 + SOAK) is (then is State.CONFIRMED)


@pytest.mark.parametrize("state", sorted(BEFORE_SWITCH | {State.CALLED_OFF, State.SILENT, State.FAILED}))
def test_who_runs_it_without_leave_got_it_otherwise_and_counts_nowhere(state: State) -> None:
    after = step(at(state, tries=3, reason="halted" if state is State.CALLED_OFF else None), shown(Runs.TARGET))
    assert stands(after) == (State.CALLED_OFF, "arrived-otherwise")
    assert (after.exposed, after.offered_at, after.live) == (False, None, False)
    back = step(at(state), shown(Runs.TARGET, back=True))
    if state is not State.CALLED_OFF:
        assert stands(back) == (State.CONFIRMED, "already-back") and not back.exposed


@pytest.mark.parametrize("state", sorted(State))
def test_what_is_over_stays_what_it_was(state: State) -> None:
    if state in (State.CONFIRMED, State.RELAPSED, State.ROLLED_BACK):
        assert step(at(state), shown(Runs.TARGET, trial=True)).state is state


@pytest.mark.parametrize(
    ("state", "runs", "then"),
    [
        (State.PROVING, Runs.FORMER, (State.REVERTED, "power-lost")),
        (State.PROVING, Runs.PARTLY, (State.REVERTED, "power-lost")),
        (State.INSTALLING, Runs.FORMER, (State.REVERTED, "power-lost")),
        (State.CLEARED, Runs.FORMER, (State.CLEARED, None)),
        (State.STAGED, Runs.FORMER, (State.STAGED, None)),
        (State.CLEARED, Runs.RECOVERY, (State.REVERTED, "in-recovery")),
        (State.INSTALLING, Runs.RECOVERY, (State.REVERTED, "in-recovery")),
        (State.PROVING, Runs.RECOVERY, (State.REVERTED, "in-recovery")),
        (State.STAGED, Runs.RECOVERY, (State.STAGED, None)),
        (State.STAGED, Runs.OTHER, (State.CALLED_OFF, "flashed-by-hand")),
        (State.QUEUED, Runs.OTHER, (State.CALLED_OFF, "flashed-by-hand")),
        (State.CLEARED, Runs.OTHER, (State.FAILED, "wrong-image")),
        (State.INSTALLING, Runs.OTHER, (State.FAILED, "wrong-image")),
        (State.PROVING, Runs.OTHER, (State.FAILED, "wrong-image")),
        (State.CONFIRMED, Runs.FORMER, (State.RELAPSED, "fell-back")),
        (State.CONFIRMED, Runs.PARTLY, (State.RELAPSED, "fell-back")),
        (State.CONFIRMED, Runs.RECOVERY, (State.RELAPSED, "fell-back")),
        (State.CONFIRMED, Runs.OTHER, (State.RELAPSED, "flashed-by-hand")),
        (State.CONFIRMED, Runs.UNREADABLE, (State.CONFIRMED, None)),
        (State.PROVING, Runs.UNREADABLE, (State.PROVING, None)),
    ],
)
def test_who_runs_something_else(state: State, runs: Runs, then: tuple[State, str | None]) -> None:
    after = step(at(state), shown(runs))
    assert stands(after) == then
    assert after.ever_bad is (then[0] in (State.REVERTED, State.FAILED, State.RELAPSED))
    if state is State.CONFIRMED:
        assert step(at(state), shown(runs), T0 + 2 * SOAK).state is State.CONFIRMED, "its soak is over"


def test_who_installs_and_has_not_restarted_yet_is_still_on_its_way() -> None:
    assert step(at(State.INSTALLING), Shown(Runs.FORMER, 5, 10)).state is State.INSTALLING


def test_a_later_try_that_is_flashed_by_hand_is_bad_and_the_first_one_is_not() -> None:
    assert stands(step(at(State.QUEUED, exposed=True, try_number=2, tries=2), shown(Runs.OTHER)))[1] == "wrong-image"
    bad = at(State.FAILED, reason="no-room", tries=2)
    assert stands(step(bad, shown(Runs.OTHER))) == (State.CALLED_OFF, "flashed-by-hand")


def test_a_part_on_trial_is_proving() -> None:
    assert step(at(State.INSTALLING), shown(Runs.PARTLY, trial=True)).state is State.PROVING


def test_components_that_go_on_without_one_that_was_given_up_are_as_good_as_that() -> None:
    after = step(at(State.PROVING), shown(Runs.TARGET, given_up="no-room"))
    assert stands(after) == (State.FAILED, "no-room")
    assert step(after, shown(Runs.TARGET, given_up="no-room", boots=7)) == after


def test_a_check_in_that_was_overtaken_by_a_report_decides_nothing() -> None:
    outcome = advance(at(State.CONFIRMED), Shown(Runs.FORMER, 5, 8), T0)
    assert isinstance(outcome, Step) and outcome.effect is Effect.REPEATED


def test_the_same_bytes_again_count_once_they_were_installed() -> None:
    for state in (State.QUEUED, State.STAGED, State.CLEARED, State.CONFIRMED):
        assert step(at(state), shown(Runs.TARGET, again=True)).state is state
    assert step(at(State.INSTALLING, installs=1), Shown(Runs.TARGET, 5, 10, again=True)).state is State.INSTALLING
    assert step(at(State.INSTALLING, installs=1), shown(Runs.TARGET, again=True)).state is State.CONFIRMED


# What it vouches for -------------------------------------------------------------------------------------------------


def confirmed(names: Runs | None, **more: object) -> Report:
    return Report(State.CONFIRMED, 6, 3, names=names, **more)  # type: ignore[arg-type]


@pytest.mark.parametrize("state", sorted(UNDER_WAY | {State.CALLED_OFF, State.SILENT}))
@pytest.mark.parametrize(
    ("names", "then"),
    [
        (Runs.TARGET, (State.CONFIRMED, None)),
        (Runs.FORMER, (State.REVERTED, "fell-back")),
        (Runs.PARTLY, (State.REVERTED, "fell-back")),
        (Runs.OTHER, (State.FAILED, "wrong-image")),
        (None, (State.PROVING, None)),
    ],
)
def test_what_a_confirmation_names_decides(state: State, names: Runs | None, then: tuple[State, str | None]) -> None:
    after = step(at(state, exposed=True), confirmed(names))
    assert stands(after) == then
    assert after.ever_bad is (then[0] in (State.REVERTED, State.FAILED))


def test_updater_1_is_confirmed_once_a_check_in_shows_what_it_vouched_for() -> None:
    vouched = step(at(State.INSTALLING), confirmed(None))
    assert (vouched.state, vouched.vouched) == (State.PROVING, True)
    assert step(vouched, Shown(Runs.TARGET, 6, 4, None)).state is State.CONFIRMED
    assert stands(step(vouched, Shown(Runs.FORMER, 6, 4, None))) == (State.REVERTED, "power-lost")
    # The check-in came first: what it showed is what the late word was about.
    seen = step(at(State.INSTALLING), Shown(Runs.TARGET, 6, 4, None))
    assert seen.state is State.PROVING
    assert step(seen, confirmed(None, shown=Shown(Runs.TARGET, 6, 4, None))).state is State.CONFIRMED


def test_a_confirmation_of_the_old_image_by_one_that_never_left_is_only_noted() -> None:
    for names in (Runs.FORMER, Runs.OTHER):
        outcome = advance(at(State.STAGED), confirmed(names), T0)
        assert isinstance(outcome, Step) and (outcome.effect, outcome.attempt.state) == (Effect.NOTED, State.STAGED)


@pytest.mark.parametrize("state", sorted(BEFORE_SWITCH))
def test_after_a_restore_who_runs_the_release_may_have_been_told_to(state: State) -> None:
    """Leave that was given after the backup is not known; it was ours all the same."""
    restored = at(state, leave_unknown=True)
    assert stands(step(restored, shown(Runs.TARGET))) == (State.CONFIRMED, None)
    assert stands(step(restored, shown(Runs.TARGET, trial=True))) == (State.PROVING, None)
    assert stands(step(restored, shown(Runs.PARTLY, trial=True))) == (State.PROVING, None)
    assert stands(step(restored, confirmed(Runs.TARGET))) == (State.CONFIRMED, None)
    assert stands(step(restored, shown(Runs.OTHER))) == (State.FAILED, "wrong-image")
    assert step(restored, shown(Runs.FORMER)) == restored, "it never left, and goes on"
    proving = step(restored, Report(State.PROVING, 6, 1))
    assert (proving.state, proving.unasked_at) == (State.PROVING, None)
    assert all(step(restored, one).exposed for one in (shown(Runs.TARGET), confirmed(Runs.TARGET)))


# Reports that are older than the check-in ----------------------------------------------------------------------------


def older(state: State, runs: Runs, reason: str | None = None, seq: int = 12, **more: object) -> Report:
    """From boot 5; the newest check-in is of boot 7."""
    return Report(state, 5, seq, reason=reason, shown=Shown(runs, 7, 1), **more)  # type: ignore[arg-type]


@pytest.mark.parametrize("said", [State.DOWNLOADING, State.STAGED, State.INSTALLING, State.PROVING, State.CONFIRMED])
def test_an_older_report_never_moves_who_runs_the_target(said: State) -> None:
    good = at(State.CONFIRMED)
    after = step(good, older(said, Runs.TARGET, names=Runs.TARGET))
    assert after.state is State.CONFIRMED and after.last == (5, 12) and not after.ever_bad
    assert step(after, older(said, Runs.TARGET)) == after, "and a second time has no second effect"


def test_what_an_older_report_says_went_wrong_is_counted_though_the_device_is_well_by_now() -> None:
    after = step(at(State.CONFIRMED), older(State.REVERTED, Runs.TARGET, "crashed"))
    assert (after.state, after.harmed_why) == (State.CONFIRMED, "crashed")


@pytest.mark.parametrize("state", [State.STAGED, State.CLEARED, State.INSTALLING, State.CALLED_OFF, State.SILENT])
@pytest.mark.parametrize(
    ("said", "reason", "then"),
    [
        (State.REVERTED, "crashed", (State.REVERTED, "crashed")),
        (State.FAILED, "no-room", (State.FAILED, "no-room")),
        (State.INSTALLING, None, (State.REVERTED, "power-lost")),
        (State.PROVING, None, (State.REVERTED, "power-lost")),
        (State.CONFIRMED, None, (State.REVERTED, "fell-back")),
    ],
)
def test_an_older_report_tells_how_the_device_came_to_run_what_it_came_from(
    state: State, said: State, reason: str | None, then: tuple[State, str | None]
) -> None:
    """It is not cleared once more as if nothing had been."""
    assert stands(step(at(state, exposed=True), older(said, Runs.FORMER, reason, names=Runs.TARGET))) == then


def test_the_devices_own_reason_takes_the_place_of_the_one_that_was_concluded() -> None:
    concluded = step(at(State.PROVING), shown(Runs.FORMER))
    for said in (State.INSTALLING, State.PROVING):
        concluded = step(concluded, older(said, Runs.FORMER, seq=12 if said is State.INSTALLING else 13))
    assert stands(concluded) == (State.REVERTED, "power-lost")
    assert stands(step(concluded, older(State.REVERTED, Runs.FORMER, "hung", seq=14))) == (State.REVERTED, "hung")


def test_older_progress_is_only_noted() -> None:
    after = step(at(State.CLEARED), older(State.STAGED, Runs.FORMER))
    assert after.state is State.CLEARED


def test_whose_word_it_is_nobody_knows_moves_nothing() -> None:
    outcome = advance(at(State.PROVING), Report(State.CONFIRMED, 6, 2, names=Runs.TARGET, counts=False), T0)
    assert isinstance(outcome, Step) and (outcome.effect, outcome.attempt.state) == (Effect.NOTED, State.PROVING)
