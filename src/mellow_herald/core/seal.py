"""Sealing: images and a signing key make a release file, as a stream of portions."""

from collections.abc import Iterator, Mapping, Sequence

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from mellow_herald.core.firmware import APP, Image
from mellow_herald.core.manifest import envelope_prefix, payload_head, sign_manifest
from mellow_herald.core.nameplate import Nameplate
from mellow_herald.core.refusal import Refused
from mellow_herald.core.suit import Component, Manifest, encode_manifest, switch_order
from mellow_herald.core.version import parse_version

LONGEST_NOTES = 16 * 1024


def describe(
    images: Sequence[Image],
    vendor_domain: str,
    description: str = "",
    *,
    version: str | None = None,
    after: Mapping[str, Sequence[str]] | None = None,
    bases: Mapping[str, str] | None = None,
    independent: bool = False,
    restart: bool = False,
    without_updater: bool = False,
) -> Manifest:
    """The manifest that these images make.

    ``version`` is the release's own; left out, it is that of ``app``, and must be stated where there is no ``app``.
    ``after`` says which components are switched before which, ``bases`` which settings others replace (digests; what is
    not named replaces any), ``restart`` that devices restart although nothing in it needs that. Raises ``Refused``
    where the images do not belong together, where ``app`` has no updater (unless ``without_updater`` says that this is
    meant), where a component needs another in a version that the release itself does not bring.
    """
    if not images:
        raise Refused("no-image", "a release needs at least one image.")
    plates = [image.nameplate for image in images]
    lead = next((plate for plate in plates if plate.component == APP), plates[0])
    for image in images:
        _check_belongs(image, lead, without_updater)
    _check_slots(images)
    lowest, highest = max(plate.hw_rev_min for plate in plates), min(plate.hw_rev_max for plate in plates)
    if lowest > highest:
        raise Refused(
            "images-differ",
            "no hardware revision is in the range of all images.",
            "Look at the hw_rev range on each nameplate: herald image look FILE.",
        )
    if version is None and lead.component != APP:
        raise Refused(
            "no-version",
            f"the release carries no {APP}, so its own version cannot be read; {lead.component} is {lead.version}.",
            "State the release's version with --release-version.",
        )
    if len(description.encode()) > LONGEST_NOTES:
        raise Refused("bad-notes", f"the notes are longer than {LONGEST_NOTES} bytes.", "Shorten them.")
    parse_version(version or lead.version)
    order = {name: tuple(before) for name, before in (after or {}).items()}
    replaced = dict(bases or {})
    for name in order:
        if name not in {plate.component for plate in plates}:
            raise Refused("bad-order", f"{name} is to come after others, but the release does not carry it.")
    components = tuple(
        Component(
            name=plate.component,
            version=plate.version,
            digest=image.digest,
            size=image.size,
            updater=plate.updater,
            build_id=plate.build_id,
            build_time=plate.build_time,
            slot=image.slot,
            address=image.base,
            after=order.get(plate.component, ()),
            base=replaced.get(plate.component),
        )
        for image, plate in zip(images, plates, strict=True)
    )
    switch_order(components)
    return Manifest(
        vendor_domain=vendor_domain,
        line=lead.line,
        board=lead.board,
        version=version or lead.version,
        floor=max(plate.floor for plate in plates),
        components=components,
        hw_rev_min=lowest,
        hw_rev_max=highest,
        description=description,
        needs=_needs(plates),
        independent=independent,
        restart=restart,
    )


def _check_belongs(image: Image, lead: Nameplate, without_updater: bool) -> None:
    plate = image.nameplate
    if (plate.line, plate.board) != (lead.line, lead.board):
        raise Refused(
            "images-differ",
            f"{plate.component} is for {plate.board}/{plate.line}, {lead.component} for {lead.board}/{lead.line}.",
            "Seal images of one board and line together.",
        )
    if plate.component == APP and plate.updater == 0 and not without_updater:
        raise Refused(
            "no-updater",
            f"the image of component {APP} holds no updater (updater = 0): "
            "a device that runs it can never be updated again.",
            "Build it with the updater linked in. If these devices shall never be updated again, say so with "
            "--cut-off-for-good.",
        )


def _check_slots(images: Sequence[Image]) -> None:
    by_component: dict[str, list[Image]] = {}
    for image in images:
        by_component.setdefault(image.nameplate.component, []).append(image)
    for name, own in by_component.items():
        slots = [image.slot for image in own]
        if len(own) > 1 and (None in slots or len(set(slots)) != len(slots)):
            raise Refused(
                "two-images",
                f"there are {len(own)} images of component {name}.",
                "Seal one image of each component, or one for each slot of the board; a release sheet names the slots.",
            )
        first = own[0].nameplate
        for image in own[1:]:
            if image.nameplate != first:
                raise Refused(
                    "images-differ",
                    f"the images of {name} for the slots {own[0].slot} and {image.slot} do not have the same nameplate "
                    f"({first.version}, build {first.build_id!r}; {image.nameplate.version}, "
                    f"build {image.nameplate.build_id!r}).",
                    "Link both from one build.",
                )


def _needs(plates: Sequence[Nameplate]) -> tuple[tuple[str, str], ...]:
    """What a device must run before, of each component; what the release itself brings is not asked of the device."""
    brought = {plate.component: plate.version for plate in plates}
    needs: dict[str, str] = {}
    for plate in plates:
        for component, least in plate.needs:
            if component in brought and component != plate.component:
                if parse_version(brought[component]) < parse_version(least):
                    raise Refused(
                        "needs-unmet",
                        f"{plate.component} {plate.version} needs {component} {least} or later; "
                        f"the release brings {component} {brought[component]}.",
                        "Seal it with a later image of that component.",
                    )
                continue
            if component not in needs or parse_version(needs[component]) < parse_version(least):
                needs[component] = least
    return tuple(needs.items())


def seal(images: Sequence[Image], manifest: Manifest, key: Ed25519PrivateKey) -> tuple[int, Iterator[bytes]]:
    """Signs and packs a release: (length of the file in bytes, its bytes in portions)."""
    body = encode_manifest(manifest)
    payloads = sorted({image.digest: image for image in images}.items())
    prefix = envelope_prefix(sign_manifest(body, key), body, len(payloads))
    heads = {digest: payload_head(digest, image.size) for digest, image in payloads}
    length = len(prefix) + sum(len(heads[digest]) + image.size for digest, image in payloads)

    def pieces() -> Iterator[bytes]:
        yield prefix
        for digest, image in payloads:
            yield heads[digest]
            yield from image.pieces()

    return length, pieces()
