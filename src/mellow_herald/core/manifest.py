"""The manifest of a release: an IETF SUIT envelope (draft-ietf-suit-manifest) that devices verify by themselves.

What this profile uses of SUIT is written down in docs/release-file.md. The sequence number is the floor number.
Vendor and class ids are UUIDv5: the vendor from the publisher's domain, the class from ``board/line`` within it.
"""

import hashlib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any
from uuid import NAMESPACE_DNS, UUID, uuid5

from cbor2 import CBORTag
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from mellow_herald.core import cbor, cose
from mellow_herald.core.digest import is_digest
from mellow_herald.core.keys import KeyList, KeyStatus
from mellow_herald.core.refusal import Refused
from mellow_herald.core.version import parse_version

ENVELOPE_TAG = 107
AUTHENTICATION, MANIFEST = 2, 3
SHA256_ALGORITHM = -16
AUTHENTICATION_LIMIT, MANIFEST_LIMIT = 16 * 1024, 64 * 1024

VERSION, SEQUENCE, COMMON, VALIDATE, FETCH_SEQUENCE, INSTALL, TEXT = 1, 2, 3, 7, 16, 20, 23
COMPONENTS, SHARED_SEQUENCE = 2, 4
SET_INDEX, OVERRIDE, FETCH = 12, 20, 21
VENDOR_ID, CLASS_ID, IMAGE_DIGEST, IMAGE_SIZE, URI = 1, 2, 3, 14, 21
VENDOR_MATCH, CLASS_MATCH, IMAGE_MATCH = 1, 2, 3
HW_REV_RANGE = -1  # custom parameter and condition: [lowest, highest] hardware revision
REPORT_ALL = 15  # reporting policy: record and report both success and failure

LANGUAGE = "en"
DESCRIPTION, RELEASE_VERSION = 1, -1
MODEL_NAME, VENDOR_DOMAIN, MODEL_INFO, COMPONENT_VERSION = 2, 3, 4, 6
UPDATER, BUILD_ID, BUILD_TIME = -1, -2, -3


@dataclass(frozen=True, slots=True)
class Component:
    """One component of a release: its image by digest and size (bytes), and what its nameplate says."""

    name: str
    version: str
    digest: str
    size: int
    updater: int = 1
    build_id: str = ""
    build_time: int = 0

    @property
    def uri(self) -> str:
        """Where the image is, relative to the device API and as the key of the integrated payload."""
        return image_uri(self.digest)


@dataclass(frozen=True, slots=True)
class Manifest:
    """A release as its publisher signed it. ``floor`` is the SUIT sequence number."""

    vendor_domain: str
    line: str
    board: str
    version: str
    floor: int
    components: tuple[Component, ...]
    hw_rev_min: int = 0
    hw_rev_max: int = 65535
    description: str = ""

    @property
    def vendor_id(self) -> UUID:
        """UUIDv5 of the publisher's domain."""
        return uuid5(NAMESPACE_DNS, self.vendor_domain)

    @property
    def class_id(self) -> UUID:
        """UUIDv5 of ``board/line`` within the vendor."""
        return class_id(self.vendor_domain, self.board, self.line)


@dataclass(frozen=True, slots=True)
class Verified:
    """A manifest whose signature was checked: by which key, and the hex SUIT_Digest that names it."""

    manifest: Manifest
    digest: str
    kid: str


def class_id(vendor_domain: str, board: str, line: str) -> UUID:
    """The class id of one line on one board."""
    return uuid5(uuid5(NAMESPACE_DNS, vendor_domain), f"{board}/{line}")


def image_uri(digest: str) -> str:
    """The relative URI of an image."""
    return f"images/{digest}"


def encode_manifest(manifest: Manifest) -> bytes:
    """The SUIT_Manifest, deterministically encoded and not yet signed."""
    ids = [[component.name.encode()] for component in manifest.components]
    shared: list[Any] = []
    fetch: list[Any] = []
    match: list[Any] = []
    for index, component in enumerate(manifest.components):
        digest = cbor.encode([SHA256_ALGORITHM, bytes.fromhex(component.digest)])
        parameters = {
            VENDOR_ID: manifest.vendor_id.bytes,
            CLASS_ID: manifest.class_id.bytes,
            IMAGE_DIGEST: digest,
            IMAGE_SIZE: component.size,
            HW_REV_RANGE: [manifest.hw_rev_min, manifest.hw_rev_max],
        }
        shared += [SET_INDEX, index, OVERRIDE, parameters]
        shared += [VENDOR_MATCH, REPORT_ALL, CLASS_MATCH, REPORT_ALL, HW_REV_RANGE, REPORT_ALL]
        fetch += [SET_INDEX, index, OVERRIDE, {URI: component.uri}, FETCH, REPORT_ALL]
        match += [SET_INDEX, index, IMAGE_MATCH, REPORT_ALL]
    text: dict[Any, Any] = {DESCRIPTION: manifest.description, RELEASE_VERSION: manifest.version}
    for component in manifest.components:
        text[(component.name.encode(),)] = {
            MODEL_NAME: manifest.board,
            VENDOR_DOMAIN: manifest.vendor_domain,
            MODEL_INFO: manifest.line,
            COMPONENT_VERSION: component.version,
            UPDATER: component.updater,
            BUILD_ID: component.build_id,
            BUILD_TIME: component.build_time,
        }
    return cbor.encode(
        {
            VERSION: 1,
            SEQUENCE: manifest.floor,
            COMMON: cbor.encode({COMPONENTS: ids, SHARED_SEQUENCE: cbor.encode(shared)}),
            FETCH_SEQUENCE: cbor.encode(fetch),
            INSTALL: cbor.encode(match),
            VALIDATE: cbor.encode(match),
            TEXT: cbor.encode({LANGUAGE: text}),
        }
    )


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
            "digest-mismatch", "the manifest does not match its signed digest.",
            "The file was altered or damaged: seal it again from the original image.",
        )  # fmt: skip
    signed = cose.parse(block)
    if signed.payload is not None:
        raise Refused("bad-envelope", "the signature must be detached from its payload.")
    key = trusted.find(signed.kid)
    if key is None:
        raise Refused(
            "unknown-key", f"no key with fingerprint {signed.kid} is in key list {trusted.number}.",
            "Add it with `herald key publish`, or sign with a key that is listed.",
        )  # fmt: skip
    if key.status is KeyStatus.REVOKED or (new_release and key.status is not KeyStatus.ACTIVE):
        raise Refused(
            "key-not-active", f"key {signed.kid} is {key.status} since key list {trusted.number}.",
            "Seal the release with an active key.",
        )  # fmt: skip
    cose.verify(signed, key.public, digest)
    return Verified(_read(manifest), manifest_digest(manifest), signed.kid)


def _read(data: bytes) -> Manifest:
    """Reads a signed manifest. Even a publisher's own slip must end in a typed refusal."""
    body = cbor.decode(data)
    try:
        return _read_fields(body)
    except Refused:
        raise
    except (KeyError, IndexError, TypeError, ValueError, AttributeError, UnicodeDecodeError) as error:
        raise Refused("bad-manifest", f"the manifest lacks a field or has one of the wrong kind ({error!r}).") from None


def _read_fields(body: Mapping[int, Any]) -> Manifest:
    known = {VERSION, SEQUENCE, COMMON, VALIDATE, FETCH_SEQUENCE, INSTALL, TEXT}
    if body[VERSION] != 1 or set(body) != known:
        raise Refused("bad-manifest", "the manifest has a version or fields that this version does not know.")
    floor = _whole(body[SEQUENCE])
    common = cbor.decode(body[COMMON])
    names = [_name(parts) for parts in common[COMPONENTS]]
    if not names or len(set(names)) != len(names):
        raise Refused("bad-manifest", "the manifest must name each component once.")
    shared = _gather(cbor.decode(common[SHARED_SEQUENCE]), len(names), {VENDOR_MATCH, CLASS_MATCH, HW_REV_RANGE})
    fetch = _gather(cbor.decode(body[FETCH_SEQUENCE]), len(names), {FETCH})
    for sequence in (INSTALL, VALIDATE):
        _gather(cbor.decode(body[sequence]), len(names), {IMAGE_MATCH})
    text = cbor.decode(body[TEXT])[LANGUAGE]
    components = tuple(
        _component(name, shared[index], fetch[index], text[(name.encode(),)]) for index, name in enumerate(names)
    )
    first = text[(names[0].encode(),)]
    low, high = shared[0][HW_REV_RANGE]
    manifest = Manifest(
        vendor_domain=_text(first[VENDOR_DOMAIN]),
        line=_text(first[MODEL_INFO]),
        board=_text(first[MODEL_NAME]),
        version=_text(text[RELEASE_VERSION]),
        floor=floor,
        components=components,
        hw_rev_min=_whole(low),
        hw_rev_max=_whole(high),
        description=_text(text[DESCRIPTION]),
    )
    parse_version(manifest.version)
    for parameters in shared:
        ids = (parameters[VENDOR_ID], parameters[CLASS_ID])
        if ids != (manifest.vendor_id.bytes, manifest.class_id.bytes):
            raise Refused("bad-manifest", "vendor or class id do not match the board, line and domain in the text.")
    return manifest


def _component(name: str, shared: Mapping[int, Any], fetch: Mapping[int, Any], text: Mapping[int, Any]) -> Component:
    algorithm, digest = cbor.decode(shared[IMAGE_DIGEST])
    if algorithm != SHA256_ALGORITHM or not is_digest(digest.hex()):
        raise Refused("bad-manifest", f"the digest of component {name} is not a SHA-256.")
    component = Component(
        name=name,
        version=_text(text[COMPONENT_VERSION]),
        digest=digest.hex(),
        size=_whole(shared[IMAGE_SIZE]),
        updater=_whole(text[UPDATER]),
        build_id=_text(text[BUILD_ID]),
        build_time=_whole(text[BUILD_TIME]),
    )
    parse_version(component.version)
    if fetch[URI] != component.uri:
        raise Refused("bad-manifest", f"the uri of component {name} does not name its digest.")
    return component


def _gather(sequence: list[Any], count: int, allowed: Iterable[int]) -> list[dict[int, Any]]:
    """The parameters each component holds after ``sequence``; a command not in ``allowed`` is refused."""
    gathered: list[dict[int, Any]] = [{} for _ in range(count)]
    expected = {SET_INDEX, OVERRIDE, *allowed}
    index = 0
    for command, argument in zip(sequence[::2], sequence[1::2], strict=True):
        if command not in expected:
            raise Refused("bad-manifest", f"the manifest uses command {command}, which is not allowed there.")
        if command == SET_INDEX:
            index = _whole(argument)
        elif command == OVERRIDE:
            gathered[index].update(argument)
    return gathered


def _whole(value: Any) -> int:
    if type(value) is not int or value < 0:
        raise ValueError(f"{value!r} is not a whole number")
    return value


def _text(value: Any) -> str:
    if not isinstance(value, str):
        raise ValueError(f"{value!r} is not text")
    return value


def _name(parts: list[bytes]) -> str:
    (only,) = parts
    return only.decode()
