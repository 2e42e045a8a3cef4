"""Receiving a release file: verified before its payloads are taken, visible only when all of it is whole."""

import asyncio
from collections.abc import AsyncIterator
from contextlib import suppress
from typing import Any

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.envelope import EnvelopeReader, Opened, PayloadBegins, PayloadEnds, PayloadPiece
from mellow_herald.core.manifest import Component, Verified, verify
from mellow_herald.core.refusal import Refused
from mellow_herald.service.context import Context
from mellow_herald.store import releases
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal
from mellow_herald.store.images import Writing

# How much of a refused upload is still read, so that the sender hears the answer instead of a broken connection.
DRAIN_LIMIT = 4 * 1024 * 1024


async def receive(context: Context, body: AsyncIterator[bytes], announced: int | None, by: str) -> tuple[int, bool]:
    """Takes a release file; returns its id and whether it is new. Leaves nothing if it is refused."""
    limit = context.settings.upload_limit
    if announced is not None and announced > limit:
        raise Refused(
            "too-large", f"the release file has {announced} bytes; this service takes at most {limit}.",
            "Publish a smaller image, or start the service with a higher upload limit.",
        )  # fmt: skip
    receiving = _Receiving(context, by)
    try:
        taken = 0
        async for piece in body:
            taken += len(piece)
            if taken > limit:
                raise Refused("too-large", f"the release file is larger than the {limit} bytes this service takes.")
            await receiving.take(piece)
        return await receiving.finish()
    except AlreadyThereError as known:
        await _drain(body)
        return known.release_id, False
    except Refused:
        await _drain(body)
        raise
    finally:
        receiving.drop()


async def _drain(body: AsyncIterator[bytes]) -> None:
    left = DRAIN_LIMIT
    with suppress(Exception):
        async for piece in body:
            left -= len(piece)
            if left < 0:
                return


class _Receiving:
    """One upload under way."""

    def __init__(self, context: Context, by: str) -> None:
        self._context, self._by = context, by
        self._reader = EnvelopeReader()
        self._opened: Opened | None = None
        self._verified: Verified | None = None
        self._writing: Writing | None = None
        self._complete: dict[str, Writing] = {}

    async def take(self, piece: bytes) -> None:
        for event in self._reader.feed(piece):
            match event:
                case Opened():
                    await self._open(event)
                case PayloadBegins(uri, size):
                    component = self._expect(uri, size)
                    self._writing = self._context.images.begin(component.digest, component.size)
                case PayloadPiece(data):
                    assert self._writing is not None
                    await asyncio.to_thread(self._writing.write, data)
                case PayloadEnds():
                    assert self._writing is not None
                    self._complete[self._writing.digest] = self._writing
                    self._writing = None

    async def _open(self, opened: Opened) -> None:
        async with self._context.engine.connect() as connection:
            trusted = await releases.trusted_keys(connection)
            if trusted is None:
                raise Refused(
                    "no-key-list", "the service has no key list yet, so no signature can be checked.",
                    "Publish one first with `herald key publish`.",
                )  # fmt: skip
            verified = verify(opened.authentication, opened.manifest, trusted, new_release=True)
            await self._check_board(connection, verified)
            await _check_known(connection, verified)
        self._opened, self._verified = opened, verified

    async def _check_board(self, connection: AsyncConnection, verified: Verified) -> None:
        release = verified.manifest
        board = await releases.find_board(connection, release.board)
        if board is None:
            raise Refused(
                "unknown-board", f"there is no board {release.board!r}.", "Add it first with `herald board add FILE`."
            )
        if release.line not in board["lines"]:
            raise Refused(
                "unknown-line", f"board {release.board} serves {', '.join(board['lines'])}, not {release.line}.",
                "Correct the line, or add it to the board's file and run `herald board add` again.",
            )  # fmt: skip
        if release.vendor_domain != board["vendor_domain"]:
            raise Refused(
                "wrong-vendor",
                f"the release is signed for {release.vendor_domain}, the board belongs to {board['vendor_domain']}.",
            )
        room = min(slot["size"] for slot in board["slots"])
        for component in release.components:
            if component.size > room:
                raise Refused(
                    "too-large-for-slot",
                    f"component {component.name} has {component.size} bytes, a slot of {release.board} has {room}.",
                    "Build a smaller image, or correct the board's slots.",
                )

    def _expect(self, uri: str, size: int) -> Component:
        assert self._verified is not None
        for component in self._verified.manifest.components:
            if component.uri == uri and component.digest not in self._complete:
                if component.size != size:
                    raise Refused("digest-mismatch", f"{uri} has {size} bytes, its manifest says {component.size}.")
                return component
        raise Refused("bad-envelope", f"the file carries {uri!r}, which its manifest does not name (or names once).")

    async def finish(self) -> tuple[int, bool]:
        self._reader.close()
        assert self._verified is not None and self._opened is not None
        verified = self._verified
        for component in verified.manifest.components:
            if component.digest not in self._complete:
                raise Refused(
                    "image-missing", f"the file carries no image for component {component.name}.",
                    "Seal the release again with all its images.",
                )  # fmt: skip
        for writing in self._complete.values():
            await asyncio.to_thread(writing.keep)
        now = self._context.clock.now()
        async with self._context.engine.begin() as connection:
            release_id = await releases.add_release(
                connection, verified, self._opened.authentication, self._opened.manifest, self._by, now
            )
            if release_id is None:  # another upload of the same name was quicker
                await _check_known(connection, verified)
                raise AssertionError("a release that could not be added must be known")
            await self._announce(connection, release_id, verified)
        return release_id, True

    async def _announce(self, connection: AsyncConnection, release_id: int, verified: Verified) -> None:
        release, now = verified.manifest, self._context.clock.now()
        name = f"{release.board}/{release.line}/{release.version}"
        data: dict[str, Any] = {"release": name, "id": release_id}
        await publish(connection, [FeedEvent(now, "release", data={**data, "what": "published"})])
        entry = JournalEntry(
            now, self._by, "release published", name, "signed by an active key", {**data, "key": verified.kid}
        )
        await write_journal(connection, entry)

    def drop(self) -> None:
        """Deletes what was written and not kept."""
        for writing in (self._writing, *self._complete.values()):
            if writing is not None:
                writing.drop()


class AlreadyThereError(Exception):
    """The same release was published before; nothing is to be done."""

    def __init__(self, release_id: int) -> None:
        super().__init__(f"release {release_id} is there already")
        self.release_id = release_id


async def _check_known(connection: AsyncConnection, verified: Verified) -> None:
    """Raises ``AlreadyThereError`` for the same bytes under the same name, ``Refused`` for others."""
    release = verified.manifest
    row = await releases.find_release(connection, release.board, release.line, release.version)
    if row is None:
        return
    (known,) = await releases.list_releases(connection, release_id=row["id"])
    name = f"{release.board}/{release.line}/{release.version}"
    if {c["name"]: c["digest"] for c in known["components"]} == {c.name: c.digest for c in release.components}:
        raise AlreadyThereError(row["id"])
    raise Refused(
        "release-exists", f"{name} was published before, with other bytes.",
        "A version names one set of bytes for ever: raise the version, build again and publish that.",
    )  # fmt: skip
