"""What must not leave the desk inside an image: a private key, an enrolment code, a token.

``LeakFinder`` looks for what has their shape, in bytes that come in pieces. Whether a code or a token is a real one
only the service can tell; it gets the text for that, and nobody else: it stands in no message and no ``repr``.
"""

import re
from dataclasses import dataclass, field
from enum import StrEnum

# No shape below is longer, so whatever begins in the bytes that are kept is whole in the next search.
LONGEST = 160
MOST = 64


class LeakKind(StrEnum):
    """What was found."""

    PRIVATE_KEY = "private-key"
    PERSON_TOKEN = "access-token"
    DEVICE_TOKEN = "device-token"
    ENROLMENT_CODE = "enrolment-code"


NAMES = {
    LeakKind.PRIVATE_KEY: "a private key (PEM)",
    LeakKind.PERSON_TOKEN: "an access token",
    LeakKind.DEVICE_TOKEN: "a device's token",
    LeakKind.ENROLMENT_CODE: "an enrolment code",
}

# A parser of keys holds the first line alone, so a key's first letters must follow it, or a header of an encrypted one.
_SHAPES = (
    (
        LeakKind.PRIVATE_KEY,
        re.compile(rb"-----BEGIN [A-Z0-9 ]{0,24}PRIVATE KEY-----[\\rn\s]{1,4}(?:[A-Za-z0-9+/]{16}|Proc-Type|Comment)"),
    ),
    (LeakKind.PERSON_TOKEN, re.compile(rb"(?<![\w-])mht_[\w-]{43}(?![\w-])", re.ASCII)),
    (LeakKind.DEVICE_TOKEN, re.compile(rb"(?<!\w)mh1\.\d{1,19}\.\d{1,10}\.\d{1,10}\.[\w-]{43}(?![\w-])", re.ASCII)),
    (LeakKind.ENROLMENT_CODE, re.compile(rb"(?<![\w-])[0-9a-f]{6}(?:-[0-9a-f]{6}){3}(?![\w-])", re.ASCII)),
)


@dataclass(frozen=True, slots=True)
class Leak:
    """Something of a secret's shape at ``offset`` of the image. ``text`` is for the look-up alone."""

    kind: LeakKind
    offset: int
    text: str = field(repr=False, default="")

    @property
    def description(self) -> str:
        """What it is and where, without the thing itself."""
        return f"{NAMES[self.kind]} at offset {self.offset} ({self.offset:#x})"


class LeakFinder:
    """Finds leaks in bytes that come in pieces of any size; ``feed`` them, then ``close``. Keeps at most 64."""

    def __init__(self) -> None:
        self._kept = b""
        self._offset = 0  # of the first kept byte
        self._found: dict[int, Leak] = {}

    def feed(self, piece: bytes) -> None:
        """Takes the next bytes."""
        data = self._kept + piece
        # What stands in the last bytes may not be whole yet: it is looked at with the next piece.
        self._search(data, max(0, len(data) - LONGEST))
        # One byte more, so that a shape knows what stood before it.
        keep_from = max(0, len(data) - LONGEST - 1)
        self._kept, self._offset = data[keep_from:], self._offset + keep_from

    def close(self) -> tuple[Leak, ...]:
        """What was found, by offset."""
        self._search(self._kept, len(self._kept))
        return tuple(self._found[at] for at in sorted(self._found))

    def _search(self, data: bytes, before: int) -> None:
        for kind, shape in _SHAPES:
            for match in shape.finditer(data):
                at = self._offset + match.start()
                if match.start() < before and len(self._found) < MOST:
                    text = "" if kind is LeakKind.PRIVATE_KEY else match.group().decode("ascii")
                    self._found.setdefault(at, Leak(kind, at, text))
