"""What is in firmware files, and what publishing would say about them."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from mellow_herald.client.images import Opened, open_firmware
from mellow_herald.client.placed import open_placed
from mellow_herald.client.sealing import (
    ReleaseFile,
    board_among,
    gather,
    is_release_file,
    open_release_file,
    reading_of,
    unknown_board,
)
from mellow_herald.core.board import BoardFacts
from mellow_herald.core.checks import check_release
from mellow_herald.core.firmware import Image
from mellow_herald.core.refusal import Refused
from mellow_herald.core.seal import describe
from mellow_herald.core.suit import Manifest
from mellow_herald.core.verdict import Allowed, Check
from mellow_herald.wire.board import BoardIn, BoardOut
from mellow_herald.wire.check import AllowedIn, CheckAsk, CheckOut, ImageIn, LeakIn


@dataclass(frozen=True, slots=True)
class LookedFile:
    """What a look at one file showed. ``opened`` is None where it could not be read at all or is a release file;
    ``image`` None where ``refusal`` says why it cannot be published."""

    path: Path
    file_size: int
    opened: Opened | None = None
    image: Image | None = None
    release_file: ReleaseFile | None = None
    refusal: Refused | None = None


@dataclass(frozen=True, slots=True)
class Looked:
    """What a look at the files of a release showed: ``manifest`` is what their ``images`` make together, None where
    they make none; ``refusal`` says why. ``checks`` are publishing's, if it was asked."""

    files: tuple[LookedFile, ...]
    board: BoardFacts | None = None
    images: tuple[Image, ...] = ()
    manifest: Manifest | None = None
    refusal: Refused | None = None
    checks: tuple[Check, ...] = ()

    def question(self, allowed: Allowed) -> CheckAsk | None:
        """What to ask the service, None where there is nothing to ask about."""
        manifest = self.manifest
        if manifest is None:
            return None
        return CheckAsk(
            board=manifest.board,
            line=manifest.line,
            version=manifest.version,
            floor=manifest.floor,
            hw_rev_min=manifest.hw_rev_min,
            hw_rev_max=manifest.hw_rev_max,
            images=[_asked(image) for image in self.images],
            allowed=AllowedIn.model_validate(asdict(allowed)),
        )

    def checked_here(self, allowed: Allowed) -> "Looked":
        """The same, with the checks that need no service: those against the board, if it is known."""
        if self.manifest is None:
            return self
        readings = {image.digest: reading_of(image) for image in self.images}
        return replace(
            self, checks=check_release(self.manifest, self.board, None, datetime.now(UTC), allowed, readings)
        )

    def answered(self, checks: Iterable[CheckOut]) -> "Looked":
        """The same, with what the service said."""
        return replace(self, checks=tuple(Check(c.name, c.verdict, c.detail, c.mend) for c in checks))


def _asked(image: Image) -> ImageIn:
    plate, seems = image.nameplate, image.scanned.appearance
    return ImageIn(
        component=plate.component,
        version=plate.version,
        digest=image.digest,
        size=image.size,
        updater=plate.updater,
        build_id=plate.build_id,
        build_time=plate.build_time,
        slot=image.slot,
        address=image.base,
        read=image.read,
        seems=seems.kind if seems else None,
        seems_words=seems.words if seems else "",
        leaks=[LeakIn(kind=leak.kind, offset=leak.offset) for leak in image.scanned.leaks],
    )


def look(files: Sequence[Path], boards: Iterable[BoardOut | BoardIn] | None = None, **stated: Any) -> Looked:
    """Looks at the files of a release, or at those that a release sheet names, without asking anybody.

    ``boards`` are those that there are, None if that is not known; ``stated`` are nameplate values for a single image
    without one. Only a file that is not there is refused, and values that could be meant for several.
    """
    given = gather(files, stated)
    seen = tuple(look_at(part.file, part.stated) for part in given.parts)
    refusals = [one.refusal for one in seen if one.refusal is not None]
    images = [one.image for one in seen if one.image is not None]
    others = open_placed(given.placed, images, given.stated) if not refusals else []
    if refusals or not (images or others):
        return Looked(seen, refusal=refusals[0] if refusals else None)
    order = given.order_of(images)
    try:
        board = board_among([*images, *others], boards or ())
        if board is not None:
            images = [*given.in_their_slots(images, board), *others]
        elif len(images) + len(others) > 1 and boards is None:
            return Looked(seen, images=tuple(images))
        elif len(images) + len(others) > 1:
            raise unknown_board(images)
        # One that no device would take back is shown with the rest of what publishing says.
        manifest = describe(
            images,
            board.vendor_domain if board else "unknown.invalid",
            version=given.version or (None if given.parts else given.stated["version"]),
            after=order,
            bases=given.bases,
            restart=given.restart,
            without_updater=True,
        )
        return Looked(seen, board, tuple(images), manifest)
    except Refused as refused:
        # A single image that is no app has no version of its own as a release; everything else can be said of it.
        if refused.kind == "no-version" and len(images) == 1:
            own = describe(images, "unknown.invalid", version=images[0].nameplate.version, without_updater=True)
            return Looked(seen, board, tuple(images), own)
        return Looked(seen, refusal=refused)


def look_at(path: Path, stated: Mapping[str, Any]) -> LookedFile:
    """Looks at one file. Only one that is not there is refused."""
    try:
        size = path.stat().st_size
    except OSError as error:
        raise Refused("no-file", f"the file {path} cannot be read ({error.strerror}).") from None
    opened = None
    try:
        if is_release_file(path):
            return LookedFile(path, size, release_file=open_release_file(path))
        opened = open_firmware(path)
        return LookedFile(path, size, opened, opened.image(**stated))
    except Refused as refused:
        return LookedFile(path, size, opened, refusal=refused)
