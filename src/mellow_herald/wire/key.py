"""Key lists: which signing keys the root says are good."""

from typing import Annotated

from pydantic import Base64Bytes, Field

from mellow_herald.core.key_status import KeyStatus
from mellow_herald.wire.model import Model, Shown, Time


class KeyListIn(Model):
    """A key list signed by the root, with the root's raw public key (both base64)."""

    root: Annotated[Base64Bytes, Field(min_length=32, max_length=48)]
    key_list: Annotated[Base64Bytes, Field(max_length=100_000)]


class SigningKeyOut(Shown):
    """A signing key as the newest list has it."""

    fingerprint: str
    name: str
    status: KeyStatus


class KeyListOut(Shown):
    """The newest key list."""

    number: int
    root: str
    keys: list[SigningKeyOut]
    published_at: Time
    key_list: str
