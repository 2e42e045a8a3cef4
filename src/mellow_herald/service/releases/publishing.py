"""Receiving a release file: verified before its payloads are taken, visible only when all of it is whole."""

import asyncio
import zlib
from collections.abc import AsyncIterator, Mapping
from contextlib import suppress
from dataclasses import asdict, dataclass, field
from typing import Any

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.component import Kind
from mellow_herald.core.envelope import EnvelopeReader, Opened, PayloadBegins, PayloadEnds, PayloadPiece
from mellow_herald.core.firmware import APP, Scan
from mellow_herald.core.keys import KeyList
from mellow_herald.core.leaks import Leak, LeakKind
from mellow_herald.core.manifest import Verified, split_envelope, verify
from mellow_herald.core.refusal import Refused
from mellow_herald.core.suit import Component, Manifest
from mellow_herald.core.token import read_token
from mellow_herald.core.verdict import Allowed, Check, Reading, Verdict
from mellow_herald.service.context import Context
from mellow_herald.service.people.callers import secret_hash
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.releases.checking import must_pass
from mellow_herald.store import fleet, keys, people, releases
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal
from mellow_herald.store.gate import Lock, share, take
from mellow_herald.store.images import Writing
from mellow_herald.wire.release import ReleaseState

# How much of a refused upload is still read, so that the sender hears the answer instead of a broken connection.
DRAIN_LIMIT = 4 * 1024 * 1024
BENCH = "bench build kept"
LOOKED_INTO = frozenset({Kind.SETTINGS, Kind.CERTIFICATE})
LARGEST_LOOKED_INTO = 256 * 1024


@dataclass(frozen=True, slots=True)
class Wishes:
    """What the engineer wants of an upload. ``draft``: checked and kept, but not offered yet; ``bench``: the device
    that it is for alone, as a scratch image."""

    draft: bool = False
    bench: str | None = None
    allowed: Allowed = field(default_factory=Allowed)
    labels: Mapping[str, str] = field(default_factory=dict)


async def receive(
    context: Context, body: AsyncIterator[bytes], announced: int | None, by: str, wishes: Wishes
) -> tuple[int, bool]:
    """Takes a release file; returns its id and whether it is new. Leaves nothing if it is refused."""
    limit = context.settings.upload_limit
    if announced is not None and announced > limit:
        raise Refused(
            "too-large",
            f"the release file has {announced} bytes; this service takes at most {limit}.",
            "Publish a smaller image, or start the service with a higher upload limit.",
        )
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
        await drain(body)
        return known.release_id, False
    except Refused:
        await drain(body)
        raise
    except (ConnectionError, TimeoutError):  # of the database: that too is an OSError, but says nothing of room
        await drain(body)
        raise
    except OSError as error:
        await drain(body)
        raise ProblemError(
            507,
            "no-room",
            f"The image store cannot be written ({error.strerror}). Nothing was kept: mend that, then repeat.",
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
            if await _check_not_there_yet(connection, verified) is not None:
                return None, ()
        except AlreadyThereError as known:
            return known.release_id, ()
        return None, await must_pass(connection, context.clock, verified.manifest, wishes.allowed)


async def take_line(connection: AsyncConnection, board: str, line: str) -> None:
    """Makes other publishers of a line wait until the transaction ends."""
    await take(connection, Lock.RELEASES, zlib.crc32(f"{board}/{line}".encode()))


async def trusted(connection: AsyncConnection) -> KeyList:
    """The key list in force; raises ``Refused`` if there is none yet."""
    known = await keys.trusted_keys(connection)
    if known is None:
        raise Refused(
            "no-key-list",
            "the service has no key list yet, so no signature can be checked.",
            "Publish one first with `herald key publish`.",
        )
    return known


async def drain(body: AsyncIterator[bytes]) -> None:
    """Reads a bounded rest of a refused upload, so that the sender hears the answer."""
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
        self._content: bytearray | None = None
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
                    # Settings and certificates are looked into; what is larger than any is refused for that.
                    self._content = bytearray() if component.kind in LOOKED_INTO else None
                case PayloadPiece(data):
                    await asyncio.to_thread(self._write, data)
                case PayloadEnds():
                    assert self._writing is not None
                    seen = self._scan.close()
                    if seen.fault is not None:
                        raise seen.fault
                    real = await self._real(seen.leaks)
                    content = None if self._content is None else bytes(self._content)
                    reading = Reading(seen.plate, seen.appearance, real, proven=True, content=content)
                    self._readings[self._writing.digest] = reading
                    self._complete[self._writing.digest] = self._writing
                    self._writing = None

    async def _real(self, leaks: tuple[Leak, ...]) -> tuple[Leak, ...]:
        """Those that are secrets indeed: keys, and the codes and tokens that this service gave out."""
        if not leaks:
            return ()
        async with self._context.engine.connect() as connection:
            macs = await people.mac_keys(connection)
            codes = [secret_hash(leak.text) for leak in leaks]
            known = await people.secrets_known(connection, codes)
        return tuple(
            leak
            for leak, code in zip(leaks, codes, strict=True)
            if leak.kind is LeakKind.PRIVATE_KEY or code in known or read_token(leak.text, macs) is not None
        )

    def _write(self, data: bytes) -> None:
        assert self._writing is not None
        self._writing.write(data)
        self._scan.feed(data)
        if self._content is not None and len(self._content) <= LARGEST_LOOKED_INTO:
            self._content += data

    async def _open(self, opened: Opened) -> None:
        async with self._context.engine.connect() as connection:
            verified = verify(opened.authentication, opened.manifest, await trusted(connection), new_release=True)
            if await self._there_before(connection, verified) is None:
                # What the manifest alone shows to be wrong is said before its images are taken.
                scratch = self._wishes.bench is not None
                allowed = self._wishes.allowed
                await must_pass(connection, self._context.clock, verified.manifest, allowed, scratch=scratch)
        self._opened, self._verified = opened, verified

    async def _there_before(self, connection: AsyncConnection, verified: Verified) -> int | None:
        if self._wishes.bench is not None:
            return await _scratch_there(connection, verified)
        return await _check_not_there_yet(connection, verified)

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
                    "image-missing",
                    f"the file carries no image for component {component.name}.",
                    "Seal the release again with all its images.",
                )
        async with self._context.engine.begin() as connection:
            # Shared with other uploads; whoever cleans images or changes keys waits until this is recorded.
            await share(connection, Lock.KEYS)
            await share(connection, Lock.IMAGES)
            # One release of a line at a time: what was published before must still be the latest when this is recorded.
            await take_line(connection, verified.manifest.board, verified.manifest.line)
            opened = self._opened
            verify(opened.authentication, opened.manifest, await trusted(connection), new_release=True)
            restored = await self._there_before(connection, verified)
            # The records come first, and stand only if all the bytes do: the transaction ends after them.
            await releases.note_images(connection, components, clock.now())
            if restored is not None:
                await releases.change_release(connection, restored, cleaned_at=None)
                await self._announce(connection, restored, "images restored")
                await self._keep()
                return restored, False
            bench, allowed = self._wishes.bench, self._wishes.allowed
            checks = await must_pass(
                connection, clock, verified.manifest, allowed, self._readings, scratch=bench is not None
            )
            read = [digest for digest, reading in self._readings.items() if reading.plate is not None]
            columns = {**self._columns(), "checks": [asdict(check) for check in checks]}
            tried = await releases.find_by_manifest(connection, verified.digest)
            if tried is None:
                release_id = await releases.add_release(connection, verified, read, columns)
            else:  # what was tried on the bench is published now, with the same bytes
                release_id = tried["id"]
                await releases.change_release(connection, release_id, **columns, cleaned_at=None)
            if not self._wishes.draft:
                await name_devices(connection, verified.manifest)
            kept = self._wishes.allowed.keeps_secret if any(r.leaks for r in self._readings.values()) else ""
            warned = [check.detail for check in checks if check.verdict is Verdict.WARN]
            done = "uploaded" if self._wishes.draft else "published"
            await self._announce(connection, release_id, f"{BENCH} for {bench}" if bench else done, warned, kept)
            await self._keep()
        return release_id, True

    async def _keep(self) -> None:
        for writing in self._complete.values():
            await asyncio.to_thread(writing.keep)

    def _columns(self) -> dict[str, Any]:
        assert self._verified is not None and self._opened is not None
        now = self._context.clock.now()
        offered = not self._wishes.draft and self._wishes.bench is None
        state = ReleaseState.DRAFT if self._wishes.draft else ReleaseState.PUBLISHED
        return {
            "state": (ReleaseState.SCRATCH if self._wishes.bench is not None else state).value,
            "notes": self._verified.manifest.description,
            "labels": dict(self._wishes.labels),
            "authentication": self._opened.authentication,
            "manifest": self._opened.manifest,
            "uploaded_at": now,
            "uploaded_by": self._by,
            "published_at": now if offered else None,
            "published_by": self._by if offered else None,
        }

    async def _announce(
        self,
        connection: AsyncConnection,
        release_id: int,
        what: str,
        warned: list[str] | None = None,
        keeps_secret: str = "",
    ) -> None:
        assert self._verified is not None
        name = self._verified.manifest.name
        more: dict[str, Any] = {"key": self._verified.kid, **({"warned": warned} if warned else {})}
        if keeps_secret:
            more["keeps_secret"] = keeps_secret
        await announce(connection, self._context, release_id, name, what, self._by, "signed by an active key", more)

    def drop(self) -> None:
        """Deletes what was written and not kept."""
        for writing in (self._writing, *self._complete.values()):
            if writing is not None:
                writing.drop()


async def name_devices(connection: AsyncConnection, manifest: Manifest) -> None:
    """Who runs these bytes already, as an unknown build, runs this version from now on."""
    for image in manifest.images_of(APP):
        await fleet.name_devices(connection, image.digest, image.version)


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
    # What is kept for the bench is no release.
    said = what if what.startswith(BENCH) else f"release {what}"
    await write_journal(connection, JournalEntry(now, by, said, name, why, {**data, **(more or {})}))


class AlreadyThereError(Exception):
    """The same release was published before; nothing is to be done."""

    def __init__(self, release_id: int) -> None:
        super().__init__(f"release {release_id} is there already")
        self.release_id = release_id


async def _scratch_there(connection: AsyncConnection, verified: Verified) -> int | None:
    """The same for what is brought to the bench: the same manifest is kept once, any other is new."""
    row = await releases.find_by_manifest(connection, verified.digest)
    if row is None:
        return None
    if row["state"] == ReleaseState.DRAFT:
        name = verified.manifest.name
        raise Refused(
            "is-draft",
            f"these very bytes are kept as the draft {name}.",
            f"Publish it (herald release publish {name}) or drop it (herald release drop {name}).",
        )
    if row["cleaned_at"] is not None:
        return int(row["id"])
    raise AlreadyThereError(row["id"])


async def _check_not_there_yet(connection: AsyncConnection, verified: Verified) -> int | None:
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
        f"Drop the draft first: herald release drop {release.name}."
        if drafted
        else "A version names one set of bytes for ever: raise the version, build again and publish that.",
    )
