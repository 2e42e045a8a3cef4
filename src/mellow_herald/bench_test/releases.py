"""What the course brings to the device: the images that it was given, signed with keys of its own."""

import time
from dataclasses import dataclass, field
from pathlib import Path

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from mellow_herald.core.firmware import Image
from mellow_herald.core.key_status import KeyStatus
from mellow_herald.core.keys import (
    SigningKey,
    private_from_pem,
    private_to_pem,
    public_to_pem,
    raw_public,
    sign_key_list,
)
from mellow_herald.core.manifest import join_envelope, manifest_digest, sign_manifest
from mellow_herald.core.seal import describe
from mellow_herald.core.suit import encode_manifest


@dataclass
class Keys:
    """The root that the device is built with, and the signing keys of this run. ``number`` is that of the key list:
    higher than in any run before, since a device keeps the highest that it saw."""

    root: Ed25519PrivateKey
    number: int = field(default_factory=lambda: int(time.time()))
    signing: Ed25519PrivateKey = field(default_factory=Ed25519PrivateKey.generate)
    _listed: dict[bytes, SigningKey] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.renew()

    def key_list(self) -> bytes:
        """The list in force."""
        return sign_key_list(self.root, self.number, self._listed.values())

    def renew(self) -> None:
        """A new signing key, active from now on."""
        self.signing = Ed25519PrivateKey.generate()
        self._list(KeyStatus.ACTIVE)

    def revoke(self) -> None:
        """Revokes the signing key."""
        self._list(KeyStatus.REVOKED)

    def _list(self, status: KeyStatus) -> None:
        public = raw_public(self.signing)
        self._listed[public] = SigningKey(public, status, "bench test")
        self.number += 1


@dataclass(frozen=True)
class Release:
    """An image as it is offered: ``envelope`` and ``content`` are what is given out, ``digest`` the image's."""

    envelope: bytes
    manifest: str
    digest: str
    content: bytes
    version: str
    floor: int


def open_root(folder: Path) -> Ed25519PrivateKey:
    """The root of a folder, made at its first use; its public half is what a device is to be built with."""
    file = folder / "root.pem"
    if not file.exists():
        folder.mkdir(parents=True, exist_ok=True)
        root = Ed25519PrivateKey.generate()
        file.touch(mode=0o600)
        file.write_bytes(private_to_pem(root))
        (folder / "root.pub.pem").write_bytes(public_to_pem(raw_public(root)))
    return private_from_pem(file.read_bytes())


def seal(image: Image, domain: str, keys: Keys) -> Release:
    """A release of one image, signed with the key in force."""
    manifest = encode_manifest(describe([image], domain))
    envelope = join_envelope(sign_manifest(manifest, keys.signing), manifest)
    plate = image.nameplate
    return Release(envelope, manifest_digest(manifest), image.digest, image.data, plate.version, plate.floor)
