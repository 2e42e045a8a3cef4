"""The image store: content-addressed files that appear only when they are whole and match their digest."""

import hashlib
import os
import secrets
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Protocol

from mellow_herald.core.digest import is_digest
from mellow_herald.core.refusal import Refused


class Writing(Protocol):
    """An image on its way in: ``write`` its bytes, then ``keep`` or ``drop`` it."""

    digest: str

    def write(self, data: bytes) -> None: ...
    def keep(self) -> None: ...
    def drop(self) -> None: ...


class ImageStore(Protocol):
    """What an object store would have to offer to take the place of the folder."""

    def begin(self, digest: str, size: int) -> Writing: ...
    def path(self, digest: str) -> Path: ...
    def sound(self, digest: str, anew: bool = False) -> bool: ...
    def digests(self) -> list[str]: ...
    def remove(self, digest: str) -> None: ...
    def sweep(self, before: float) -> int: ...


class FolderImageStore:
    """Images as files below ``folder``, named by their digest in 256 sub-folders."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._incoming = folder / "incoming"
        self._incoming.mkdir(parents=True, exist_ok=True)
        folder.chmod(0o700)  # firmware is nobody else's to read
        self._sound: dict[str, tuple[int, int]] = {}
        self._checking = threading.Lock()

    def sweep(self, before: float) -> int:
        """Deletes what a crash left half-written and nobody has touched since ``before`` (seconds since 1970)."""
        left = [path for path in self._incoming.iterdir() if path.stat().st_mtime < before]
        for path in left:
            path.unlink(missing_ok=True)
        return len(left)

    def begin(self, digest: str, size: int) -> "FolderWriting":
        """Opens a temporary file for an image that must turn out to be ``size`` bytes with this digest."""
        return FolderWriting(self._incoming / secrets.token_hex(16), self.path(digest), digest, size)

    def path(self, digest: str) -> Path:
        """Where the image is, or would be."""
        if not is_digest(digest):
            raise Refused("bad-digest", f"{digest!r} is not a SHA-256 digest.", "Write it as 64 lower-case hex digits.")
        return self._folder / digest[:2] / digest

    def sound(self, digest: str, anew: bool = False) -> bool:
        """Whether the file is there and is what its digest says; read again whenever it was touched, or ``anew``.

        Reads the whole file the first time, so call it in a thread.
        """
        try:
            status = self.path(digest).stat()
        except FileNotFoundError:
            return False
        mark = (status.st_mtime_ns, status.st_size)
        if not anew and self._sound.get(digest) == mark:
            return True
        with self._checking:
            hashed = hashlib.sha256()
            for piece in _pieces(self.path(digest)):
                hashed.update(piece)
        if hashed.hexdigest() != digest:
            self._sound.pop(digest, None)
            return False
        self._sound[digest] = mark
        return True

    def digests(self) -> list[str]:
        """The digests of all images in the folder."""
        return [path.name for path in self._folder.glob("??/*") if is_digest(path.name)]

    def remove(self, digest: str) -> None:
        """Deletes an image that nothing refers to any more."""
        self._sound.pop(digest, None)
        self.path(digest).unlink(missing_ok=True)


class FolderWriting:
    """A file that becomes an image when it proves to be the right one."""

    def __init__(self, temporary: Path, final: Path, digest: str, size: int) -> None:
        self.digest = digest
        self._temporary, self._final, self._size = temporary, final, size
        self._hash = hashlib.sha256()
        self._written = 0
        self._file = temporary.open("xb")

    def write(self, data: bytes) -> None:
        """Takes the next bytes; raises ``Refused`` as soon as there are too many."""
        self._written += len(data)
        if self._written > self._size:
            raise Refused("digest-mismatch", f"the image is larger than the {self._size} bytes its manifest says.")
        self._hash.update(data)
        self._file.write(data)

    def keep(self) -> None:
        """Makes the image visible under its digest; raises ``Refused`` if it is not what was announced."""
        if self._written != self._size or self._hash.hexdigest() != self.digest:
            self.drop()
            raise Refused(
                "digest-mismatch",
                f"the image's digest is {self._hash.hexdigest()[:16]}…, its manifest says {self.digest[:16]}….",
                "The file was altered or damaged after sealing: seal it again from the original image.",
            )
        self._file.flush()
        os.fsync(self._file.fileno())
        self._file.close()
        self._final.parent.mkdir(exist_ok=True)
        self._temporary.rename(self._final)
        for folder in (self._final.parent, self._final.parent.parent):
            handle = os.open(folder, os.O_RDONLY)
            try:
                os.fsync(handle)
            finally:
                os.close(handle)

    def drop(self) -> None:
        """Forgets what was written; harmless after ``keep``."""
        self._file.close()
        self._temporary.unlink(missing_ok=True)


def _pieces(path: Path) -> Iterator[bytes]:
    with path.open("rb") as file:
        while piece := file.read(1024 * 1024):
            yield piece
