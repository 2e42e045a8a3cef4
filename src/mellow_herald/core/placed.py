"""What a release brings besides firmware: files, settings and certificates, each for a place on the device."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from mellow_herald.core.certificate import read_chain
from mellow_herald.core.component import Kind, check_place, component_name
from mellow_herald.core.firmware import Image, Scanned, portions, scan
from mellow_herald.core.nameplate import Nameplate
from mellow_herald.core.refusal import Refused
from mellow_herald.core.settings import canonical, read_settings


@dataclass(frozen=True, slots=True)
class Belongs:
    """The release that something is a part of: its line and board, version and floor number."""

    line: str
    board: str
    version: str
    floor: int


def placed_image(
    kind: Kind, place: str, belongs: Belongs, scanned: Scanned, pieces: Callable[[], Iterator[bytes]]
) -> Image:
    """What is brought to a place, as a release carries it; it has no nameplate, its values are stated."""
    name = component_name(kind, check_place(place))
    if not scanned.size:
        raise Refused("empty-file", f"what is for {name} is empty.", "Pass the file you mean.")
    plate = Nameplate(belongs.line, belongs.board, name, belongs.version, belongs.floor)
    return Image(pieces, scanned.digest, scanned.size, plate, False, scanned)


def placed_bytes(kind: Kind, place: str, belongs: Belongs, data: bytes) -> Image:
    """The same of bytes: settings in their one form, a certificate as it is; raises ``Refused`` for what is neither."""
    if kind is Kind.SETTINGS:
        data = canonical(read_settings(data))
    elif kind is Kind.CERTIFICATE:
        read_chain(data)
    return placed_image(kind, place, belongs, scan(portions(data)), lambda: portions(data))
