from dataclasses import replace

import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from mellow_herald.sim.bootloader import (
    EARLY_RESETS,
    TRIAL_BOOTS,
    Boot,
    BootRecord,
    Cause,
    Part,
    Slot,
    SlotNote,
    WentBack,
    arm,
    boot,
    confirm,
    give_up,
    note_well,
    reported,
)

A, B = frozenset({("app", Slot.A)}), frozenset({("app", Slot.B)})
BOTH = A | B
OLD = SlotNote(100, "a" * 64, "2.4.0", 4, proven=True)
NEW = SlotNote(100, "b" * 64, "2.5.0", 4)


def two_slots(**notes: SlotNote) -> BootRecord:
    return BootRecord({"app": Part(notes={Slot(name): note for name, note in notes.items()})}, floor=4)


def runs(slot: Slot, *, on_trial: bool = False) -> Boot:
    return Boot({"app": slot}, on_trial=on_trial)


MADE = two_slots(a=OLD, b=NEW)


def test_a_trial_that_confirms_stays() -> None:
    record, chosen = boot(arm(MADE, ["app"]), Cause.ORDER, BOTH)
    assert chosen == runs(Slot.B, on_trial=True)
    record, chosen = boot(confirm(record), Cause.POWER, BOTH)
    assert chosen == runs(Slot.B)
    assert record.boots == 2


@pytest.mark.parametrize(("cause", "why"), [(Cause.CRASH, "crashed"), (Cause.HANG, "hung")])
def test_a_crash_or_hang_on_trial_goes_back_at_once(cause: Cause, why: str) -> None:
    record, _ = boot(arm(MADE, ["app"]), Cause.ORDER, BOTH)
    record, chosen = boot(record, cause, BOTH)
    assert chosen == runs(Slot.A)
    assert record.went_back == why
    assert reported(record).went_back is None


def test_plain_power_losses_on_trial_are_forgiven_for_a_while() -> None:
    record = arm(MADE, ["app"])
    for _ in range(TRIAL_BOOTS):
        record, chosen = boot(record, Cause.POWER, BOTH)
        assert chosen.on_trial
    record, chosen = boot(record, Cause.POWER, BOTH)
    assert chosen == runs(Slot.A)
    assert record.went_back is WentBack.POWER_LOST


def test_firmware_that_gives_up_says_why() -> None:
    record, _ = boot(arm(MADE, ["app"]), Cause.ORDER, BOTH)
    record, chosen = boot(give_up(record, WentBack.SELF_TEST_FAILED), Cause.GIVE_UP, BOTH)
    assert (chosen, record.went_back) == (runs(Slot.A), WentBack.SELF_TEST_FAILED)
    assert give_up(MADE, WentBack.HUNG) == MADE, "without a trial there is nothing to give up"


def test_a_damaged_slot_is_never_tried() -> None:
    record, chosen = boot(arm(MADE, ["app"]), Cause.ORDER, A)
    assert chosen == runs(Slot.A)
    assert record.went_back is WentBack.CRASHED


def test_early_resets_in_a_row_fall_back_even_after_confirming() -> None:
    record, _ = boot(arm(MADE, ["app"]), Cause.ORDER, BOTH)
    record = confirm(record)
    for _ in range(EARLY_RESETS - 1):
        record, chosen = boot(record, Cause.CRASH, BOTH)
        assert chosen.slot is Slot.B
    well = note_well(record)
    assert boot(well, Cause.CRASH, BOTH)[1].slot is Slot.B, "a quiet spell starts the count anew"
    record, chosen = boot(record, Cause.CRASH, BOTH)
    assert chosen.slot is Slot.A and record.fell_back


def test_the_floor_number_rises_on_confirming_and_bars_the_way_back() -> None:
    raised = two_slots(a=OLD, b=replace(NEW, floor=9))
    record, _ = boot(arm(raised, ["app"]), Cause.ORDER, BOTH)
    assert record.floor == 4
    record = replace(confirm(record), early_resets=EARLY_RESETS)
    assert record.floor == 9
    assert boot(record, Cause.CRASH, BOTH, recovery=True)[1] == Boot(recovery=True)
    assert boot(record, Cause.CRASH, BOTH)[1] == runs(Slot.B), "without a recovery image the last good one goes on"


def test_nothing_valid_means_recovery_or_nothing() -> None:
    assert boot(MADE, Cause.POWER, frozenset(), recovery=True)[1] == Boot(recovery=True)
    assert boot(MADE, Cause.POWER, frozenset())[1] == Boot()


PAIR = BootRecord(
    {"app": Part(notes={Slot.A: OLD, Slot.B: NEW}), "radio": Part(notes={Slot.A: OLD, Slot.B: NEW})}, floor=4
)
ALL = frozenset((name, slot) for name in ("app", "radio") for slot in Slot)


def test_components_switch_together_and_go_back_together() -> None:
    record, chosen = boot(arm(PAIR, ["app", "radio"]), Cause.ORDER, ALL)
    assert chosen.slots == {"app": Slot.B, "radio": Slot.B}
    back, chosen = boot(record, Cause.CRASH, ALL)
    assert chosen.slots == {"app": Slot.A, "radio": Slot.A} and back.went_back == "crashed"
    _, chosen = boot(arm(PAIR, ["app", "radio"]), Cause.ORDER, ALL - {("radio", Slot.B)})
    assert chosen.slots == {"app": Slot.A, "radio": Slot.A}, "one damaged image bars the switch of all"
    record = replace(confirm(record), early_resets=EARLY_RESETS)
    record, chosen = boot(record, Cause.CRASH, ALL)
    assert chosen.slots == {"app": Slot.A, "radio": Slot.A} and record.fell_back
    record, chosen = boot(arm(PAIR, ["radio"]), Cause.ORDER, ALL)
    assert chosen.slots == {"app": Slot.A, "radio": Slot.B}, "one component alone"


def test_what_failed_its_trial_is_never_fallen_back_to() -> None:
    record, _ = boot(arm(MADE, ["app"]), Cause.ORDER, BOTH)
    record, _ = boot(record, Cause.CRASH, BOTH)
    record = replace(record, early_resets=EARLY_RESETS)
    assert boot(record, Cause.CRASH, BOTH)[1] == runs(Slot.A)
    assert boot(record, Cause.CRASH, BOTH, recovery=True)[1] == Boot(recovery=True)


def test_an_image_in_place_that_fails_leaves_only_recovery() -> None:
    part = Part(notes={Slot.A: NEW}, in_place=True)
    record, chosen = boot(replace(BootRecord({"app": part}), trial=("app",)), Cause.ORDER, A)
    assert chosen == runs(Slot.A, on_trial=True)
    failed, chosen = boot(record, Cause.CRASH, A, recovery=True)
    assert chosen == Boot(recovery=True) and failed.went_back == "crashed"
    assert boot(record, Cause.CRASH, A)[1] == runs(Slot.A), "without one it goes on trying"
    assert boot(confirm(record), Cause.POWER, A, recovery=True)[1] == runs(Slot.A)


class AnyLife(RuleBasedStateMachine):
    """Arms, confirms, crashes and cuts power in any order: a confirmed image is always there to run."""

    @initialize()
    def made(self) -> None:
        self.record, self.chosen = boot(MADE, Cause.POWER, BOTH)

    @precondition(lambda self: not self.chosen.on_trial)
    @rule(floor=st.integers(4, 6))
    def stage_and_switch(self, floor: int) -> None:
        assert self.chosen.slot is not None
        if floor < self.record.floor:
            return  # such an image is refused before it is staged
        part = self.record.parts["app"].noted(self.chosen.slot.other, replace(NEW, floor=floor))
        self.record, self.chosen = boot(arm(self.record.with_part("app", part), ["app"]), Cause.ORDER, BOTH)

    @precondition(lambda self: self.chosen.on_trial)
    @rule()
    def confirms(self) -> None:
        self.record = confirm(self.record)
        self.chosen = Boot(self.chosen.slots)

    @precondition(lambda self: self.chosen.on_trial)
    @rule(why=st.sampled_from([WentBack.SELF_TEST_FAILED, WentBack.NO_CONTACT]))
    def gives_up(self, why: WentBack) -> None:
        self.record, self.chosen = boot(give_up(self.record, why), Cause.GIVE_UP, BOTH)
        assert not self.chosen.on_trial and self.record.went_back is why

    @rule(cause=st.sampled_from([Cause.POWER, Cause.CRASH, Cause.HANG]))
    def restarts(self, cause: Cause) -> None:
        self.record, self.chosen = boot(self.record, cause, BOTH)

    @rule()
    def runs_well(self) -> None:
        self.record = note_well(self.record)

    @invariant()
    def holds(self) -> None:
        if not hasattr(self, "chosen"):
            return
        assert self.chosen.slot is not None, "some slot always runs"
        assert self.chosen.on_trial == bool(self.record.trial)
        if not self.chosen.on_trial:
            part = self.record.parts["app"]
            assert self.chosen.slot is part.active
            assert part.notes[part.active].floor >= self.record.floor and part.notes[part.active].proven
        assert self.record.trial_boots <= TRIAL_BOOTS


AnyLife.TestCase.settings = settings(max_examples=200, stateful_step_count=40)
TestAnyLife = AnyLife.TestCase
