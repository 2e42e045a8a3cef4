"""Power is cut at any step of any life: a device with two slots always has a slot to boot (invariant 6)."""

import hashlib

from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from mellow_herald.core.behaviour import Behaviour, Fault, encode_behaviour
from mellow_herald.core.suit import Component
from mellow_herald.sim.bootloader import (
    APP,
    Boot,
    Cause,
    Slot,
    WentBack,
    confirm,
    give_up,
    join_next,
    note_well,
    reported,
)
from mellow_herald.sim.firmware import read_firmware
from mellow_herald.sim.flash import SECTOR, Flash, MemoryChip, PowerLost
from mellow_herald.sim.hardware import BLOCK, Hardware, Layout, PartLayout, make_chip
from mellow_herald.sim.update import Staging, settled_as, staged, switch, wanted_by
from tests.harness.firmware import BOARD, LINE, make_bytes

FACTS = {"serial": "TA-1", "board": BOARD, "line": LINE, "hw_rev": 1}
GOOD = [make_bytes(f"2.{minor}.0", size=(2 + minor) * SECTOR - 700) for minor in range(4)]
MUTE = make_bytes("2.9.0", size=3 * SECTOR) + encode_behaviour([Behaviour(f"line = {LINE}", Fault.NO_UPDATER)])
IMAGES = [*GOOD, MUTE]
KNOWN = {hashlib.sha256(data).hexdigest(): data for data in IMAGES}
PUMP, FILE = "pump", "file/sounds"
LAYOUT = Layout(
    {
        APP: PartLayout(8 * SECTOR),
        "radio": PartLayout(8 * SECTOR),
        PUMP: PartLayout(8 * SECTOR, streamed=True),
        FILE: PartLayout(8 * SECTOR),
    }
)
SETS = ((APP,), (APP, "radio"), (APP, PUMP, FILE), (PUMP,), (FILE,), (APP, "radio", PUMP, FILE))
CUTS = st.integers(0, 40)  # flash operations until power fails; 0: it does not


def component(name: str, image: bytes) -> Component:
    return Component(name, "2.0.0", hashlib.sha256(image).hexdigest(), len(image))


class AnyPowerCut(RuleBasedStateMachine):
    """A device that updates, proves itself, gives up and crashes, while somebody plays with the plug."""

    @initialize()
    def made(self) -> None:
        chip = MemoryChip(bytearray(b"\xff" * LAYOUT.chip_size))
        make_chip(chip, LAYOUT, dict.fromkeys(LAYOUT.parts, GOOD[0])).data = {"settings": 1}
        self.memory, self.left, self.floor, self.lost = chip.memory, 0, 0, 0
        self.hardware = Hardware(Flash(chip, self.supply))
        self.boot = Boot()
        self.started(Cause.POWER)

    def supply(self) -> bool:
        if self.left == 0:
            return True
        self.left -= 1
        return self.left > 0

    def started(self, cause: Cause) -> None:
        """Boots; power that fails while it does is switched on again."""
        while True:
            try:
                self.boot = self.hardware.start(cause)
            except PowerLost:
                cause = Cause.POWER
                continue
            return

    def under(self, cut: int, deed: object) -> None:
        """Does something with power that may fail."""
        self.left = cut
        try:
            deed()  # type: ignore[operator]
        except PowerLost:
            self.lost += 1
            self.left = 0
            self.started(Cause.POWER)
        self.left = 0

    def mute(self) -> bool:
        slot = self.boot.slot
        assert slot is not None
        return read_firmware(self.hardware.image(APP, slot), FACTS, 1).updater == 0

    @precondition(lambda self: not self.boot.on_trial and not self.mute())
    @rule(cut=CUTS, pick=st.integers(0, len(IMAGES) - 1), names=st.sampled_from(SETS), ordered=st.booleans())
    def updates(self, cut: int, pick: int, names: tuple[str, ...], ordered: bool) -> None:
        # What does not boot has no updater to lack.
        wanted = [component(name, IMAGES[pick] if name == APP else GOOD[pick % len(GOOD)]) for name in names]

        def update() -> None:
            for one in wanted:
                if not staged(self.hardware, one, self.boot):
                    staging = Staging(self.hardware, one, 0, "", self.boot)
                    staging.erase()
                    for at in range(0, one.size, BLOCK):
                        staging.take(KNOWN[one.digest][at : at + BLOCK])
                    staging.verify()
            promised = wanted_by(self.hardware, names, self.boot)
            switch(self.hardware, [[name] for name in names] if ordered else [names])
            self.started(Cause.ORDER)
            on_trial = {name: one for name, one in promised.items() if name in self.hardware.record.trial}
            assert not self.boot.on_trial or settled_as(self.hardware, on_trial, self.boot)

        self.under(cut, update)

    @precondition(lambda self: self.boot.on_trial)
    @rule(cut=CUTS)
    def streams_and_goes_on(self, cut: int) -> None:
        """The next group joins once what is on trial is in place; after the last one the firmware vouches for all."""

        def vouch() -> None:
            self.stream()
            if self.hardware.record.to_come:
                self.hardware.record = join_next(self.hardware.record)
                self.started(Cause.ORDER)
                return
            self.hardware.record = confirm(self.hardware.record)
            self.boot = Boot(self.boot.slots)

        self.under(cut, vouch)

    @precondition(lambda self: not self.boot.on_trial)
    @rule(cut=CUTS)
    def streams_back(self, cut: int) -> None:
        self.under(cut, self.stream)

    def stream(self) -> None:
        """Brings the controller to what counts, from the first block, as often as it takes."""
        slot = self.boot.slots[PUMP]
        if not self.hardware.controller_has(PUMP, slot):
            for number in range(self.hardware.blocks_of(PUMP, slot)):
                self.hardware.stream_block(PUMP, slot, number)
            assert self.hardware.controller_has(PUMP, slot)

    @precondition(lambda self: self.boot.on_trial and not self.mute())
    @rule(cut=st.integers(0, 6))
    def gives_up(self, cut: int) -> None:
        def surrender() -> None:
            self.hardware.record = give_up(self.hardware.record, WentBack.SELF_TEST_FAILED)
            self.started(Cause.GIVE_UP)

        self.under(cut, surrender)

    @rule(cut=st.integers(0, 6), cause=st.sampled_from([Cause.POWER, Cause.CRASH, Cause.HANG, Cause.BUTTON]))
    def restarts(self, cut: int, cause: Cause) -> None:
        self.under(cut, lambda: self.started(cause))

    @rule(cut=st.integers(0, 6))
    def runs_well_and_talks(self, cut: int) -> None:
        def talk() -> None:
            self.hardware.record = note_well(reported(self.hardware.record))
            self.hardware.keep(unsent=[1, 2, 3])

        self.under(cut, talk)

    @invariant()
    def always_boots_something_whole(self) -> None:
        if not hasattr(self, "memory"):
            return
        looking = Hardware(Flash(MemoryChip(bytearray(self.memory))))
        chosen = looking.start(Cause.POWER)
        assert set(chosen.slots) == set(LAYOUT.parts), "every part has a slot to boot"
        for name, slot in chosen.slots.items():
            assert hashlib.sha256(looking.image(name, slot)).hexdigest() in KNOWN
        if not looking.record.trial and not looking.record.last_set:
            assert all(slot is Slot.A for slot in chosen.slots.values()), "the set of parts is the old one"
        assert looking.data["settings"] == 1, "settings survive"

    def teardown(self) -> None:
        if hasattr(self, "boot") and self.boot.slot is not None and self.mute() and not self.boot.on_trial:
            # The image without an updater: it runs, and truthfully never says so to anybody.
            assert self.hardware.image(APP, self.boot.slot) == MUTE


AnyPowerCut.TestCase.settings = settings(max_examples=120, stateful_step_count=30, deadline=None)
TestAnyPowerCut = AnyPowerCut.TestCase
