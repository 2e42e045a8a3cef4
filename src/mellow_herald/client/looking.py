"""What is in a firmware file, and what publishing would say about it."""

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from mellow_herald.client.images import Opened, open_firmware
from mellow_herald.client.sealing import ReleaseFile, is_release_file, open_release_file
from mellow_herald.core.checks import Allowed, Check
from mellow_herald.core.firmware import Image
from mellow_herald.core.refusal import Refused
from mellow_herald.wire.check import AllowedIn, CheckAsk, CheckOut, ImageIn


@dataclass(frozen=True, slots=True)
class Looked:
    """What a look at a file showed. ``opened`` is None where it could not be read at all or is a release file;
    ``image`` None where ``refusal`` says why it cannot be published; ``checks`` are publishing's, if it was asked."""

    path: Path
    file_size: int
    opened: Opened | None = None
    image: Image | None = None
    release_file: ReleaseFile | None = None
    refusal: Refused | None = None
    checks: tuple[Check, ...] = ()

    def question(self, allowed: Allowed) -> CheckAsk | None:
        """What to ask the service, None where there is nothing to ask about."""
        image = self.image
        if image is None:
            return None
        plate, seems = image.nameplate, image.scanned.appearance
        return CheckAsk(
            board=plate.board,
            line=plate.line,
            version=plate.version,
            floor=plate.floor,
            hw_rev_min=plate.hw_rev_min,
            hw_rev_max=plate.hw_rev_max,
            images=[
                ImageIn(
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
                )
            ],
            allowed=AllowedIn(
                lower_version=allowed.lower_version, cut_off_for_good=allowed.cut_off_for_good, as_is=allowed.as_is
            ),
        )


def look(path: Path, **stated: Any) -> Looked:
    """Looks at a file without asking anybody; ``stated`` as for sealing. Only a file that is not there is refused."""
    try:
        size = path.stat().st_size
    except OSError as error:
        raise Refused("no-file", f"the file {path} cannot be read ({error.strerror}).") from None
    opened = None
    try:
        if is_release_file(path):
            return Looked(path, size, release_file=open_release_file(path))
        opened = open_firmware(path)
        return Looked(path, size, opened, opened.image(**stated))
    except Refused as refused:
        return Looked(path, size, opened, refusal=refused)


def answered(looked: Looked, checks: list[CheckOut]) -> Looked:
    """The same, with what the service said."""
    return replace(looked, checks=tuple(Check(c.name, c.verdict, c.detail, c.mend) for c in checks))
