"""Releases as data blocks: the release file itself, envelope and images, cut into fragments."""

from dataclasses import dataclass

from mellow_herald.core.radio.coding import Block
from mellow_herald.service.context import Context
from mellow_herald.service.releases.package import Packages

MOST_BYTES = 1 << 20


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
        self._packages = Packages(context, MOST_BYTES)
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
        return await self._packages.whole(manifest)
