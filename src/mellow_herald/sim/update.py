"""An update on the device's own flash: from a verified manifest to parts that the boot loader may try. No network.

Every step can lose power; what stands then is found again by the notes in the boot record, never by memory.
"""

from collections.abc import Mapping, Sequence

from mellow_herald.core.board import slot_words
from mellow_herald.core.component import Kind, kind_of
from mellow_herald.core.suit import Component, Manifest, switch_order
from mellow_herald.sim.bootloader import APP, Boot, Slot, SlotNote, arm
from mellow_herald.sim.hardware import Hardware


class GivenUp(Exception):
    """The update cannot be done; the device goes on with what it runs."""

    def __init__(self, reason: str, detail: str, component: str | None = None) -> None:
        super().__init__(detail)
        self.reason, self.detail, self.component = reason, detail, component


def standby(hardware: Hardware, name: str, boot: Boot) -> Slot:
    """Where the next image of a part goes: never into what runs. In recovery nothing of the parts runs."""
    part = hardware.record.parts[name]
    if part.in_place:
        return Slot.B
    return boot.slots[name].other if name in boot.slots else part.standby


def choose(hardware: Hardware, manifest: Manifest, boot: Boot) -> list[Component]:
    """The images of a release that this device is to stage, in the order of switching.

    A part that runs its image already is left out, unless that is so of all of them: then they are wanted again.
    Raises ``GivenUp`` for a component that the device has no room for.
    """
    record, chosen = hardware.record, []
    names = [name for group in switch_order(manifest.components) for name in group]
    for name in names:
        if name not in record.parts:
            raise GivenUp("refused-by-device", f"the release carries {name}, for which this device has no part", name)
        slot = standby(hardware, name, boot)
        # What an image in place is linked for is the slot it will run from.
        place = Slot.A if record.parts[name].in_place else slot
        component = manifest.for_slot(name, list(Slot).index(place))
        if component is None:
            raise GivenUp("refused-by-device", f"the release carries no image of {name} for {slot_words(place)}", name)
        if component.size > hardware.layout.parts[name].size:
            room = hardware.layout.parts[name].size
            raise GivenUp("no-room", f"{component.size} bytes do not fit a slot of {room}", name)
        chosen.append(component)
    missing = [one for one in chosen if not _runs(hardware, one, boot)]
    return missing or chosen


def _runs(hardware: Hardware, component: Component, boot: Boot) -> bool:
    slot = boot.slots.get(component.name)
    note = None if slot is None else hardware.record.note(component.name, slot)
    return note is not None and note.digest == component.digest


def staged(hardware: Hardware, component: Component, boot: Boot) -> bool:
    """Whether an image stands verified in the standby slot."""
    note = hardware.record.note(component.name, standby(hardware, component.name, boot))
    return note is not None and note.digest == component.digest


def groups_of(names: Sequence[str], after: Mapping[str, Sequence[str]]) -> list[list[str]]:
    """The parts to switch, those of a group side by side; what need not be switched keeps nobody waiting."""
    groups: list[list[str]] = []
    waiting = list(names)
    while waiting:
        # What comes after something that comes after these waits as well, even if that one in the middle is left out.
        group = [name for name in waiting if not _before(name, after) & set(waiting)]
        groups.append(group)
        waiting = [name for name in waiting if name not in group]
    return groups


def _before(name: str, after: Mapping[str, Sequence[str]]) -> set[str]:
    found: set[str] = set()
    looking = [name]
    while looking:
        more = set(after.get(looking.pop(), ())) - found
        found |= more
        looking += more
    return found


def switch(hardware: Hardware, groups: Sequence[Sequence[str]]) -> None:
    """Tells the boot loader to try what stands by in the parts of the first group; the others join them later."""
    hardware.record = arm(hardware.record, groups[0], groups[1:])


class Staging:
    """One image on its way into a standby slot."""

    def __init__(self, hardware: Hardware, component: Component, floor: int, signed_by: str, boot: Boot) -> None:
        self._hardware, self._component, self._floor, self._signed_by = hardware, component, floor, signed_by
        self._slot = standby(hardware, component.name, boot)
        self._at = hardware.slot_at(component.name, self._slot)
        self.have = 0

    @property
    def percent(self) -> int:
        """How much is there, in %."""
        return 100 * self.have // self._component.size

    def erase(self) -> None:
        """Makes room."""
        self._hardware.erase_slot(self._component.name, self._slot)

    def take(self, data: bytes) -> None:
        """Writes the next bytes."""
        if self.have + len(data) > self._component.size:
            raise GivenUp("digest-mismatch", "more bytes came than the manifest says", self._component.name)
        self._hardware.flash.write(self._at + self.have, data)
        self.have += len(data)

    def verify(self) -> None:
        """Reads back what stands in the flash and notes it, if it is what the manifest says."""
        one = self._component
        if self._hardware.digest_of(one.name, self._slot, one.size) != one.digest:
            raise GivenUp("digest-mismatch", "what stands in the flash is not what the manifest says", one.name)
        note = SlotNote(one.size, one.digest, one.version, self._floor, signed_by=self._signed_by)
        self._hardware.note_slot(one.name, self._slot, note)


def way_back(hardware: Hardware, boot: Boot, parts: Sequence[str] | None, to: Mapping[str, str]) -> list[str]:
    """The parts to switch back together: those that are named, to what is named; otherwise those of the last switch.
    Raises ``GivenUp`` where one of them may not run again: it is not what was named, it never proved itself here, its
    floor number is too low, or it has no slot of its own."""
    record = hardware.record
    names = list(parts or (record.last_set if APP in record.last_set else [APP]))
    for name in names:
        note = record.note(name, standby(hardware, name, boot)) if name in record.parts else None
        if note is None or record.parts[name].in_place or not note.proven or to.get(name, note.digest) != note.digest:
            raise GivenUp("refused-by-device", f"the other slot of {name} holds nothing that once ran here", name)
        # What is kept at a place has no floor number of its own.
        if kind_of(name) is Kind.FIRMWARE and note.floor < record.floor:
            detail = f"{name} stands at floor number {note.floor}, and the device is at {record.floor}"
            raise GivenUp("refused-by-device", detail, name)
    return names


def settled_as(hardware: Hardware, wanted: dict[str, list[str]], boot: Boot) -> bool:
    """Whether what was to be switched to is what runs now; ``wanted`` is {component: [slot, digest]}."""
    for name, (slot, digest) in wanted.items():
        runs = boot.slots.get(name)
        note = None if runs is None else hardware.record.note(name, runs)
        if runs is None or runs.value != slot or note is None or note.digest != digest:
            return False
    return True


def wanted_by(hardware: Hardware, components: Sequence[str], boot: Boot) -> dict[str, list[str]]:
    """What will run after a switch of these components: {component: [slot, digest]}."""
    wanted = {}
    for name in components:
        slot = standby(hardware, name, boot)
        note = hardware.record.note(name, slot)
        if note is None:
            raise GivenUp("flash-error", f"nothing verified stands by for {name}", name)
        wanted[name] = [(Slot.A if hardware.record.parts[name].in_place else slot).value, note.digest]
    return wanted
