"""Publisher keys and the key list that devices trust.

A device is made with the publisher's *root* public key. The root signs numbered *key lists*; a list names the
signing keys and whether each is active, retired or revoked. Lists travel through the service, which carries them
and cannot make them. Keys are Ed25519 (RFC 8032).
"""

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey

from mellow_herald.core import cbor, cose
from mellow_herald.core.digest import sha256_hex
from mellow_herald.core.refusal import Refused

KEY_LIST_TYPE = "mellow-herald-key-list"
KEY_LIST_LIMIT = 64 * 1024


class KeyStatus(StrEnum):
    """What a signing key may still do."""

    ACTIVE = "active"
    RETIRED = "retired"  # signs no new releases; what it signed stays good
    REVOKED = "revoked"  # nothing it signed is ever switched to again


@dataclass(frozen=True, slots=True)
class SigningKey:
    """One line of a key list: the raw public key (32 bytes) and its status."""

    public: bytes
    status: KeyStatus
    name: str = ""

    @property
    def fingerprint(self) -> str:
        """First 16 hex digits of the SHA-256 of the raw public key."""
        return fingerprint(self.public)


@dataclass(frozen=True, slots=True)
class KeyList:
    """What a root said about signing keys; ``number`` only ever rises."""

    number: int
    keys: tuple[SigningKey, ...]

    def find(self, kid: str) -> SigningKey | None:
        """The key with this fingerprint, or None."""
        return next((key for key in self.keys if key.fingerprint == kid), None)


def fingerprint(public: bytes) -> str:
    """The fingerprint of a raw Ed25519 public key (32 bytes): 16 hex digits."""
    return sha256_hex(public)[:16]


def raw_public(key: Ed25519PublicKey | Ed25519PrivateKey) -> bytes:
    """The raw public key, 32 bytes."""
    public = key.public_key() if isinstance(key, Ed25519PrivateKey) else key
    return public.public_bytes(serialization.Encoding.Raw, serialization.PublicFormat.Raw)


def private_to_pem(key: Ed25519PrivateKey) -> bytes:
    """The private key as PKCS #8 PEM (RFC 8410)."""
    return key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )


def private_from_pem(pem: bytes) -> Ed25519PrivateKey:
    """Reads a private key from PKCS #8 PEM; raises ``Refused`` when it is not an Ed25519 key."""
    try:
        key = serialization.load_pem_private_key(pem, password=None)
    except (ValueError, TypeError):
        raise Refused("bad-key", "the file holds no readable private key.", "Make one with `herald key new`.") from None
    if not isinstance(key, Ed25519PrivateKey):
        raise Refused("bad-key", "the private key is not an Ed25519 key.", "Make one with `herald key new`.")
    return key


def public_to_pem(public: bytes) -> bytes:
    """A raw public key (32 bytes) as SubjectPublicKeyInfo PEM."""
    return Ed25519PublicKey.from_public_bytes(public).public_bytes(
        serialization.Encoding.PEM, serialization.PublicFormat.SubjectPublicKeyInfo
    )


def public_from_pem(pem: bytes) -> bytes:
    """The raw public key (32 bytes) out of a public or private PEM file."""
    if b"PRIVATE KEY" in pem:
        return raw_public(private_from_pem(pem))
    try:
        key = serialization.load_pem_public_key(pem)
    except (ValueError, TypeError):
        key = None
    if not isinstance(key, Ed25519PublicKey):
        raise Refused("bad-key", "the file holds no Ed25519 public key.", "Pass the .pub.pem file of the key.")
    return raw_public(key)


def sign_key_list(root: Ed25519PrivateKey, number: int, keys: Iterable[SigningKey]) -> bytes:
    """A key list as COSE_Sign1 (RFC 9052) with its payload inside, signed by the root."""
    lines = [{1: key.public, 2: key.status.value, 3: key.name} for key in keys]
    payload = cbor.encode({1: KEY_LIST_TYPE, 2: number, 3: lines})
    return cose.sign(root, payload, attached=True)


def verify_key_list(data: bytes, root: bytes) -> KeyList:
    """Checks a key list against the raw root public key; raises ``Refused`` for anything not signed by it."""
    if len(data) > KEY_LIST_LIMIT:
        raise Refused("bad-key-list", f"the key list is larger than {KEY_LIST_LIMIT} bytes.")
    signed = cose.parse(data)
    if signed.payload is None:
        raise Refused("bad-key-list", "the key list carries no payload.")
    if signed.kid != fingerprint(root):
        raise Refused(
            "unknown-root",
            f"the key list is signed by {signed.kid}, the root in force is {fingerprint(root)}.",
            "Sign the list with the root the fleet was made with.",
        )
    cose.verify(signed, root, signed.payload)
    body = cbor.decode(signed.payload)
    try:
        if body[1] != KEY_LIST_TYPE or type(body[2]) is not int or body[2] < 1:
            raise ValueError
        keys = tuple(SigningKey(_raw_key(line[1]), KeyStatus(line[2]), str(line[3])) for line in body[3])
    except (KeyError, TypeError, ValueError, IndexError):
        raise Refused("bad-key-list", "the payload is not a key list.", "Make it with `herald key publish`.") from None
    return KeyList(body[2], keys)


def _raw_key(value: object) -> bytes:
    if not isinstance(value, bytes) or len(value) != 32:
        raise ValueError("an Ed25519 public key has 32 bytes")
    return value
