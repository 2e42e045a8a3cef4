"""Sealing: images and a signing key make a release file, as a stream of portions."""

from collections.abc import Iterator, Sequence

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from mellow_herald.core.firmware import Image
from mellow_herald.core.manifest import (
    Component,
    Manifest,
    encode_manifest,
    envelope_prefix,
    payload_head,
    sign_manifest,
)
from mellow_herald.core.refusal import Refused

PORTION = 256 * 1024


def describe(images: Sequence[Image], vendor_domain: str, description: str = "") -> Manifest:
    """The manifest that these images make; the release takes line, board and version from ``app`` (or the first).

    Raises ``Refused`` where the images do not belong together, or one has no updater.
    """
    if not images:
        raise Refused("no-image", "a release needs at least one image.")
    lead = next((image for image in images if image.nameplate.component == "app"), images[0]).nameplate
    for image in images:
        plate = image.nameplate
        if (plate.line, plate.board) != (lead.line, lead.board):
            raise Refused(
                "images-differ",
                f"{plate.component} is for {plate.board}/{plate.line}, {lead.component} for {lead.board}/{lead.line}.",
                "Seal images of one board and line together.",
            )
        if plate.updater == 0:
            raise Refused(
                "no-updater",
                f"the image of component {plate.component} holds no updater (updater = 0): "
                "a device that runs it can never be updated again.",
                "Build it with the updater linked in.",
            )
    return Manifest(
        vendor_domain=vendor_domain,
        line=lead.line,
        board=lead.board,
        version=lead.version,
        floor=max(image.nameplate.floor for image in images),
        components=tuple(
            Component(p.component, p.version, image.digest, image.size, p.updater, p.build_id, p.build_time)
            for image in images
            for p in (image.nameplate,)
        ),
        hw_rev_min=max(image.nameplate.hw_rev_min for image in images),
        hw_rev_max=min(image.nameplate.hw_rev_max for image in images),
        description=description,
    )


def seal(images: Sequence[Image], manifest: Manifest, key: Ed25519PrivateKey) -> tuple[int, Iterator[bytes]]:
    """Signs and packs a release: (length of the file in bytes, its bytes in portions of at most 256 KiB)."""
    body = encode_manifest(manifest)
    payloads = sorted({image.digest: image for image in images}.items())
    prefix = envelope_prefix(sign_manifest(body, key), body, len(payloads))
    heads = {digest: payload_head(digest, image.size) for digest, image in payloads}
    length = len(prefix) + sum(len(heads[digest]) + image.size for digest, image in payloads)

    def portions() -> Iterator[bytes]:
        yield prefix
        for digest, image in payloads:
            yield heads[digest]
            for at in range(0, image.size, PORTION):
                yield image.data[at : at + PORTION]

    return length, portions()
