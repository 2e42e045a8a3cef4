"""What a simulated device finds in the image it runs: its nameplate, and what it gets wrong on this device."""

import hashlib
from dataclasses import dataclass

from mellow_herald.core.behaviour import Fault, faults_of, find_behaviour
from mellow_herald.core.nameplate import Nameplate, find_nameplate
from mellow_herald.core.order import NAMES_IMAGES
from mellow_herald.core.selector.match import Facts

SELF_TESTS = ("clock", "flash", "link", "load-cell")


@dataclass(frozen=True, slots=True)
class Firmware:
    """A running image: its digest, its nameplate if it has one, and the faults that show here."""

    digest: str
    plate: Nameplate | None
    faults: frozenset[Fault]

    @property
    def version(self) -> str:
        """The version on the nameplate, empty without one."""
        return self.plate.version if self.plate else ""

    @property
    def updater(self) -> int:
        """The updater's protocol number; 0 where the image cannot update itself or speak to the service."""
        if Fault.NO_UPDATER in self.faults:
            return 0
        return self.plate.updater if self.plate else 1

    @property
    def names_images(self) -> bool:
        """Whether its updater says what runs on trial, names what it vouches for, and is told what to switch to."""
        return self.updater >= NAMES_IMAGES

    def self_tests(self) -> list[dict[str, object]]:
        """The results of the self-tests on trial."""
        failing = Fault.FAIL_SELF_TEST in self.faults
        return [
            {
                "name": name,
                "passed": not (failing and name == "load-cell"),
                "detail": "reads 0 counts" if failing and name == "load-cell" else "",
            }
            for name in SELF_TESTS
        ]


def read_firmware(image: bytes, facts: Facts, seed: int) -> Firmware:
    """Reads an image's own bytes. ``facts`` are the device's; its version is added from the nameplate."""
    digest, plate = hashlib.sha256(image).hexdigest(), find_nameplate(image)
    facts = {**facts, "version": plate.version if plate else None}
    return Firmware(digest, plate, faults_of(find_behaviour(image), facts, digest, seed))
