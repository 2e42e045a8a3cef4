"""A release file that came to a device in one piece, whatever brought it."""

from collections.abc import AsyncIterator
from typing import Any

from cbor2 import CBORTag

from mellow_herald.core import cbor
from mellow_herald.core.manifest import AUTHENTICATION, ENVELOPE_TAG, MANIFEST, join_envelope, manifest_digest
from mellow_herald.core.refusal import Refused
from mellow_herald.core.suit import image_uri
from mellow_herald.sim.update import GivenUp


class Delivered:
    """The newest of them: the device takes from it what it would fetch otherwise, and verifies it itself."""

    def __init__(self) -> None:
        self.file = b""

    def manifest(self, digest: str) -> bytes:
        """The signed envelope without payloads."""
        envelope = self._envelope()
        authentication, manifest = envelope[AUTHENTICATION], envelope[MANIFEST]
        if manifest_digest(manifest) != digest:
            raise GivenUp("download-broken", "what is here is another release")
        return join_envelope(authentication, manifest)

    def manifest_digest(self) -> str | None:
        """What an order for it would name; None if it is no release file."""
        try:
            return manifest_digest(self._envelope()[MANIFEST])
        except (GivenUp, KeyError):
            return None

    async def image(self, uri: str, have: int) -> AsyncIterator[bytes]:
        """The bytes of an image from offset ``have`` on."""
        payload = self._envelope().get(image_uri(uri.rpartition("/")[2]))
        if payload is None:
            raise GivenUp("download-broken", f"what is here has no {uri}")
        yield payload[have:]

    def _envelope(self) -> dict[Any, Any]:
        try:
            match cbor.decode(self.file, tags=frozenset({ENVELOPE_TAG})):
                case CBORTag(tag=107, value=dict(envelope)):
                    return envelope
        except Refused:
            pass
        raise GivenUp("download-broken", "what came is not here any more, or is no release file")
