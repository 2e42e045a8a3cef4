"""Receiving a release file: verified before its payloads are taken, visible only when all of it is whole."""

import asyncio
import zlib
from collections.abc import AsyncIterator, Mapping
from contextlib import suppress
from dataclasses import asdict, dataclass, field
from typing import Any

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.checks import Allowed, Check, Reading, Verdict
from mellow_herald.core.envelope import EnvelopeReader, Opened, PayloadBegins, PayloadEnds, PayloadPiece
from mellow_herald.core.firmware import Scan
from mellow_herald.core.manifest import Verified, split_envelope, verify
from mellow_herald.core.refusal import Refused
from mellow_herald.core.suit import Component
from mellow_herald.service.checking import must_pass
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.store import keys, releases
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal
from mellow_herald.store.gate import Lock, share, take
from mellow_herald.store.images import Writing
from mellow_herald.wire.release import ReleaseState

# How much of a refused upload is still read, so that the sender hears the answer instead of a broken connection.
DRAIN_LIMIT = 4 * 1024 * 1024


@dataclass(frozen=True, slots=True)
class Wishes:
    """What the engineer wants of an upload. ``draft``: checked and kept, but not offered yet."""

    draft: bool = False
    allowed: Allowed = field(default_factory=Allowed)
    labels: Mapping[str, str] = field(default_factory=dict)


async def receive(
    context: Context, body: AsyncIterator[bytes], announced: int | None, by: str, wishes: Wishes
) -> tuple[int, bool]:
    """Takes a release file; returns its id and whether it is new. Leaves nothing if it is refused."""
    limit = context.settings.upload_limit
    if announced is not None and announced > limit:
        raise Refused(
            "too-large", f"the release file has {announced} bytes; this service takes at most {limit}.",
            "Publish a smaller image, or start the service with a higher upload limit.",
        )  # fmt: skip
    receiving = _Receiving(context, by, wishes)
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
    except OSError as error:
        await _drain(body)
        raise ProblemError(
            507,
            "no-room",
            f"The image store cannot be written ({error.strerror}). Nothing was kept: make room, then repeat.",
        ) from None
    finally:
        receiving.drop()


async def foresee_envelope(context: Context, envelope: bytes, wishes: Wishes) -> tuple[int | None, tuple[Check, ...]]:
    """What publishing would say of a signed envelope whose images are not sent yet: the id of the very same release,
    if it is there already, and the checks that need no images. Raises ``Refused`` for what cannot be published."""
    authentication, manifest = split_envelope(envelope)
    async with context.engine.connect() as connection:
        verified = verify(authentication, manifest, await trusted(connection), new_release=True)
        try:
            if await _check_known(connection, verified) is not None:
                return None, ()
        except AlreadyThereError as known:
            return known.release_id, ()
        return None, await must_pass(connection, context.clock, verified.manifest, wishes.allowed)


async def take_line(connection: AsyncConnection, board: str, line: str) -> None:
    """Makes other publishers of a line wait until the transaction ends."""
    await take(connection, Lock.RELEASES, zlib.crc32(f"{board}/{line}".encode()))


async def trusted(connection: AsyncConnection) -> Any:
    """The key list in force; raises ``Refused`` if there is none yet."""
    known = await keys.trusted_keys(connection)
    if known is None:
        raise Refused(
            "no-key-list", "the service has no key list yet, so no signature can be checked.",
            "Publish one first with `herald key publish`.",
        )  # fmt: skip
    return known


async def _drain(body: AsyncIterator[bytes]) -> None:
    left = DRAIN_LIMIT
    with suppress(Exception):
        async for piece in body:
            left -= len(piece)
            if left < 0:
                return


class _Receiving:
    """One upload under way."""

    def __init__(self, context: Context, by: str, wishes: Wishes) -> None:
        self._context, self._by, self._wishes = context, by, wishes
        self._reader = EnvelopeReader()
        self._opened: Opened | None = None
        self._verified: Verified | None = None
        self._writing: Writing | None = None
        self._scan = Scan()
        self._complete: dict[str, Writing] = {}
        self._readings: dict[str, Reading] = {}

    async def take(self, piece: bytes) -> None:
        for event in self._reader.feed(piece):
            match event:
                case Opened():
                    await self._open(event)
                case PayloadBegins(uri, size):
                    component = self._expect(uri, size)
                    self._writing = self._context.images.begin(component.digest, component.size)
                    self._scan = Scan()
                case PayloadPiece(data):
                    await asyncio.to_thread(self._write, data)
                case PayloadEnds():
                    assert self._writing is not None
                    seen = self._scan.close()
                    if seen.fault is not None:
                        raise seen.fault
                    self._readings[self._writing.digest] = Reading(seen.plate, seen.appearance)
                    self._complete[self._writing.digest] = self._writing
                    self._writing = None

    def _write(self, data: bytes) -> None:
        assert self._writing is not None
        self._writing.write(data)
        self._scan.feed(data)

    async def _open(self, opened: Opened) -> None:
        async with self._context.engine.connect() as connection:
            verified = verify(opened.authentication, opened.manifest, await trusted(connection), new_release=True)
            if await _check_known(connection, verified) is None:
                # What the manifest alone shows to be wrong is said before its images are taken.
                await must_pass(connection, self._context.clock, verified.manifest, self._wishes.allowed)
        self._opened, self._verified = opened, verified

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
        verified, clock = self._verified, self._context.clock
        components = verified.manifest.components
        for component in components:
            if component.digest not in self._complete:
                raise Refused(
                    "image-missing", f"the file carries no image for component {component.name}.",
                    "Seal the release again with all its images.",
                )  # fmt: skip
        async with self._context.engine.begin() as connection:
            # Shared with other uploads; whoever cleans images or changes keys waits until this is recorded.
            await share(connection, Lock.KEYS)
            await share(connection, Lock.IMAGES)
            # One release of a line at a time: what was published before must still be the latest when this is recorded.
            await take_line(connection, verified.manifest.board, verified.manifest.line)
            opened = self._opened
            verify(opened.authentication, opened.manifest, await trusted(connection), new_release=True)
            restored = await _check_known(connection, verified)
            # The records come first, and stand only if all the bytes do: the transaction ends after them.
            await releases.note_images(connection, components, clock.now())
            if restored is not None:
                await releases.change_release(connection, restored, cleaned_at=None)
                await self._announce(connection, restored, "images restored")
                await self._keep()
                return restored, False
            checks = await must_pass(connection, clock, verified.manifest, self._wishes.allowed, self._readings)
            read = [digest for digest, reading in self._readings.items() if reading.plate is not None]
            release_id = await releases.add_release(
                connection, verified, read, {**self._columns(), "checks": [asdict(check) for check in checks]}
            )
            warned = [check.detail for check in checks if check.verdict is Verdict.WARN]
            await self._announce(connection, release_id, "uploaded" if self._wishes.draft else "published", warned)
            await self._keep()
        return release_id, True

    async def _keep(self) -> None:
        for writing in self._complete.values():
            await asyncio.to_thread(writing.keep)

    def _columns(self) -> dict[str, Any]:
        assert self._verified is not None and self._opened is not None
        now = self._context.clock.now()
        draft = self._wishes.draft
        return {
            "state": ReleaseState.DRAFT.value if draft else ReleaseState.PUBLISHED.value,
            "notes": self._verified.manifest.description,
            "labels": dict(self._wishes.labels),
            "authentication": self._opened.authentication,
            "manifest": self._opened.manifest,
            "uploaded_at": now,
            "uploaded_by": self._by,
            "published_at": None if draft else now,
            "published_by": None if draft else self._by,
        }

    async def _announce(
        self, connection: AsyncConnection, release_id: int, what: str, warned: list[str] | None = None
    ) -> None:
        assert self._verified is not None
        name = self._verified.manifest.name
        more = {"key": self._verified.kid, **({"warned": warned} if warned else {})}
        await announce(connection, self._context, release_id, name, what, self._by, "signed by an active key", more)

    def drop(self) -> None:
        """Deletes what was written and not kept."""
        for writing in (self._writing, *self._complete.values()):
            if writing is not None:
                writing.drop()


async def announce(
    connection: AsyncConnection,
    context: Context,
    release_id: int,
    name: str,
    what: str,
    by: str,
    why: str,
    more: Mapping[str, Any] | None = None,
) -> None:
    """Writes to feed and journal what became of a release."""
    now = context.clock.now()
    data: dict[str, Any] = {"release": name, "id": release_id}
    await publish(connection, [FeedEvent(now, "release", data={**data, "what": what})])
    await write_journal(connection, JournalEntry(now, by, f"release {what}", name, why, {**data, **(more or {})}))


class AlreadyThereError(Exception):
    """The same release was published before; nothing is to be done."""

    def __init__(self, release_id: int) -> None:
        super().__init__(f"release {release_id} is there already")
        self.release_id = release_id


async def _check_known(connection: AsyncConnection, verified: Verified) -> int | None:
    """Raises ``AlreadyThereError`` for the same bytes under the same name, ``Refused`` for others.

    Returns the release's id where its images were cleaned away, so that this upload brings them back.
    """
    release = verified.manifest
    row = await releases.find_release(connection, release.board, release.line, release.version)
    if row is None:
        return None
    (known,) = await releases.list_releases(connection, release_id=row["id"])
    there = {(c["name"], c["slot"]): c["digest"] for c in known["components"]}
    if there == {(c.name, c.slot): c.digest for c in release.components}:
        if row["cleaned_at"] is not None:
            return int(row["id"])
        raise AlreadyThereError(row["id"])
    drafted = row["state"] == ReleaseState.DRAFT
    raise Refused(
        "release-exists",
        f"{release.name} {'is there as a draft' if drafted else 'was published before'}, with other bytes.",
        f"Drop the draft first: herald release drop {release.name}." if drafted else
        "A version names one set of bytes for ever: raise the version, build again and publish that.",
    )  # fmt: skip
