"""The file of a backup: a ZIP of the database's dump and the images, and ``backup.json``, which has their digests.

A ZIP that was cut off has no directory at its end, so it is not taken for a whole one; beyond that every entry is
compared with its digest before anything is brought back.
"""

import hashlib
import zipfile
from collections.abc import Callable, Iterable, Iterator
from datetime import datetime
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ValidationError

from mellow_herald.core.refusal import Refused

FORMAT: Literal["mellow-herald-backup/1"] = "mellow-herald-backup/1"
ABOUT, DUMP = "backup.json", "database.dump"
PIECE = 1024 * 1024


class Entry(BaseModel):
    """One file in the archive."""

    sha256: str
    size: int


class About(BaseModel):
    """What a backup holds. ``made_at`` is real time, ``service_time`` what the service's clock said; ``table_version``
    the schema's; ``journal`` the number and hash of the journal's newest sealed link; ``damaged`` the digests of images
    that were not what they should be, or not there, and are not in it."""

    format: Literal["mellow-herald-backup/1"] = FORMAT
    made_at: datetime
    service_time: datetime
    version: str
    table_version: str
    postgresql: str
    devices: int
    live_rollouts: list[int]
    journal: tuple[int, str]
    damaged: list[str] = []
    entries: dict[str, Entry] = {}


def image_entry(digest: str) -> str:
    """Where an image is in the archive."""
    return f"images/{digest}"


class ArchiveWriter:
    """Writes a backup to ``path``; ``progress`` is told how many bytes were written so far."""

    def __init__(self, path: Path, progress: Callable[[int], None]) -> None:
        path.touch(mode=0o600)  # it has the keys that devices' tokens are made with
        path.chmod(0o600)
        self._zip = zipfile.ZipFile(path, "w", zipfile.ZIP_STORED)
        self._progress, self._written = progress, 0
        self.entries: dict[str, Entry] = {}

    def add(self, name: str, pieces: Iterable[bytes]) -> Entry:
        """Adds a file, as its bytes come."""
        hashed, size = hashlib.sha256(), 0
        with self._zip.open(name, "w", force_zip64=True) as out:
            for piece in pieces:
                hashed.update(piece)
                size += len(piece)
                out.write(piece)
                self._written += len(piece)
                self._progress(self._written)
        self.entries[name] = Entry(sha256=hashed.hexdigest(), size=size)
        return self.entries[name]

    def finish(self, about: About) -> None:
        """Writes what the backup holds, and the end of the file."""
        whole = about.model_copy(update={"entries": self.entries})
        self._zip.writestr(ABOUT, whole.model_dump_json(indent=2))
        self._zip.close()

    def close(self) -> None:
        """Closes the file, whole or not."""
        self._zip.close()


class Archive:
    """A backup that is there; ``Refused`` if the file is not a whole one."""

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            self._zip = zipfile.ZipFile(path)
            self.about = About.model_validate_json(self._zip.read(ABOUT))
        except FileNotFoundError:
            raise Refused("no-backup", f"there is no file {path}.") from None
        except IsADirectoryError:
            raise Refused("no-backup", f"{path} is a folder; a backup is one file.") from None
        except (zipfile.BadZipFile, KeyError, ValidationError):
            raise Refused(
                "not-a-backup", f"{path} is not a whole backup.", "It was cut off, or is something else; take another."
            ) from None

    def pieces(self, name: str) -> Iterator[bytes]:
        """The bytes of a file in it."""
        with self._zip.open(name) as file:
            while piece := file.read(PIECE):
                yield piece

    def verify(self, progress: Callable[[int], None]) -> None:
        """Reads everything and compares it with its digest; ``Refused`` if anything is not as it was written."""
        done = 0
        for name, entry in self.about.entries.items():
            hashed = hashlib.sha256()
            try:
                for piece in self.pieces(name):
                    hashed.update(piece)
                    done += len(piece)
                    progress(done)
            except (zipfile.BadZipFile, KeyError, OSError, EOFError):
                hashed = hashlib.sha256(b"unreadable")
            if hashed.hexdigest() != entry.sha256:
                raise Refused(
                    "damaged-backup",
                    f"{self.path}: {name} is damaged; nothing of it was brought back.",
                    "Take an older backup, or another copy of this one.",
                )

    @property
    def size(self) -> int:
        """Bytes of all files in it."""
        return sum(entry.size for entry in self.about.entries.values())

    def close(self) -> None:
        """Closes the file."""
        self._zip.close()
