"""COSE_Sign1 (RFC 9052) with Ed25519, the only signature this project uses.

Emitted with algorithm −19 (Ed25519, RFC 9864); −8 (EdDSA) is accepted too, and the key type is enforced by
never taking anything but raw Ed25519 keys.
"""

from collections.abc import Mapping
from dataclasses import dataclass

from cbor2 import CBORTag
from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey

from mellow_herald.core import cbor
from mellow_herald.core.digest import sha256_hex
from mellow_herald.core.refusal import Refused

SIGN1_TAG = 18
ALGORITHM, KID = 1, 4
ED25519, EDDSA = -19, -8


@dataclass(frozen=True, slots=True)
class Sign1:
    """A parsed COSE_Sign1, not yet verified. ``kid`` is a key fingerprint in hex; ``payload`` None means detached."""

    protected: bytes
    kid: str
    payload: bytes | None
    signature: bytes


def sign(key: Ed25519PrivateKey, payload: bytes, *, attached: bool) -> bytes:
    """Signs ``payload``; the result carries it when ``attached``, or nil in its place."""
    public = key.public_key().public_bytes_raw()
    kid = bytes.fromhex(sha256_hex(public)[:16])
    protected = cbor.encode({ALGORITHM: ED25519, KID: kid})
    signature = key.sign(_sig_structure(protected, payload))
    return cbor.encode(CBORTag(SIGN1_TAG, [protected, {}, payload if attached else None, signature]))


def parse(data: bytes) -> Sign1:
    """Takes a COSE_Sign1 apart; raises ``Refused`` if it is anything else or uses another algorithm."""
    value = cbor.decode(data, tags=frozenset({SIGN1_TAG}))
    match value:
        case CBORTag(tag=18, value=[bytes(protected), Mapping(), (bytes() | None) as payload, bytes(signature)]):
            pass
        case _:
            raise Refused("bad-signature", "the signature block is not a COSE_Sign1.")
    header = cbor.decode(protected)
    if not isinstance(header, Mapping) or header.get(ALGORITHM) not in (ED25519, EDDSA):
        raise Refused("bad-signature", "the signature does not use Ed25519.", "Sign with an Ed25519 key.")
    if not set(header) <= {ALGORITHM, KID}:
        raise Refused("bad-signature", "the signature has protected headers this version does not know.")
    kid = header.get(KID)
    if not isinstance(kid, bytes) or len(kid) != 8:
        raise Refused("bad-signature", "the signature names no key (kid).")
    return Sign1(protected, kid.hex(), payload, signature)


def verify(signed: Sign1, public: bytes, payload: bytes) -> None:
    """Checks the signature over ``payload`` with a raw Ed25519 public key; raises ``Refused`` if it is not good."""
    try:
        Ed25519PublicKey.from_public_bytes(public).verify(signed.signature, _sig_structure(signed.protected, payload))
    except (InvalidSignature, ValueError):
        raise Refused(
            "bad-signature",
            f"the signature by key {signed.kid} does not match the content.",
            "The file was altered or damaged after signing: seal it again from the original image.",
        ) from None


def _sig_structure(protected: bytes, payload: bytes) -> bytes:
    return cbor.encode(["Signature1", protected, b"", payload])
