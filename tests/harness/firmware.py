"""Keys, images and releases for tests."""

from typing import Any

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from mellow_herald.core.firmware import Image, name_image, portions, scan
from mellow_herald.core.formats import read_build_output
from mellow_herald.core.key_status import KeyStatus
from mellow_herald.core.keys import KeyList, SigningKey, raw_public, sign_key_list, verify_key_list
from mellow_herald.core.nameplate import Nameplate, encode_nameplate
from mellow_herald.core.seal import describe, seal

DOMAIN = "thistledown.example"
BOARD, LINE = "comb-s1", "hive-scale"


class Publisher:
    """A made-up publisher: root, one active signing key, and others by name."""

    def __init__(self) -> None:
        self.root = Ed25519PrivateKey.generate()
        self.key = Ed25519PrivateKey.generate()
        self.retired = Ed25519PrivateKey.generate()
        self.revoked = Ed25519PrivateKey.generate()

    def key_list_bytes(self, number: int = 1) -> bytes:
        """A key list with an active, a retired and a revoked key."""
        keys = [
            SigningKey(raw_public(self.key), KeyStatus.ACTIVE, "active"),
            SigningKey(raw_public(self.retired), KeyStatus.RETIRED, "old"),
            SigningKey(raw_public(self.revoked), KeyStatus.REVOKED, "lost"),
        ]
        return sign_key_list(self.root, number, keys)

    def trusted(self) -> KeyList:
        """The same, as devices know it."""
        return verify_key_list(self.key_list_bytes(), raw_public(self.root))

    def release_file(self, version: str = "2.5.0", *, key: Ed25519PrivateKey | None = None, **more: object) -> bytes:
        """A whole release file of one image."""
        return self.sealed([make_image(version, **more)], f"version {version}", key=key)

    def sealed(
        self, images: list[Image], notes: str = "", *, key: Ed25519PrivateKey | None = None, **options: object
    ) -> bytes:
        """A whole release file of these images; ``options`` as ``describe`` takes them."""
        manifest = describe(images, DOMAIN, notes, **options)  # type: ignore[arg-type]
        return b"".join(seal(images, manifest, key or self.key)[1])


def load_image(data: bytes, *, slot: int | None = None, **stated: Any) -> Image:
    """Makes an image of a build output in memory, of any format; see ``name_image``."""
    loadable = read_build_output(data)
    image = loadable.data
    return name_image(scan(portions(image)), lambda: portions(image), loadable.format, loadable.base, slot, **stated)


def make_image(version: str = "2.5.0", *, fill: bytes = b"\x5a\xa5", size: int = 20_000, **plate: object) -> Image:
    """An image with a nameplate; ``plate`` overrides what stands on it."""
    return load_image(make_bytes(version, fill=fill, size=size, **plate))


def make_bytes(version: str = "2.5.0", *, fill: bytes = b"\x5a\xa5", size: int = 20_000, **plate: object) -> bytes:
    """The bytes of such an image."""
    values = {"line": LINE, "board": BOARD, "component": "app", "version": version, "floor": 4, "updater": 2, **plate}
    stamped = encode_nameplate(Nameplate(**values))  # type: ignore[arg-type]
    return stamped + fill * ((size - len(stamped)) // len(fill))
