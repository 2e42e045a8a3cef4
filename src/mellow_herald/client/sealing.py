"""From firmware files and a key to a release file, on the engineer's own machine."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, TypedDict

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from mellow_herald.client.images import open_firmware
from mellow_herald.client.placed import Placed, open_placed
from mellow_herald.client.release_bytes import Progress, counted
from mellow_herald.client.sheet import SheetImage, read_sheet
from mellow_herald.core.board import BoardFacts, BoardSlot, Runs
from mellow_herald.core.checks import check_release
from mellow_herald.core.component import Kind, kind_of
from mellow_herald.core.envelope import EnvelopeReader, Opened
from mellow_herald.core.firmware import PORTION, Image, for_slot
from mellow_herald.core.keys import private_from_pem
from mellow_herald.core.manifest import join_envelope, sign_manifest
from mellow_herald.core.refusal import Refused
from mellow_herald.core.release_name import parse_release_name
from mellow_herald.core.seal import describe, seal
from mellow_herald.core.suit import Manifest, encode_manifest, read_manifest
from mellow_herald.core.verdict import Allowed, Check, ChecksFailed, Reading, refused
from mellow_herald.wire.board import BoardIn, BoardOut
from mellow_herald.wire.release import ReleaseOut

RELEASE_FILE_START = b"\xd8\x6b"
SHEET_SUFFIX = ".toml"


@dataclass(frozen=True, slots=True)
class SealedRelease:
    """A release that was sealed here; ``checks`` are those that need no service."""

    images: tuple[Image, ...]
    manifest: Manifest
    key: Ed25519PrivateKey = field(repr=False)
    length: int
    labels: Mapping[str, str]
    checks: tuple[Check, ...]

    @property
    def envelope(self) -> bytes:
        """The signed envelope without the images."""
        body = encode_manifest(self.manifest)
        return join_envelope(sign_manifest(body, self.key), body)

    def portions(self) -> Iterator[bytes]:
        """The bytes of the release file; the same every time."""
        return seal(self.images, self.manifest, self.key)[1]

    def write(self, path: Path, progress: Progress | None = None) -> None:
        """Writes the release file; it stands under its name only once it is whole."""
        partly = path.with_name(path.name + ".part")
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            with partly.open("wb") as file:
                for portion in counted(self.portions(), progress):
                    file.write(portion)
            partly.replace(path)
        except OSError as error:
            raise Refused("no-file", f"{path} cannot be written ({error.strerror}).") from None
        finally:
            with suppress(OSError):
                partly.unlink()


@dataclass(frozen=True, slots=True)
class ReleaseFile:
    """A release file that was sealed elsewhere. Its signature is the service's to check."""

    path: Path
    manifest: Manifest
    length: int
    envelope: bytes = field(repr=False)
    labels: Mapping[str, str] = field(default_factory=dict)

    def portions(self) -> Iterator[bytes]:
        """The bytes of the file."""
        with self.path.open("rb") as file:
            while portion := file.read(PORTION):
                yield portion


def read_file(path: Path | str, what: str) -> bytes:
    """Reads a file; raises ``Refused`` if that cannot be done."""
    try:
        return Path(path).read_bytes()
    except OSError as error:
        raise Refused("no-file", f"{what} {path} cannot be read ({error.strerror}).") from None


def load_key(path: Path | str, passphrase: str | None = None) -> Ed25519PrivateKey:
    """Reads a private signing key."""
    return private_from_pem(read_file(path, "the key file"), passphrase)


def facts_of(board: BoardOut | BoardIn) -> BoardFacts:
    """A board as the checks see it."""
    slots = tuple(BoardSlot(slot.name, slot.size, slot.address, slot.component) for slot in board.slots)
    return BoardFacts(
        board.name,
        board.vendor_domain,
        tuple(board.lines),
        tuple(board.hw_revs),
        slots,
        board.runs,
        board.run_address,
        tuple(one.facts for one in board.components),
    )


def single(files: Path | str | Sequence[Path | str]) -> Path | None:
    """The only file there is, None if there are several."""
    given = [files] if isinstance(files, Path | str) else list(files)
    return Path(given[0]) if len(given) == 1 else None


def as_paths(files: Path | str | Sequence[Path | str]) -> list[Path]:
    """Files as paths."""
    return [Path(files)] if isinstance(files, Path | str) else [Path(file) for file in files]


def is_release_file(path: Path) -> bool:
    """Whether a file begins as a release file does."""
    try:
        with path.open("rb") as file:
            return file.read(2) == RELEASE_FILE_START
    except OSError:
        return False


def open_release_file(path: Path) -> ReleaseFile:
    """Reads the manifest at the beginning of a release file; raises ``Refused`` if there is none."""
    reader = EnvelopeReader()
    try:
        with path.open("rb") as file:
            while piece := file.read(4096):
                for event in reader.feed(piece):
                    if isinstance(event, Opened):
                        envelope = join_envelope(event.authentication, event.manifest)
                        return ReleaseFile(path, read_manifest(event.manifest), path.stat().st_size, envelope)
    except OSError as error:
        raise Refused("no-file", f"the release file {path} cannot be read ({error.strerror}).") from None
    raise Refused("bad-envelope", f"{path.name} ends before its manifest is complete.", "Copy it again, whole.")


class SealOptions(TypedDict, total=False):
    """How a release is sealed.

    ``notes`` are Markdown; ``version`` is the release's own, left out it is that of ``app``; ``after`` names for a
    component those that are switched before it; ``allowed`` is what the engineer asks for in so many words; ``stated``
    are nameplate values for a single image without one, or for a release without firmware; ``placed`` are files,
    settings and certificates; ``restart``: devices restart although nothing in it needs that.
    """

    notes: str
    version: str | None
    after: Mapping[str, Sequence[str]]
    labels: Mapping[str, str]
    independent: bool
    restart: bool
    allowed: Allowed
    stated: Mapping[str, Any]
    placed: Sequence[Placed]


def no_key() -> Refused:
    """What is said where a key is needed and none was given."""
    return Refused("no-key", "an image is signed before it is published.", "Name the signing key with --key.")


def named(name: str) -> str:
    """The selector that picks a release by its name; raises ``Refused`` for what is no name."""
    release = parse_release_name(name)
    return f'board = {release.board} and line = {release.line} and version = "{release.version}"'


def picked(name: str, found: Sequence[ReleaseOut]) -> ReleaseOut:
    """The release of exactly this name: versions that differ in build metadata alone are equal to a selector."""
    for release in found:
        if release.name == name:
            return release
    raise Refused("unknown-release", f"there is no release {name}.", "See `herald release list`.")


def seal_files(
    files: Sequence[Path],
    key: Ed25519PrivateKey,
    boards: Iterable[BoardOut | BoardIn],
    *,
    notes: str = "",
    version: str | None = None,
    after: Mapping[str, Sequence[str]] | None = None,
    labels: Mapping[str, str] | None = None,
    independent: bool = False,
    restart: bool = False,
    allowed: Allowed = Allowed(),
    stated: Mapping[str, Any] | None = None,
    placed: Sequence[Placed] = (),
) -> SealedRelease:
    """Seals a release of one image, of several, or of what a release sheet (``.toml``) names.

    ``boards`` are those that are known: the images' board must be among them. ``version`` is the release's own, left
    out it is that of ``app``; the options are those of ``SealOptions``. Raises ``Refused``, with
    all its ``checks`` where the images themselves are at fault.
    """
    given = gather(files, stated or {}, placed, version)
    order = {name: list(before) for name, before in (after or {}).items()}
    images = [open_firmware(part.file).image(**part.stated) for part in given.parts]
    order |= given.order_of(images)
    others = open_placed(given.placed, images, given.stated)
    board = _board_of([*images, *others], boards)
    images = [*given.in_their_slots(images, board), *others]
    independent = independent or given.independent
    manifest = describe(
        images,
        board.vendor_domain,
        notes or given.notes,
        version=version or given.version or (None if given.parts else given.stated["version"]),
        after=order,
        bases=given.bases,
        independent=independent,
        restart=restart or given.restart,
        without_updater=allowed.cut_off_for_good,
    )
    readings = {image.digest: reading_of(image) for image in images}
    checks = check_release(manifest, board, None, datetime.now(UTC), allowed, readings)
    if refused(checks):
        raise ChecksFailed(checks)
    length, _ = seal(images, manifest, key)
    return SealedRelease(tuple(images), manifest, key, length, {**given.labels, **(labels or {})}, checks)


@dataclass(frozen=True, slots=True)
class Gathered:
    """The images that make a release, what comes to places beside them, as the engineer named them, and what a release
    sheet says of the whole. ``stated`` are the values that firmware would say, where there is none."""

    parts: tuple[SheetImage, ...]
    placed: tuple[Placed, ...] = ()
    stated: Mapping[str, Any] = field(default_factory=dict)
    restart: bool = False
    notes: str = ""
    version: str | None = None
    labels: Mapping[str, str] = field(default_factory=dict)
    independent: bool = False

    def order_of(self, images: Sequence[Image]) -> dict[str, list[str]]:
        """The components that are switched before others, by component."""
        own = {i.nameplate.component: part.after for i, part in zip(images, self.parts, strict=True) if part.after}
        return own | {one.name: list(one.after) for one in self.placed if one.after}

    @property
    def bases(self) -> dict[str, str]:
        """The digests of the settings that others replace, by component."""
        found = {one.name: one.replaces for one in self.placed}
        return {name: digest for name, digest in found.items() if digest is not None}

    def in_their_slots(self, images: Sequence[Image], board: BoardFacts) -> list[Image]:
        """The images, each meant for its slot."""
        return [_in_its_slot(image, part.slot, board) for image, part in zip(images, self.parts, strict=True)]


def gather(
    files: Sequence[Path], stated: Mapping[str, Any], placed: Sequence[Placed] = (), version: str | None = None
) -> Gathered:
    """What was named: images, with ``stated`` nameplate values for a single one, or a release sheet; and what is for
    places, for which values are stated where there are no images. ``version`` is the release's own, if it was said."""
    values = {name: value for name, value in stated.items() if value is not None}
    if len(files) == 1 and files[0].suffix == SHEET_SUFFIX:
        if values or placed:
            raise Refused("stated-twice", "a release sheet says everything itself.", "Write the values into the sheet.")
        sheet = read_sheet(files[0])
        folder = files[0].parent
        said = {"line": sheet.line, "board": sheet.board, "version": sheet.version, "floor": sheet.floor}
        return Gathered(
            tuple(sheet.images),
            tuple(one.placed(folder) for one in sheet.contents),
            {name: value for name, value in said.items() if value is not None},
            sheet.restart,
            sheet.notes,
            sheet.version,
            sheet.labels,
            sheet.independent,
        )
    if not files:
        if not placed:
            raise Refused("no-image", "a release brings something.", "Name firmware, or --file, --settings, …")
        own = {"version": version, **values}
        return Gathered((), tuple(placed), {name: value for name, value in own.items() if value is not None})
    if len(files) > 1 and values:
        raise Refused(
            "stated-for-many",
            "values are stated, but there are several images they could be meant for.",
            "Write a release sheet, which says for each image what it is.",
        )
    own = {} if version is None else {"version": version}
    return Gathered(tuple(SheetImage(file=path, **values) for path in files), tuple(placed), own)


def reading_of(image: Image) -> Reading:
    """What the bytes of an image said."""
    plate = image.nameplate
    content = image.data if kind_of(plate.component) in (Kind.SETTINGS, Kind.CERTIFICATE) else None
    return Reading(plate if image.read else None, image.scanned.appearance, image.scanned.leaks, content=content)


def board_among(images: Sequence[Image], boards: Iterable[BoardOut | BoardIn]) -> BoardFacts | None:
    """The board that the images are for, None if it is not among these."""
    name = images[0].nameplate.board
    return next((facts_of(board) for board in boards if board.name == name), None)


def _board_of(images: Sequence[Image], boards: Iterable[BoardOut | BoardIn]) -> BoardFacts:
    board = board_among(images, boards)
    if board is not None:
        return board
    raise unknown_board(images)


def unknown_board(images: Sequence[Image]) -> Refused:
    """What is said of images for a board that there is not."""
    name = images[0].nameplate.board
    return Refused("unknown-board", f"there is no board {name!r}.", "Add it first with `herald board add FILE`.")


def _in_its_slot(image: Image, named: str | None, board: BoardFacts) -> Image:
    """The image, meant for the slot that was named or, where code runs only where it is linked for, that of its
    address."""
    slots = board.slots_of(image.nameplate.component)
    if named is not None:
        names = [slot.name for slot in slots]
        if named not in names:
            raise Refused(
                "unknown-slot",
                f"{board.name} has no slot {named!r} for {image.nameplate.component}.",
                f"It has {', '.join(names) or 'none'}.",
            )
        return for_slot(image, names.index(named))
    if board.runs is Runs.WHERE_LINKED and image.base is not None and len(slots) > 1:
        at = [index for index, slot in enumerate(slots) if slot.address == image.base]
        if len(at) == 1:
            return for_slot(image, at[0])
    return image
