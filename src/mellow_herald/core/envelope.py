"""A release file read as a stream: the envelope's small parts whole, its payloads in pieces as they arrive."""

from collections.abc import Generator
from dataclasses import dataclass

from mellow_herald.core import cbor
from mellow_herald.core.manifest import (
    AUTHENTICATION,
    AUTHENTICATION_LIMIT,
    ENVELOPE_TAG,
    MANIFEST,
    MANIFEST_LIMIT,
)
from mellow_herald.core.refusal import Refused

NAME_LIMIT = 128
NOT_A_RELEASE = "Pass a file made by `herald release seal`."


@dataclass(frozen=True, slots=True)
class Opened:
    """Both signed parts have arrived; nothing after them should be taken before they are verified."""

    authentication: bytes
    manifest: bytes


@dataclass(frozen=True, slots=True)
class PayloadBegins:
    """A payload of ``size`` bytes with the key ``uri`` follows."""

    uri: str
    size: int


@dataclass(frozen=True, slots=True)
class PayloadPiece:
    """The next bytes of the payload that began last."""

    data: bytes


@dataclass(frozen=True, slots=True)
class PayloadEnds:
    """All bytes of the payload have arrived."""


Event = Opened | PayloadBegins | PayloadPiece | PayloadEnds


class EnvelopeReader:
    """Push parser: feed it bytes in any portions, take events; call ``close`` when the bytes are over."""

    def __init__(self) -> None:
        self._buffer = bytearray()
        self._steps = self._parse()
        self._done = False
        self._pending: list[Event] = []
        next(self._steps)

    def feed(self, data: bytes) -> list[Event]:
        """Takes the next bytes; returns what they completed. Raises ``Refused`` if this is no release file."""
        self._buffer += data
        self._pending = []
        if self._done and self._buffer:
            raise Refused("bad-envelope", "bytes follow the end of the envelope.", NOT_A_RELEASE)
        if not self._done:
            try:
                next(self._steps)
            except StopIteration:
                self._done = True
                if self._buffer:
                    raise Refused("bad-envelope", "bytes follow the end of the envelope.", NOT_A_RELEASE) from None
        return self._pending

    def close(self) -> None:
        """Says that no more bytes come; raises ``Refused`` if the envelope is not complete."""
        if not self._done:
            raise Refused("bad-envelope", "the file ends before the envelope is complete.", "Send it again, whole.")

    def _parse(self) -> Generator[None, None, None]:
        yield
        entries = 0
        for major, what in ((6, "tag"), (5, "map")):
            argument = yield from self._head(major, what)
            if major == 6 and argument != ENVELOPE_TAG:
                raise Refused("bad-envelope", "this is not a SUIT envelope.", NOT_A_RELEASE)
            entries = argument
        authentication = yield from self._small(AUTHENTICATION, AUTHENTICATION_LIMIT)
        manifest = yield from self._small(MANIFEST, MANIFEST_LIMIT)
        self._pending.append(Opened(authentication, manifest))
        for _ in range(entries - 2):
            yield from self._payload()

    def _small(self, key: int, limit: int) -> Generator[None, None, bytes]:
        found = yield from self._head(0, "key")
        if found != key:
            raise Refused("bad-envelope", f"the envelope has key {found} where {key} must stand.", NOT_A_RELEASE)
        size = yield from self._head(2, "byte string")
        return (yield from self._take(size, limit))

    def _payload(self) -> Generator[None, None, None]:
        length = yield from self._head(3, "payload name")
        name = yield from self._take(length, NAME_LIMIT)
        left = yield from self._head(2, "byte string")
        self._pending.append(PayloadBegins(name.decode("utf-8", "replace"), left))
        while left:
            while not self._buffer:
                yield
            piece = bytes(memoryview(self._buffer)[:left])
            del self._buffer[: len(piece)]
            left -= len(piece)
            self._pending.append(PayloadPiece(piece))
        self._pending.append(PayloadEnds())

    def _head(self, major: int, what: str) -> Generator[None, None, int]:
        while (seen := cbor.read_head(self._buffer, 0)) is None:
            yield
        if seen[0] != major:
            raise Refused("bad-envelope", f"a {what} was expected, CBOR type {seen[0]} stands there.", NOT_A_RELEASE)
        del self._buffer[: seen[2]]
        return seen[1]

    def _take(self, size: int, limit: int) -> Generator[None, None, bytes]:
        if size > limit:
            raise Refused("bad-envelope", f"a part of the envelope claims {size} bytes; at most {limit} are allowed.")
        while len(self._buffer) < size:
            yield
        taken = bytes(self._buffer[:size])
        del self._buffer[:size]
        return taken
