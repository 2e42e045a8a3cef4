"""Publisher keys and the key list that devices trust.

A device is made with the publisher's *root* public key. The root signs numbered *key lists*; a list names the
signing keys and whether each is active, retired or revoked. Lists travel through the service, which carries them
and cannot make them. Keys are Ed25519 (RFC 8032).
"""

from collections.abc import Iterable
from dataclasses import dataclass

from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey

from mellow_herald.core import cbor, cose
from mellow_herald.core.digest import sha256_hex
from mellow_herald.core.key_status import KeyStatus
from mellow_herald.core.limits import LARGEST_INTEGER
from mellow_herald.core.refusal import Refused

KEY_LIST_TYPE = "mellow-herald-key-list"
KEY_LIST_LIMIT = 64 * 1024


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


def private_to_pem(key: Ed25519PrivateKey, passphrase: str | None = None) -> bytes:
    """The private key as PKCS #8 PEM (RFC 8410), encrypted if there is a passphrase."""
    encryption = (
        serialization.BestAvailableEncryption(passphrase.encode()) if passphrase else serialization.NoEncryption()
    )
    return key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, encryption)


def is_encrypted(pem: bytes) -> bool:
    """Whether a private key file needs a passphrase."""
    return b"BEGIN ENCRYPTED PRIVATE KEY" in pem


def private_from_pem(pem: bytes, passphrase: str | None = None) -> Ed25519PrivateKey:
    """Reads a private key from PKCS #8 PEM; raises ``Refused`` when it is not an Ed25519 key or stays locked."""
    if b"PRIVATE KEY" not in pem and b"PUBLIC KEY" in pem:
        raise Refused("bad-key", "the file holds a public key.", "Pass the private one, without .pub in its name.")
    if is_encrypted(pem) and not passphrase:
        raise Refused("passphrase-needed", "the key is locked.", "Give its passphrase (HERALD_KEY_PASSPHRASE).")
    try:
        key = serialization.load_pem_private_key(pem, password=passphrase.encode() if is_encrypted(pem) else None)  # type: ignore[union-attr]
    except (ValueError, TypeError):
        if is_encrypted(pem):
            raise Refused("wrong-passphrase", "the passphrase does not open the key.", "Try again.") from None
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
    if is_encrypted(pem):
        raise Refused("bad-key", "the file holds a locked private key.", "Pass the .pub.pem file beside it.")
    if b"PRIVATE KEY" in pem:
        return raw_public(private_from_pem(pem))
    try:
        key = serialization.load_pem_public_key(pem)
    except (ValueError, TypeError):
        key = None
    if not isinstance(key, Ed25519PublicKey):
        raise Refused("bad-key", "the file holds no Ed25519 public key.", "Pass the .pub.pem file of the key.")
    return raw_public(key)


def revise(known: Iterable[SigningKey], changes: Iterable[SigningKey]) -> tuple[SigningKey, ...]:
    """The keys of the next list: those known, with ``changes`` put in or added. No key is ever dropped.

    Raises ``Refused`` for a revoked key that is to come back: somebody else may hold it.
    """
    keys = {key.public: key for key in known}
    for change in changes:
        before = keys.get(change.public)
        if before is not None and before.status is KeyStatus.REVOKED and change.status is not KeyStatus.REVOKED:
            raise Refused(
                "key-revoked",
                f"key {before.fingerprint} ({before.name}) is revoked; a revoked key never comes back.",
                "Make a new one with `herald key new`.",
            )
        name = change.name or (before.name if before else "")
        keys[change.public] = SigningKey(change.public, change.status, name)
    return tuple(keys.values())


def sign_key_list(root: Ed25519PrivateKey, number: int, keys: Iterable[SigningKey]) -> bytes:
    """A key list as COSE_Sign1 (RFC 9052) with its payload inside, signed by the root."""
    lines = [{1: key.public, 2: key.status.value, 3: key.name} for key in keys]
    payload = cbor.encode({1: KEY_LIST_TYPE, 2: number, 3: lines})
    return cose.sign(root, payload, attached=True)


def verify_key_list(data: bytes, root: bytes) -> KeyList:
    """Checks a key list against the raw root public key; raises ``Refused`` for anything not signed by it."""
    signed, payload = _parse_key_list(data)
    if signed.kid != fingerprint(root):
        raise Refused(
            "unknown-root",
            f"the key list is signed by {signed.kid}, the root in force is {fingerprint(root)}.",
            "Sign the list with the root the fleet was made with.",
        )
    cose.verify(signed, root, payload)
    return _read_key_list(payload)


def read_key_list(data: bytes) -> KeyList:
    """What a key list says, without checking who signed it: only to be shown."""
    return _read_key_list(_parse_key_list(data)[1])


def _parse_key_list(data: bytes) -> tuple[cose.Sign1, bytes]:
    if len(data) > KEY_LIST_LIMIT:
        raise Refused("bad-key-list", f"the key list is larger than {KEY_LIST_LIMIT} bytes.")
    signed = cose.parse(data)
    if signed.payload is None:
        raise Refused("bad-key-list", "the key list carries no payload.")
    return signed, signed.payload


def _read_key_list(payload: bytes) -> KeyList:
    body = cbor.decode(payload)
    try:
        if body[1] != KEY_LIST_TYPE or type(body[2]) is not int or not 1 <= body[2] <= LARGEST_INTEGER:
            raise ValueError
        keys = tuple(SigningKey(_raw_key(line[1]), KeyStatus(line[2]), _label(line[3])) for line in body[3])
    except (KeyError, TypeError, ValueError, IndexError):
        raise Refused("bad-key-list", "the payload is not a key list.", "Make it with `herald key publish`.") from None
    return KeyList(body[2], keys)


def _label(value: object) -> str:
    if not isinstance(value, str) or len(value) > 100 or not value.isprintable():
        raise ValueError("a key's name is printable text of at most 100 characters")
    return value


def _raw_key(value: object) -> bytes:
    if not isinstance(value, bytes) or len(value) != 32:
        raise ValueError("an Ed25519 public key has 32 bytes")
    return value
