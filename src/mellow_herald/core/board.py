"""A board as publishing and placement see it: its slots, its components, and where its code may run."""

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from mellow_herald.core.component import Kind, Storage, kind_of
from mellow_herald.core.firmware import APP

RECOVERY = "recovery"
# What a device names as the slot of a streamed part that is in pieces: neither the new image nor the old.
BROKEN = "broken"


@dataclass(frozen=True, slots=True)
class BoardSlot:
    """A place for images of one component: ``size`` in bytes, ``address`` where it is linked to run, if said."""

    name: str
    size: int
    address: int | None = None
    component: str = APP


@dataclass(frozen=True, slots=True)
class BoardComponent:
    """What a board's file says of a component by its ``name`` (``radio``, ``settings/main``).

    ``storage`` is that of firmware. What has a place has room for ``size`` bytes, at ``address`` in the flash, if that
    is said: then no image may cover it. ``schema`` is a JSON Schema of settings, ``action`` what a device does after it
    took a file into use, ``trusted`` PEM certificates in which a chain must end.
    """

    name: str
    storage: Storage | None = None
    size: int = 0
    address: int | None = None
    schema: Mapping[str, Any] | None = None
    action: str | None = None
    trusted: str | None = None

    @property
    def kind(self) -> Kind:
        """What it is."""
        return kind_of(self.name)


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
    components: tuple[BoardComponent, ...] = ()

    def slots_of(self, component: str) -> tuple[BoardSlot, ...]:
        """The slots of a component, in order; their index is the number an image is linked for."""
        return tuple(slot for slot in self.slots if slot.component == component)

    @property
    def in_place(self) -> frozenset[str]:
        """The components that are updated in place, with no way back without a download."""
        return frozenset(s.component for s in self.slots if self.storage_of(s.component) is Storage.IN_PLACE)

    def component(self, name: str) -> BoardComponent | None:
        """What the board's file says of a component, if it does."""
        return next((one for one in self.components if one.name == name), None)

    def storage_of(self, name: str) -> Storage:
        """How firmware is stored: as the board's file says, or else as its slots show."""
        said = self.component(name)
        if said is not None and said.storage is not None:
            return said.storage
        return Storage.IN_PLACE if len(self.slots_of(name)) == 1 else Storage.TWO_SLOTS

    @property
    def places(self) -> tuple[BoardComponent, ...]:
        """What has a place on the board."""
        return tuple(one for one in self.components if one.kind is not Kind.FIRMWARE)


def slot_words(slot: str | None) -> str:
    """A slot as a device names it, in words."""
    return {None: "no slot", RECOVERY: "the recovery image", BROKEN: "pieces"}.get(slot, f"slot {slot}")


def image_words(component: str, slot: int | None, board: BoardFacts | None) -> str:
    """An image in words: its component and, where it is linked for one slot, that slot by its name on the board."""
    if slot is None:
        return component
    slots = board.slots_of(component) if board else ()
    return f"{component} for slot {slots[slot].name if slot < len(slots) else f'number {slot + 1}'}"
