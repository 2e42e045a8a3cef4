"""A board as publishing and placement see it: its slots, and where its code may run."""

from dataclasses import dataclass
from enum import StrEnum

from mellow_herald.core.firmware import APP

RECOVERY = "recovery"


@dataclass(frozen=True, slots=True)
class BoardSlot:
    """A place for images of one component: ``size`` in bytes, ``address`` where it is linked to run, if said."""

    name: str
    size: int
    address: int | None = None
    component: str = APP


class Runs(StrEnum):
    """Where a board's code may stand and run. ``MAPPED``: it is linked for one address, at which the boot loader maps
    whichever slot it starts."""

    ANYWHERE = "anywhere"
    WHERE_LINKED = "where-linked"
    MAPPED = "mapped"


@dataclass(frozen=True, slots=True)
class BoardFacts:
    """What must be known of a board. ``run_address`` is where ``app`` of a mapped board is linked for."""

    name: str
    vendor_domain: str
    lines: tuple[str, ...]
    hw_revs: tuple[int, ...]
    slots: tuple[BoardSlot, ...]
    runs: Runs = Runs.ANYWHERE
    run_address: int | None = None

    def slots_of(self, component: str) -> tuple[BoardSlot, ...]:
        """The slots of a component, in order; their index is the number an image is linked for."""
        return tuple(slot for slot in self.slots if slot.component == component)

    @property
    def in_place(self) -> frozenset[str]:
        """The components with a single slot: they are updated in place."""
        names = [slot.component for slot in self.slots]
        return frozenset(name for name in names if names.count(name) == 1)


def slot_words(slot: str | None) -> str:
    """A slot as a device names it, in words."""
    return {None: "no slot", RECOVERY: "the recovery image"}.get(slot, f"slot {slot}")


def image_words(component: str, slot: int | None, board: BoardFacts | None) -> str:
    """An image in words: its component and, where it is linked for one slot, that slot by its name on the board."""
    if slot is None:
        return component
    slots = board.slots_of(component) if board else ()
    return f"{component} for slot {slots[slot].name if slot < len(slots) else f'number {slot + 1}'}"
