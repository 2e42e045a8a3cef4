"""Firmware files: from what a build left on disk to the image that will stand in a slot."""

from dataclasses import dataclass

from mellow_herald.core.digest import sha256_hex
from mellow_herald.core.nameplate import Nameplate, find_nameplate
from mellow_herald.core.refusal import Refused

STATED_FIELDS = ("line", "board", "component", "version", "floor", "updater", "hw_rev_min", "hw_rev_max")


@dataclass(frozen=True, slots=True)
class Image:
    """One component's firmware: its bytes, and what is known about them.

    ``read`` tells whether the nameplate stood in the image (read) or was given by the engineer (stated).
    """

    data: bytes
    digest: str
    nameplate: Nameplate
    read: bool

    @property
    def size(self) -> int:
        """Length in bytes."""
        return len(self.data)


def load_image(data: bytes, **stated: str | int) -> Image:
    """Makes an image of a raw binary; ``stated`` are nameplate values given by the engineer.

    Raises ``Refused`` for an empty or blank file, for values that are missing, and for values that contradict
    the nameplate in the file.
    """
    if not data:
        raise Refused("empty-image", "the file is empty.", "Check that the build finished and pass its output.")
    if data.count(0xFF) == len(data) or data.count(0) == len(data):
        raise Refused("blank-image", f"all {len(data)} bytes of the file are blank.", "Pass the output of the build.")
    given = {name: value for name, value in stated.items() if value is not None}
    plate = find_nameplate(data)
    if plate is not None:
        for name, value in given.items():
            if getattr(plate, name) != value:
                raise Refused(
                    "nameplate-contradicts",
                    f"{name} was stated as {value!r}, the nameplate in the file says {getattr(plate, name)!r}.",
                    "One of the two is wrong: build the file you mean, or leave the option out.",
                )
        return Image(data, sha256_hex(data), plate, read=True)
    missing = [name for name in ("line", "board", "version", "floor") if name not in given]
    if missing:
        raise Refused(
            "no-nameplate",
            f"the file holds no nameplate, and {', '.join(missing)} was not stated.",
            "Link a nameplate into the firmware, or state the values with options.",
        )
    values = {"component": "app", **given}
    return Image(data, sha256_hex(data), Nameplate(**values), read=False)  # type: ignore[arg-type]
