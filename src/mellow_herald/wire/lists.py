"""Lists of devices by serial."""

from mellow_herald.wire.inventory import Refusal
from mellow_herald.wire.model import Shown, Time


class ListOut(Shown):
    """A list of devices. ``target`` is the selector that picks them; ``counts`` tells how many of its lines say
    something to be looked at, by kind, ``remarks`` the first thousand of them: ``unknown``, ``doubled``,
    ``not-admitted``, ``wrong-board`` or ``wrong-line``."""

    id: int
    target: str
    devices: int
    added_at: Time
    added_by: str
    counts: dict[str, int] = {}
    remarks: list[Refusal] = []


class ListDetail(ListOut):
    """A list with its serials."""

    serials: list[str]
