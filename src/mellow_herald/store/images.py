"""The image store: content-addressed files that appear only when they are whole and match their digest."""

import hashlib
import os
import secrets
import threading
from collections.abc import Callable, Hashable, Iterator
from pathlib import Path
from typing import Protocol

from mellow_herald.core.digest import is_digest
from mellow_herald.core.refusal import Refused

PIECE = 1024 * 1024


class Writing(Protocol):
    """An image on its way in: ``write`` its bytes, then ``keep`` or ``drop`` it."""

    digest: str

    def write(self, data: bytes) -> None: ...
    def keep(self) -> None: ...
    def drop(self) -> None: ...


class ImageStore(Protocol):
    """Where images are kept. ``place`` is where one can be read: a file, or an address that is good for some seconds.
    All calls but ``begin`` and ``place`` may take long; ``OSError`` if the store does not answer."""

    def begin(self, digest: str, size: int) -> Writing: ...
    def place(self, digest: str, seconds: float) -> Path | str: ...
    def pieces(self, digest: str) -> Iterator[bytes]: ...
    def sound(self, digest: str, anew: bool = False) -> bool: ...
    def digests(self) -> list[str]: ...
    def remove(self, digest: str) -> None: ...
    def sweep(self, before: float) -> int: ...


class FolderImageStore:
    """Images as files below ``folder``, named by their digest in 256 sub-folders. Firmware is nobody else's to read,
    but for the ``group`` where a front server that belongs to it hands images out."""

    def __init__(self, folder: Path, *, group: bool = False) -> None:
        self.folder = folder
        self._incoming = folder / "incoming"
        self._incoming.mkdir(parents=True, exist_ok=True)
        folder.chmod(0o750 if group else 0o700)
        self._proofs = Proofs()

    def sweep(self, before: float) -> int:
        """Deletes what a crash left half-written and nobody has touched since ``before`` (seconds since 1970)."""
        return sweep_files(self._incoming, before)

    def begin(self, digest: str, size: int) -> "Begun":
        """Opens a temporary file for an image that must turn out to be ``size`` bytes with this digest."""
        final = self.path(digest)
        return begin_file(self._incoming, digest, size, lambda file: _move(file, final))

    def path(self, digest: str) -> Path:
        """Where the image is, or would be."""
        return self.folder / name_of(digest)

    def place(self, digest: str, seconds: float = 0) -> Path:
        """Where the image can be read, for as long as it is kept."""
        return self.path(digest)

    def pieces(self, digest: str) -> Iterator[bytes]:
        """The bytes of an image; ``FileNotFoundError`` if it is not there."""
        with self.path(digest).open("rb") as file:
            while piece := file.read(PIECE):
                yield piece

    def sound(self, digest: str, anew: bool = False) -> bool:
        """Whether the file is there and is what its digest says; read again whenever it was touched, or ``anew``.

        Reads the whole file the first time, so call it in a thread.
        """
        try:
            status = self.path(digest).stat()
        except FileNotFoundError:
            return False
        return self._proofs.hold(digest, (status.st_mtime_ns, status.st_size), self.pieces, anew)

    def digests(self) -> list[str]:
        """The digests of all images in the folder."""
        return [path.name for path in self.folder.glob("??/*") if is_digest(path.name)]

    def remove(self, digest: str) -> None:
        """Deletes an image that nothing refers to any more."""
        self.path(digest).unlink(missing_ok=True)


class Proofs:
    """Which images have proved to be what their digest says, and how they were marked then."""

    def __init__(self) -> None:
        self._marks: dict[str, Hashable] = {}
        self._one_at_a_time = threading.Lock()

    def hold(self, digest: str, mark: Hashable, pieces: Callable[[str], Iterator[bytes]], anew: bool) -> bool:
        """Whether an image is right; all of it is read unless it was found right with the same ``mark`` before."""
        if not anew and self._marks.get(digest) == mark:
            return True
        with self._one_at_a_time:
            hashed = hashlib.sha256()
            for piece in pieces(digest):
                hashed.update(piece)
        if hashed.hexdigest() != digest:
            self._marks.pop(digest, None)
            return False
        self._marks[digest] = mark
        return True


def name_of(digest: str) -> str:
    """The name of an image in any store."""
    if not is_digest(digest):
        raise Refused("bad-digest", f"{digest!r} is not a SHA-256 digest.", "Write it as 64 lower-case hex digits.")
    return f"{digest[:2]}/{digest}"


def begin_file(incoming: Path, digest: str, size: int, bring: Callable[[Path], None]) -> "Begun":
    """Opens a temporary file in ``incoming``; ``bring`` puts it where it belongs once it has proved right."""
    name_of(digest)
    return Begun(incoming / secrets.token_hex(16), digest, size, bring)


def sweep_files(incoming: Path, before: float) -> int:
    """Deletes files that nobody has touched since ``before`` (seconds since 1970); returns how many."""
    left = [path for path in incoming.iterdir() if path.stat().st_mtime < before]
    for path in left:
        path.unlink(missing_ok=True)
    return len(left)


class Begun:
    """A file that becomes an image when it proves to be the right one."""

    def __init__(self, temporary: Path, digest: str, size: int, bring: Callable[[Path], None]) -> None:
        self.digest = digest
        self._temporary, self._size, self._bring = temporary, size, bring
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
        self._bring(self._temporary)
        self.drop()

    def drop(self) -> None:
        """Forgets what was written; harmless after ``keep``."""
        self._file.close()
        self._temporary.unlink(missing_ok=True)


def _move(file: Path, final: Path) -> None:
    final.parent.mkdir(exist_ok=True)
    file.rename(final)
    for folder in (final.parent, final.parent.parent):
        handle = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)
