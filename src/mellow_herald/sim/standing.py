"""What counts on a device at the moment, for all who work on one boot of it."""

from collections.abc import Mapping

from mellow_herald.sim.bootloader import Boot, Slot
from mellow_herald.sim.firmware import Firmware
from mellow_herald.sim.hardware import Hardware


class Standing:
    """``boot`` says which slot of each part counts, ``firmware`` what runs as ``app``; ``broken`` are streamed parts
    whose controller has neither file whole."""

    def __init__(self, hardware: Hardware) -> None:
        self._hardware = hardware
        self.boot = Boot()
        self.firmware = Firmware("", None, frozenset())
        self.broken: frozenset[str] = frozenset()

    def starts(self, boot: Boot, firmware: Firmware) -> None:
        """A new boot."""
        self.boot, self.firmware = boot, firmware
        self.look_at_controllers()

    def counts(self, slots: Mapping[str, Slot], *, on_trial: bool) -> None:
        """Without a restart other slots count from now on."""
        self.boot = Boot(slots, on_trial=on_trial)
        self.look_at_controllers()

    def look_at_controllers(self) -> None:
        """Reads what the controllers of streamed parts really have."""
        self.broken = frozenset(self.to_stream())

    def to_stream(self) -> list[str]:
        """The streamed parts whose controller does not have what counts."""
        parts = self._hardware.layout.parts
        streamed = [name for name, part in parts.items() if part.streamed and name in self.boot.slots]
        return [name for name in streamed if not self._hardware.controller_has(name, self.boot.slots[name])]
