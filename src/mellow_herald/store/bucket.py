"""Images in an object store that speaks S3: whoever may read one is sent there, with a signed address.

Where it is and who calls comes from the environment, as all programs that speak S3 have it: ``AWS_ACCESS_KEY_ID``,
``AWS_SECRET_ACCESS_KEY``, ``AWS_REGION``, and ``AWS_ENDPOINT`` for any other than Amazon's.
"""

import errno
import os
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from mellow_herald.core.digest import is_digest
from mellow_herald.core.refusal import Refused
from mellow_herald.store.images import (
    PIECE,
    Begun,
    FolderImageStore,
    ImageStore,
    Proofs,
    begin_file,
    name_of,
    sweep_files,
)

if TYPE_CHECKING:
    from obstore.store import S3Store

SCHEME = "s3://"
WHO_CALLS = (
    "AWS_ACCESS_KEY_ID",
    "AWS_WEB_IDENTITY_TOKEN_FILE",
    "AWS_CONTAINER_CREDENTIALS_RELATIVE_URI",
    "AWS_CONTAINER_CREDENTIALS_FULL_URI",
    "AWS_METADATA_ENDPOINT",
)


class BucketImageStore:
    """Images as objects below ``address`` (``s3://bucket/prefix``), named as in a folder. What comes in is written to
    ``incoming`` on this machine first: nothing is put into the store that has not proved to be what was announced."""

    def __init__(self, address: str, incoming: Path) -> None:
        self._address, self._incoming = address.rstrip("/"), incoming
        incoming.mkdir(parents=True, exist_ok=True)
        incoming.chmod(0o700)
        self._objects = open_bucket(self._address)
        self._proofs = Proofs()

    def sweep(self, before: float) -> int:
        """Deletes what a crash left half-written and nobody has touched since ``before`` (seconds since 1970)."""
        return sweep_files(self._incoming, before)

    def begin(self, digest: str, size: int) -> Begun:
        """Opens a temporary file for an image that must turn out to be ``size`` bytes with this digest."""
        return begin_file(self._incoming, digest, size, lambda file: self._bring(file, digest))

    def place(self, digest: str, seconds: float) -> str:
        """An address, signed, under which the image can be read for so long by whoever has it."""
        import obstore

        with self._reached():
            address: str = obstore.sign(self._objects, "GET", name_of(digest), timedelta(seconds=seconds))
            return address

    def pieces(self, digest: str) -> Iterator[bytes]:
        """The bytes of an image; ``FileNotFoundError`` if it is not there."""
        with self._reached():
            yield from map(bytes, self._objects.get(name_of(digest)).stream(min_chunk_size=PIECE))

    def sound(self, digest: str, anew: bool = False) -> bool:
        """Whether the object is there and is what its digest says; read again whenever it was put anew, or ``anew``.

        Reads all of it the first time, so call it in a thread.
        """
        try:
            with self._reached():
                about = self._objects.head(name_of(digest))
            return self._proofs.hold(digest, (about["last_modified"], about["size"]), self.pieces, anew)
        except FileNotFoundError:
            return False

    def digests(self) -> list[str]:
        """The digests of all images in the store."""
        with self._reached():
            names = [str(one["path"]).rpartition("/")[2] for page in self._objects.list() for one in page]
        return [name for name in names if is_digest(name)]

    def remove(self, digest: str) -> None:
        """Deletes an image that nothing refers to any more."""
        with self._reached():
            self._objects.delete(name_of(digest))

    def _bring(self, file: Path, digest: str) -> None:
        with self._reached():
            self._objects.put(name_of(digest), file)

    @contextmanager
    def _reached(self) -> Iterator[None]:
        """Whatever keeps the object store from answering is an ``OSError``, as with a folder."""
        from obstore.exceptions import BaseError

        try:
            yield
        except FileNotFoundError:
            raise
        except BaseError as error:
            said = str(error).partition("\n")[0]
            raise OSError(errno.EIO, f"the object store {self._address} says: {said}") from None


def open_bucket(address: str) -> "S3Store":
    """The objects below ``s3://bucket/prefix``; ``Refused`` if that is no such address, or is not complete."""
    from obstore.exceptions import BaseError
    from obstore.store import S3Store

    if not address.startswith(SCHEME) or not address.removeprefix(SCHEME).partition("/")[0]:
        raise Refused("bad-address", f"{address!r} is no place for images.", "Write it like s3://bucket/prefix.")
    if not any(os.environ.get(name) for name in WHO_CALLS):
        # Without, the address of a cloud's own service is asked who we are, which is a surprise anywhere else.
        what = "Set AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY; on a machine with a role, AWS_METADATA_ENDPOINT."
        raise Refused("no-credentials", f"nothing says who calls {address}.", what)
    try:
        return S3Store.from_url(
            address,
            client_options={"allow_http": True, "timeout": "30s"},
            retry_config={"max_retries": 2, "retry_timeout": timedelta(seconds=10)},
        )
    except BaseError as error:
        raise Refused(
            "bad-address", f"{address} cannot be used: {error}.", "Look at AWS_… in its environment."
        ) from None


def open_images(address: str | None, data_dir: Path, *, group: bool = False) -> ImageStore:
    """The store of images: the object store at ``address``, or a folder in ``data_dir``, which a front server of the
    same ``group`` may read."""
    folder = data_dir / "images"
    if address is None:
        return FolderImageStore(folder, group=group)
    return BucketImageStore(address, folder / "incoming")
