"""The manifest of a release: an IETF SUIT envelope (draft-ietf-suit-manifest) that devices verify by themselves.

Signing and verifying stand here, and the envelope around the manifest; ``core.suit`` writes and reads the manifest's
own bytes. The profile is docs/release-file.md.
"""

import hashlib
from dataclasses import dataclass

from cbor2 import CBORTag
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from mellow_herald.core import cbor, cose
from mellow_herald.core.key_status import KeyStatus
from mellow_herald.core.keys import KeyList
from mellow_herald.core.refusal import Refused
from mellow_herald.core.suit import SHA256_ALGORITHM, Manifest, image_uri, read_manifest

ENVELOPE_TAG = 107
AUTHENTICATION, MANIFEST = 2, 3
AUTHENTICATION_LIMIT, MANIFEST_LIMIT = 16 * 1024, 64 * 1024


@dataclass(frozen=True, slots=True)
class Verified:
    """A manifest whose signature was checked: by which key, and the hex SUIT_Digest that names it."""

    manifest: Manifest
    digest: str
    kid: str


def suit_digest(manifest: bytes) -> bytes:
    """The encoded SUIT_Digest of a manifest: SHA-256 over its bstr wrapping, head included."""
    return cbor.encode([SHA256_ALGORITHM, hashlib.sha256(cbor.encode(manifest)).digest()])


def manifest_digest(manifest: bytes) -> str:
    """The name of a manifest: the hash inside its SUIT_Digest as 64 hex digits."""
    return hashlib.sha256(cbor.encode(manifest)).hexdigest()


def sign_manifest(manifest: bytes, key: Ed25519PrivateKey) -> bytes:
    """The authentication wrapper: the digest and one COSE_Sign1 over it, with a detached payload."""
    digest = suit_digest(manifest)
    return cbor.encode([digest, cose.sign(key, digest, attached=False)])


def join_envelope(authentication: bytes, manifest: bytes) -> bytes:
    """The envelope without payloads, as devices fetch it."""
    return cbor.encode(CBORTag(ENVELOPE_TAG, {AUTHENTICATION: authentication, MANIFEST: manifest}))


def envelope_prefix(authentication: bytes, manifest: bytes, images: int) -> bytes:
    """The first bytes of a release file; ``images`` payloads, each after its ``payload_head``, follow."""
    return (
        cbor.head(6, ENVELOPE_TAG)
        + cbor.head(5, 2 + images)
        + cbor.encode(AUTHENTICATION)
        + cbor.encode(authentication)
        + cbor.encode(MANIFEST)
        + cbor.encode(manifest)
    )


def payload_head(digest: str, size: int) -> bytes:
    """What stands before the bytes of an integrated payload of ``size`` bytes."""
    return cbor.encode(image_uri(digest)) + cbor.head(2, size)


def split_envelope(envelope: bytes) -> tuple[bytes, bytes]:
    """Authentication wrapper and manifest of an envelope without payloads; raises ``Refused``."""
    if len(envelope) > AUTHENTICATION_LIMIT + MANIFEST_LIMIT:
        raise Refused("bad-envelope", "the envelope is larger than a manifest may be.")
    match cbor.decode(envelope, tags=frozenset({ENVELOPE_TAG})):
        case CBORTag(tag=107, value={2: bytes(authentication), 3: bytes(manifest), **rest}) if not rest:
            return authentication, manifest
    raise Refused("bad-envelope", "this is not a SUIT envelope with one signature and one manifest.")


def verify_envelope(envelope: bytes, trusted: KeyList, *, new_release: bool = False) -> Verified:
    """Verifies an envelope without payloads; see ``verify``."""
    return verify(*split_envelope(envelope), trusted, new_release=new_release)


def verify(authentication: bytes, manifest: bytes, trusted: KeyList, *, new_release: bool) -> Verified:
    """Checks digest and signature of a manifest and reads it.

    ``trusted`` says which keys are good: a revoked or unknown one never is, a retired one only where the release
    is not ``new_release``. Raises ``Refused`` for anything else, never another exception.
    """
    match cbor.decode(authentication):
        case [bytes(digest), bytes(block)]:
            pass
        case _:
            raise Refused("bad-envelope", "the envelope must carry one digest and one signature.")
    if digest != suit_digest(manifest):
        raise Refused(
            "digest-mismatch",
            "the manifest does not match its signed digest.",
            "The file was altered or damaged: seal it again from the original image.",
        )
    signed = cose.parse(block)
    if signed.payload is not None:
        raise Refused("bad-envelope", "the signature must be detached from its payload.")
    key = trusted.find(signed.kid)
    if key is None:
        raise Refused(
            "unknown-key",
            f"no key with fingerprint {signed.kid} is in key list {trusted.number}.",
            "Add it with `herald key publish`, or sign with a key that is listed.",
        )
    if key.status is KeyStatus.REVOKED or (new_release and key.status is not KeyStatus.ACTIVE):
        raise Refused(
            "key-not-active",
            f"key {signed.kid} is {key.status} since key list {trusted.number}.",
            "Seal the release with an active key.",
        )
    cose.verify(signed, key.public, digest)
    return Verified(read_manifest(manifest), manifest_digest(manifest), signed.kid)
