import pytest

from mellow_herald.core.attempt.states import FORWARD, REASONS, State, WaitingFor
from mellow_herald.core.coap.update_object import FAILED, UpdateResult, UpdateState, Word, read


@pytest.mark.parametrize("state", UpdateState)
@pytest.mark.parametrize("result", UpdateResult)
@pytest.mark.parametrize("before", FORWARD)
def test_whatever_a_device_says_is_a_state_of_ours_with_a_reason_that_goes_with_it(
    state: UpdateState, result: UpdateResult, before: State
) -> None:
    word = read(state, result, before)
    if word.state in REASONS:
        assert word.reason in REASONS[word.state]
    else:
        assert word.reason is None
    assert word.state is not State.CONFIRMED, "what it runs decides that, never its own word"
    assert not (word.state and word.what_runs_decides)


@pytest.mark.parametrize(
    ("state", "result", "before", "word"),
    [
        (UpdateState.DOWNLOADING, UpdateResult.INITIAL, State.OFFERED, Word(State.DOWNLOADING)),
        (UpdateState.DOWNLOADED, UpdateResult.INITIAL, State.DOWNLOADING, Word(State.STAGED)),
        (UpdateState.UPDATING, UpdateResult.INITIAL, State.CLEARED, Word(State.INSTALLING)),
        (UpdateState.IDLE, UpdateResult.SUCCESS, State.INSTALLING, Word(what_runs_decides=True)),
        (UpdateState.IDLE, UpdateResult.INITIAL, State.INSTALLING, Word(what_runs_decides=True)),
        (UpdateState.IDLE, UpdateResult.INITIAL, State.QUEUED, Word()),
        (UpdateState.IDLE, UpdateResult.CANCELLED, State.DOWNLOADING, Word()),
        (UpdateState.IDLE, UpdateResult.UPDATE_FAILED, State.INSTALLING, Word(State.REVERTED, "fell-back")),
        (UpdateState.IDLE, UpdateResult.UPDATE_FAILED, State.CLEARED, Word(State.REVERTED, "fell-back")),
        (UpdateState.IDLE, UpdateResult.UPDATE_FAILED, State.STAGED, Word(State.FAILED, "flash-error")),
        (UpdateState.IDLE, UpdateResult.CONNECTION_LOST, State.DOWNLOADING, Word(State.FAILED, "download-broken")),
        (
            UpdateState.DOWNLOADED,
            UpdateResult.DEFERRED,
            State.CLEARED,
            Word(State.STAGED, waits_for=WaitingFor.DEVICE_BUSY),
        ),
    ],
)
def test_by_hand(state: UpdateState, result: UpdateResult, before: State, word: Word) -> None:
    assert read(state, result, before) == word


def test_every_result_of_the_standard_is_read() -> None:
    told_otherwise = {UpdateResult.INITIAL, UpdateResult.SUCCESS, UpdateResult.CANCELLED, UpdateResult.DEFERRED}
    assert {*FAILED} | told_otherwise == {*UpdateResult} and len(UpdateResult) == 12
