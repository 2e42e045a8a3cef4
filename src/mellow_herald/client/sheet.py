"""The release sheet: a TOML file that says which images make a release, where the images alone do not say it."""

from pathlib import Path
from typing import Annotated, Any

from pydantic import Field, model_validator

from mellow_herald.client.documents import read_document
from mellow_herald.client.placed import ANY, Placed
from mellow_herald.core.component import Kind
from mellow_herald.core.digest import is_digest
from mellow_herald.core.limits import LARGEST_REVISION
from mellow_herald.core.refusal import Refused
from mellow_herald.wire.model import ComponentName, Labels, Model, Name, Version, Whole

Revision = Annotated[int, Field(ge=0, le=LARGEST_REVISION)]
STATED = ("line", "board", "component", "version", "floor", "updater", "build_id", "hw_rev_min", "hw_rev_max")


class SheetImage(Model):
    """One image: its file (relative to the sheet), and what its nameplate does not say.

    ``slot`` names the board's slot it is linked for; ``after`` the components that are switched before it.
    """

    file: Path
    slot: Name | None = None
    after: list[ComponentName] = []
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


class SheetContent(Model):
    """A file, settings or a certificate for a place of the board. ``base`` (settings): ``any``, a SHA-256, or the file
    that the devices have now; ``after`` names the components that come before it."""

    kind: Kind = Kind.FILE
    place: Name
    file: Path
    base: str | None = None
    version: Version | None = None
    after: list[ComponentName] = []

    @model_validator(mode="after")
    def _no_firmware(self) -> "SheetContent":
        if self.kind is Kind.FIRMWARE:
            raise ValueError("firmware goes under [[images]]")
        return self

    def placed(self, folder: Path) -> Placed:
        """The same, with files relative to where the sheet stands."""
        named = self.base is not None and self.base != ANY and not is_digest(self.base)
        base = str(folder / self.base) if named and self.base is not None else self.base
        return Placed(self.kind, self.place, folder / self.file, base, self.version, self.after)


class ReleaseSheet(Model):
    """A release as an engineer writes it down. ``version`` is the release's own, left out it is that of ``app``.
    ``line``, ``board`` and ``floor`` are stated where no firmware says them; ``restart``: devices restart although
    nothing in it needs that."""

    images: list[SheetImage] = Field(default=[], max_length=32)
    contents: list[SheetContent] = Field(default=[], max_length=32)
    line: Name | None = None
    board: Name | None = None
    floor: Whole | None = None
    restart: bool = False
    version: Version | None = None
    notes: str = ""
    notes_file: Path | None = None
    labels: Labels = {}
    independent: bool = False

    @model_validator(mode="after")
    def _brings_something(self) -> "ReleaseSheet":
        if not self.images and not self.contents:
            raise ValueError("a release brings something: add [[images]] or [[contents]]")
        return self


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
