"""Releases as data blocks: the release file itself, envelope and images, cut into fragments."""

import asyncio
from dataclasses import dataclass

from mellow_herald.core.manifest import envelope_prefix, payload_head
from mellow_herald.core.radio.coding import Block
from mellow_herald.service.context import Context
from mellow_herald.store import radio

MOST_BYTES = 1 << 20


class NoBlockError(Exception):
    """A release that cannot be sent by radio: it is not there any more, or far too large."""


@dataclass(frozen=True, slots=True)
class CutBlock:
    """A block: all of it, and what its fragments carry."""

    whole: bytes
    cut: Block

    @property
    def padding(self) -> int:
        """How many zeros fill up the last fragment."""
        return self.cut.padding


class Blocks:
    """The blocks that sessions need; a few are kept."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._kept: dict[tuple[str, int], CutBlock] = {}

    async def get(self, manifest: str, fragment: int) -> CutBlock:
        """The release file of a manifest, cut into fragments of so many bytes."""
        key = (manifest, fragment)
        if key not in self._kept:
            whole = await self.whole(manifest)
            if len(self._kept) > 8:
                self._kept.clear()
            self._kept[key] = CutBlock(whole, Block.cut(whole, fragment))
        return self._kept[key]

    async def whole(self, manifest: str) -> bytes:
        """The release file of a manifest."""
        async with self._context.engine.connect() as connection:
            parts = await radio.release_parts(connection, manifest)
        if parts is None:
            raise NoBlockError("the release is not there any more")
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
                if size > MOST_BYTES:
                    raise NoBlockError(f"an image of more than {MOST_BYTES} bytes cannot be sent by radio")
        except OSError as error:
            raise NoBlockError(f"the image {digest[:12]} cannot be read: {error.strerror}") from None
        return b"".join(image)
