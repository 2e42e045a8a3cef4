"""Device tokens: checked with a MAC, so that most check-ins need no database.

A token is ``mh1.<id>.<generation>.<key id>.<MAC>``; the MAC is HMAC-SHA-256 over what stands before it, 32 bytes,
base64url without padding. Raising a device's generation revokes every token it had.
"""

import base64
import hmac
from collections.abc import Mapping
from dataclasses import dataclass

PREFIX = "mh1"


@dataclass(frozen=True, slots=True)
class DeviceToken:
    """What a good token says."""

    device_id: int
    generation: int
    key_id: int


def make_token(token: DeviceToken, key: bytes) -> str:
    """Writes the token with the MAC key ``key`` (32 bytes)."""
    claims = f"{PREFIX}.{token.device_id}.{token.generation}.{token.key_id}"
    return f"{claims}.{_mac(claims, key)}"


def read_token(text: str, keys: Mapping[int, bytes]) -> DeviceToken | None:
    """The token behind ``text``, or None if it was not made with one of ``keys`` (by key id)."""
    claims, _, mac = text.rpartition(".")
    try:
        prefix, device_id, generation, key_id = claims.split(".")
        token = DeviceToken(int(device_id), int(generation), int(key_id))
    except ValueError:
        return None
    key = keys.get(token.key_id)
    if prefix != PREFIX or key is None or not mac.isascii() or not hmac.compare_digest(mac, _mac(claims, key)):
        return None
    return token


def _mac(claims: str, key: bytes) -> str:
    digest = hmac.digest(key, claims.encode(), "sha256")
    return base64.urlsafe_b64encode(digest).rstrip(b"=").decode()
