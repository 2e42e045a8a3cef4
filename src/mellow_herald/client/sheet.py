"""The release sheet: a TOML file that says which images make a release, where the images alone do not say it."""

from pathlib import Path
from typing import Annotated, Any

from pydantic import Field

from mellow_herald.client.documents import read_document
from mellow_herald.core.limits import LARGEST_REVISION
from mellow_herald.core.refusal import Refused
from mellow_herald.wire.model import Labels, Model, Name, Version, Whole

Revision = Annotated[int, Field(ge=0, le=LARGEST_REVISION)]
STATED = ("line", "board", "component", "version", "floor", "updater", "build_id", "hw_rev_min", "hw_rev_max")


class SheetImage(Model):
    """One image: its file (relative to the sheet), and what its nameplate does not say.

    ``slot`` names the board's slot it is linked for; ``after`` the components that are switched before it.
    """

    file: Path
    slot: Name | None = None
    after: list[Name] = []
    line: Name | None = None
    board: Name | None = None
    component: Name | None = None
    version: Version | None = None
    floor: Whole | None = None
    updater: Revision | None = None
    build_id: str | None = None
    hw_rev_min: Revision | None = None
    hw_rev_max: Revision | None = None

    @property
    def stated(self) -> dict[str, Any]:
        """The nameplate values that are stated here."""
        return {name: getattr(self, name) for name in STATED if getattr(self, name) is not None}


class ReleaseSheet(Model):
    """A release as an engineer writes it down. ``version`` is the release's own, left out it is that of ``app``."""

    images: list[SheetImage] = Field(min_length=1, max_length=32)
    version: Version | None = None
    notes: str = ""
    notes_file: Path | None = None
    labels: Labels = {}
    independent: bool = False


def read_sheet(path: Path) -> ReleaseSheet:
    """Reads a release sheet; its file names become relative to where it stands."""
    sheet = read_document(path, ReleaseSheet)
    folder = path.parent
    notes = sheet.notes
    if sheet.notes_file is not None:
        try:
            notes = (folder / sheet.notes_file).read_text()
        except (OSError, UnicodeDecodeError) as error:
            raise Refused("no-file", f"the notes {sheet.notes_file} cannot be read ({error}).") from None
    images = [image.model_copy(update={"file": folder / image.file}) for image in sheet.images]
    return sheet.model_copy(update={"images": images, "notes": notes, "notes_file": None})
