"""Files, settings and certificates on the engineer's own machine, on their way into a release."""

import hashlib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from mellow_herald.core.component import Kind, component_name
from mellow_herald.core.digest import is_digest
from mellow_herald.core.firmware import PORTION, Image, scan
from mellow_herald.core.placed import Belongs, placed_bytes, placed_image
from mellow_herald.core.refusal import Refused
from mellow_herald.core.settings import canonical, read_settings

ANY = "any"
MUST_BE_KNOWN = ("line", "board", "version", "floor")


@dataclass(frozen=True, slots=True)
class Placed:
    """What is to be brought to a ``place``: its file, and for settings the ``base`` that they replace (``any``, a
    digest, or the file that the devices have now). ``version`` is its own, left out that of the release; ``after``
    names components that come before it."""

    kind: Kind
    place: str
    file: Path
    base: str | None = None
    version: str | None = None
    after: Sequence[str] = ()

    @property
    def name(self) -> str:
        """What the component is called."""
        return component_name(self.kind, self.place)

    @property
    def replaces(self) -> str | None:
        """The digest of the settings that it replaces, None for any; raises ``Refused`` where that was not said."""
        if self.kind is not Kind.SETTINGS or self.base == ANY:
            return None
        if self.base is None:
            raise Refused(
                "no-base",
                f"{self.name}: it is not said which settings these replace.",
                "Name with --base the file that the devices have now, or its SHA-256; or any, to replace whatever "
                "somebody changed meanwhile.",
            )
        if is_digest(self.base):
            return self.base
        return hashlib.sha256(canonical(read_settings(_read(Path(self.base))))).hexdigest()


def open_placed(given: Sequence[Placed], images: Sequence[Image], stated: Mapping[str, Any]) -> list[Image]:
    """What is for places, as the release carries it. Line, board and version are those of the firmware it comes with,
    or ``stated`` where it comes with none. Raises ``Refused``."""
    if not given:
        return []
    values = dict(stated)
    if images:
        plate = next((image.nameplate for image in images if image.nameplate.component == "app"), images[0].nameplate)
        values = {"line": plate.line, "board": plate.board, "version": plate.version, "floor": 0, **values}
    missing = [name for name in MUST_BE_KNOWN if values.get(name) is None]
    if missing:
        raise Refused(
            "not-said",
            f"a release without firmware has no nameplate, and {', '.join(missing)} was not stated.",
            "State them: " + " ".join(f"--{name} …" for name in missing),
        )
    belongs = Belongs(values["line"], values["board"], values["version"], values["floor"])
    twice = next((one.name for n, one in enumerate(given) if one.name in {other.name for other in given[:n]}), None)
    if twice is not None:
        raise Refused("two-files", f"{twice} is there twice.", "Name one file for each place.")
    return [_open(one, belongs) for one in given]


def _open(one: Placed, belongs: Belongs) -> Image:
    own = Belongs(belongs.line, belongs.board, one.version or belongs.version, belongs.floor)
    try:
        if one.kind is Kind.FILE:
            _read(one.file, 0)
            return placed_image(one.kind, one.place, own, scan(_pieces(one.file)), lambda: _pieces(one.file))
        return placed_bytes(one.kind, one.place, own, _read(one.file))
    except Refused as refused:
        raise Refused(refused.kind, f"{one.file.name}: {refused.detail}", refused.mend) from None


def _read(path: Path, size: int = -1) -> bytes:
    try:
        with path.open("rb") as file:
            return file.read(size)
    except OSError as error:
        raise Refused("no-file", f"{path} cannot be read ({error.strerror}).") from None


def _pieces(path: Path) -> Iterator[bytes]:
    with path.open("rb") as file:
        while piece := file.read(PORTION):
            yield piece
