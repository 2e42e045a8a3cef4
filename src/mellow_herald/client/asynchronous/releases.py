"""Releases, by the asynchronous client: sealed here, published there, and what becomes of them."""

import builtins
from collections.abc import AsyncIterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Unpack

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from mellow_herald.client import calls
from mellow_herald.client.looking import Looked, look
from mellow_herald.client.paging import every_async
from mellow_herald.client.release_bytes import Progress, ReleaseBytes, counted
from mellow_herald.client.sealing import (
    SealedRelease,
    SealOptions,
    as_paths,
    is_release_file,
    named,
    no_key,
    open_release_file,
    picked,
    seal_files,
    single,
)
from mellow_herald.client.transport import ASK_FIRST, in_thread
from mellow_herald.core.verdict import Allowed
from mellow_herald.wire.model import Page
from mellow_herald.wire.release import (
    CleanOut,
    LineageOut,
    ManifestOut,
    ReleaseEdit,
    ReleaseOut,
    UnusedRelease,
    WithdrawalOut,
)

if TYPE_CHECKING:
    from mellow_herald.client.asynchronous.herald import AsyncHerald


class Releases:
    """Releases."""

    def __init__(self, herald: "AsyncHerald") -> None:
        self._herald = herald

    async def seal(
        self, files: Path | str | Sequence[Path | str], *, key: Ed25519PrivateKey, **options: Unpack[SealOptions]
    ) -> SealedRelease:
        """Seals a release of one image, of several, or of what a release sheet (``.toml``) names; see ``SealOptions``.

        Nothing is sent but the question which boards there are. The result can be written to a file or published.
        """
        return await in_thread(seal_files, as_paths(files), key, await self._herald.boards.list(), **options)

    async def publish(
        self,
        files: Path | str | Sequence[Path | str],
        *,
        key: Ed25519PrivateKey | None = None,
        draft: bool = False,
        progress: Progress | None = None,
        **options: Unpack[SealOptions],
    ) -> ReleaseOut:
        """Seals and publishes; a release file (``.suit``) is sent as it is and needs no ``key``.

        ``progress`` gets the bytes sent so far.
        """
        only, allowed = single(files), options.get("allowed", Allowed())
        if only is not None and is_release_file(only):
            return await self.upload(open_release_file(only), draft=draft, allowed=allowed, progress=progress)
        if key is None:
            raise no_key()
        sealed = await self.seal(files, key=key, **options)
        return await self.upload(sealed, draft=draft, allowed=allowed, progress=progress)

    async def upload(
        self,
        release: ReleaseBytes,
        *,
        draft: bool = False,
        allowed: Allowed = Allowed(),
        progress: Progress | None = None,
    ) -> ReleaseOut:
        """Publishes what was sealed before. A large file is sent only after its envelope was found good."""
        name = release.manifest.name
        if release.length > ASK_FIRST:
            answer = await self._herald.send(calls.check_envelope(name, release.envelope, allowed))
            if answer.release is not None:
                return answer.release
        call = calls.publish_release(name, release.length, draft=draft, labels=release.labels, allowed=allowed)
        return await self._herald.upload(call, counted(release.portions(), progress))

    async def look(
        self, files: Path | str | Sequence[Path | str], *, allowed: Allowed = Allowed(), **stated: Any
    ) -> Looked:
        """What is in a firmware file, in several, or in those of a release sheet, and what publishing would say."""
        looked = await in_thread(look, as_paths(files), await self._herald.boards.list(), **stated)
        asked = looked.question(allowed)
        if asked is None:
            return looked
        return looked.answered(await self._herald.send(calls.foresee_checks(asked)))

    async def list(
        self, *, where: str | None = None, limit: int = 100, after: str | None = None, by_version: bool = False
    ) -> Page[ReleaseOut]:
        """A page of the releases that a selector picks: the newest upload first, or each line's highest version."""
        return await self._herald.send(calls.list_releases(where, limit, after, by_version))

    def each(self, *, where: str | None = None) -> AsyncIterator[ReleaseOut]:
        """All releases that a selector picks, page after page."""
        return every_async(lambda after: self.list(where=where, limit=1000, after=after))

    async def show(self, release_id: int) -> ReleaseOut:
        """One release."""
        return await self._herald.send(calls.show_release(release_id))

    async def find(self, name: str) -> ReleaseOut:
        """A release by its name (``board/line/version``) or number; raises ``Refused`` if there is none."""
        if name.isdigit():
            return await self.show(int(name))
        return picked(name, (await self.list(where=named(name), limit=1000)).items)

    async def publish_draft(self, release_id: int, *, allowed: Allowed = Allowed()) -> ReleaseOut:
        """Publishes a draft."""
        return await self._herald.send(calls.publish_draft(release_id, allowed))

    async def edit(
        self,
        release_id: int,
        *,
        notes: str | None = None,
        labels: dict[str, str] | None = None,
        revision: int | None = None,
    ) -> ReleaseOut:
        """Changes notes or labels; with ``revision``, only if nobody else did meanwhile."""
        return await self._herald.send(
            calls.edit_release(release_id, ReleaseEdit(notes=notes, labels=labels), revision)
        )

    async def drop(self, release_id: int) -> None:
        """Drops a draft."""
        await self._herald.send(calls.drop_release(release_id))

    async def make_baseline(self, release_id: int, reason: str) -> ReleaseOut:
        """Makes a release what newly admitted or returning devices of its board and line should run."""
        return await self._herald.send(calls.make_baseline(release_id, reason))

    async def foresee_withdrawal(self, release_id: int) -> WithdrawalOut:
        """What withdrawing a release would stop."""
        return await self._herald.send(calls.foresee_withdrawal(release_id))

    async def withdraw(self, release_id: int, reason: str) -> WithdrawalOut:
        """Withdraws a release; its running rollouts halt."""
        return await self._herald.send(calls.withdraw_release(release_id, reason))

    async def manifest(self, release_id: int) -> ManifestOut:
        """The signed manifest, for people."""
        return await self._herald.send(calls.show_manifest(release_id))

    async def envelope(self, release_id: int) -> bytes:
        """The signed envelope without its images."""
        return await self._herald.send(calls.show_envelope(release_id))

    async def lineage(self, board: str, line: str) -> LineageOut:
        """How many devices ran which version over time."""
        return await self._herald.send(calls.show_lineage(board, line))

    async def unused(self) -> builtins.list[UnusedRelease]:
        """Releases whose images nobody needs any more."""
        return await self._herald.send(calls.list_unused_releases())

    async def clean(self, release_ids: builtins.list[int]) -> CleanOut:
        """Cleans away the images of releases that nobody needs."""
        return await self._herald.send(calls.clean_releases(release_ids))
