"""From a firmware file and a key to the bytes of a release file, on the engineer's own machine."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from mellow_herald.core.firmware import Image, load_image
from mellow_herald.core.keys import private_from_pem
from mellow_herald.core.manifest import Manifest
from mellow_herald.core.nameplate import find_nameplate
from mellow_herald.core.refusal import Refused
from mellow_herald.core.seal import describe, seal
from mellow_herald.wire.board import BoardOut

Progress = Callable[[int], None]


@dataclass(frozen=True, slots=True)
class SealedRelease:
    """A release file about to be sent: its length (bytes) and its bytes in portions."""

    image: Image
    manifest: Manifest
    length: int
    portions: Iterator[bytes]


def read_file(path: Path, what: str) -> bytes:
    """Reads a file; raises ``Refused`` if that cannot be done."""
    try:
        return path.read_bytes()
    except OSError as error:
        raise Refused("no-file", f"{what} {path} cannot be read ({error.strerror}).") from None


def load_key(path: Path) -> Ed25519PrivateKey:
    """Reads a private signing key."""
    return private_from_pem(read_file(path, "the key file"))


def seal_file(
    path: Path, key: Ed25519PrivateKey, vendor_domain: str, *, description: str = "", **stated: Any
) -> SealedRelease:
    """Seals one image; ``stated`` are nameplate values for an image without one. Raises ``Refused``."""
    image = load_image(read_file(path, "the firmware file"), **stated)
    manifest = describe([image], vendor_domain, description)
    length, portions = seal([image], manifest, key)
    return SealedRelease(image, manifest, length, portions)


def vendor_of(boards: Sequence[BoardOut], path: Path, stated_board: str | None) -> str:
    """The vendor domain of the board that the image in ``path`` is for."""
    plate = None if stated_board else find_nameplate(read_file(path, "the firmware file"))
    name = stated_board or (plate.board if plate else None)
    for board in boards:
        if board.name == name:
            return board.vendor_domain
    if name is None:
        raise Refused("no-nameplate", f"{path.name} holds no nameplate and no board was stated.", "State --board.")
    raise Refused("unknown-board", f"there is no board {name!r}.", "Add it first with `herald board add FILE`.")


def counted(portions: Iterator[bytes], progress: Progress | None) -> Iterator[bytes]:
    """The portions; ``progress`` is told after each how many bytes went out so far."""
    sent = 0
    for portion in portions:
        yield portion
        sent += len(portion)
        if progress is not None:
            progress(sent)
