"""Releases as one piece, for devices that are handed a single file: the release file, envelope and images."""

import asyncio

from mellow_herald.core.manifest import envelope_prefix, payload_head
from mellow_herald.service.context import Context
from mellow_herald.store import packages

KEPT = 4


class NoPackageError(Exception):
    """A release that cannot be handed out in one piece: it is not there any more, or too large."""


class Packages:
    """The release files that were asked for last. ``most`` is how large an image may be (bytes)."""

    def __init__(self, context: Context, most: int) -> None:
        self._context, self._most = context, most
        self._kept: dict[str, bytes] = {}

    async def get(self, manifest: str) -> bytes:
        """The release file of a manifest, from here if it was asked for just now."""
        if manifest not in self._kept:
            whole = await self.whole(manifest)
            if len(self._kept) >= KEPT:
                self._kept.clear()
            self._kept[manifest] = whole
        return self._kept[manifest]

    async def whole(self, manifest: str) -> bytes:
        """The release file of a manifest."""
        async with self._context.engine.connect() as connection:
            parts = await packages.release_parts(connection, manifest)
        if parts is None:
            raise NoPackageError("the release is not there any more")
        authentication, signed, digests = parts
        pieces = [envelope_prefix(authentication, signed, len(digests))]
        for digest in digests:
            image = await asyncio.to_thread(self._read, digest)
            pieces += [payload_head(digest, len(image)), image]
        return b"".join(pieces)

    def _read(self, digest: str) -> bytes:
        image, size = [], 0
        try:
            for piece in self._context.images.pieces(digest):
                image.append(piece)
                size += len(piece)
                if size > self._most:
                    raise NoPackageError(f"an image of more than {self._most} bytes cannot be sent in this way")
        except OSError as error:
            raise NoPackageError(f"the image {digest[:12]} cannot be read: {error.strerror}") from None
        return b"".join(image)
