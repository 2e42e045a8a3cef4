"""The SUIT_Manifest's own bytes: a release as its publisher describes it, to CBOR and back.

The profile (which keys, which commands, which of them are ours and therefore negative) is docs/release-file.md.
"""

from collections.abc import Iterable, Mapping, Sequence, Set
from dataclasses import dataclass
from typing import Any
from uuid import NAMESPACE_DNS, UUID, uuid5

from mellow_herald.core import cbor
from mellow_herald.core.component import Kind, is_component, kind_of
from mellow_herald.core.digest import is_digest
from mellow_herald.core.limits import LARGEST_INTEGER, LARGEST_REVISION
from mellow_herald.core.nameplate import NAME
from mellow_herald.core.refusal import Refused
from mellow_herald.core.version import parse_version

SHA256_ALGORITHM = -16
VERSION, SEQUENCE, COMMON, VALIDATE, FETCH_SEQUENCE, INSTALL, TEXT = 1, 2, 3, 7, 16, 20, 23
INDEPENDENT = -1  # ours: present and true where components need not go back together
RESTART = -2  # ours: present and true where a device is to restart although nothing in the release needs that
COMPONENTS, SHARED_SEQUENCE = 2, 4
SET_INDEX, TRY_EACH, OVERRIDE, FETCH = 12, 15, 20, 21
VENDOR_ID, CLASS_ID, IMAGE_DIGEST, SLOT, IMAGE_SIZE, URI, VERSION_MATCH = 1, 2, 3, 5, 14, 21, 28
VENDOR_MATCH, CLASS_MATCH, IMAGE_MATCH, SLOT_MATCH, VERSION_CONDITION = 1, 2, 3, 5, 28
HW_REV_RANGE = -1  # our parameter and condition: [lowest, highest] hardware revision
AFTER = -2  # our parameter: indexes of the components that must be switched before this one
LINK_ADDRESS = -3  # our parameter: the address the image is linked for
BASE = -4  # our parameter: SHA-256 of the settings that are replaced; left out, whatever they are
AT_LEAST = 2  # SUIT's comparison "greater or equal"
REPORT_ALL = 15  # reporting policy: record and report both success and failure

LANGUAGE = "en"
DESCRIPTION, RELEASE_VERSION = 1, -1
MODEL_NAME, VENDOR_DOMAIN, MODEL_INFO, COMPONENT_VERSION = 2, 3, 4, 6
UPDATER, BUILD_ID, BUILD_TIME = -1, -2, -3
MOST_COMPONENTS, MOST_SLOTS = 32, 8


@dataclass(frozen=True, slots=True)
class Component:
    """One image of a release: its component, digest and size (bytes), and what its nameplate says.

    ``slot`` is the board's slot (from 0) it is linked for, None where it may stand in any: a component whose code is
    position-dependent stands in the manifest once for each slot. ``after`` names components that are switched first.
    ``base`` (settings) is the digest of what it replaces, None where that may be anything.
    """

    name: str
    version: str
    digest: str
    size: int
    updater: int = 1
    build_id: str = ""
    build_time: int = 0
    slot: int | None = None
    address: int | None = None
    after: tuple[str, ...] = ()
    base: str | None = None

    @property
    def kind(self) -> Kind:
        """What it is."""
        return kind_of(self.name)

    @property
    def uri(self) -> str:
        """Where the image is, relative to the device API and as the key of the integrated payload."""
        return image_uri(self.digest)


@dataclass(frozen=True, slots=True)
class Manifest:
    """A release as its publisher signed it. ``floor`` is the SUIT sequence number; ``needs`` is the least version of
    each named component that a device must run before; ``independent``: components need not go back
    together; ``restart``: the device restarts although nothing in the release needs that."""

    vendor_domain: str
    line: str
    board: str
    version: str
    floor: int
    components: tuple[Component, ...]
    hw_rev_min: int = 0
    hw_rev_max: int = LARGEST_REVISION
    description: str = ""
    needs: tuple[tuple[str, str], ...] = ()
    independent: bool = False
    restart: bool = False

    @property
    def restarts(self) -> bool:
        """Whether a device restarts to run it."""
        return self.restart or any(one.kind is Kind.FIRMWARE for one in self.components)

    @property
    def name(self) -> str:
        """What the release is called: ``board/line/version``."""
        return f"{self.board}/{self.line}/{self.version}"

    @property
    def vendor_id(self) -> UUID:
        """UUIDv5 of the publisher's domain."""
        return uuid5(NAMESPACE_DNS, self.vendor_domain)

    @property
    def class_id(self) -> UUID:
        """UUIDv5 of ``board/line`` within the vendor."""
        return class_id(self.vendor_domain, self.board, self.line)

    def images_of(self, component: str) -> tuple[Component, ...]:
        """The images of one component: one, or one for each slot."""
        return tuple(one for one in self.components if one.name == component)

    def for_slot(self, component: str, slot: int) -> Component | None:
        """The image of a component that may stand in a slot, None if there is none."""
        return next((one for one in self.images_of(component) if one.slot in (None, slot)), None)


def switch_order(components: Sequence[Component]) -> tuple[tuple[str, ...], ...]:
    """The components' names in the order in which a device switches them: those of one group side by side.

    Raises ``Refused`` where ``after`` names a component that is not there, or goes in a circle.
    """
    waiting = {one.name: set(one.after) for one in components}
    for name, before in waiting.items():
        for missing in before - waiting.keys():
            raise Refused(
                "bad-order",
                f"{name} is to come after {missing}, which the release does not carry.",
                "Leave it out, or add the image.",
            )
    groups: list[tuple[str, ...]] = []
    while waiting:
        group = tuple(name for name, before in waiting.items() if not before & waiting.keys())
        if not group:
            raise Refused(
                "bad-order", f"{', '.join(waiting)} wait for each other.", "Take one `after` out of the circle."
            )
        groups.append(group)
        waiting = {name: before for name, before in waiting.items() if name not in group}
    return tuple(groups)


def class_id(vendor_domain: str, board: str, line: str) -> UUID:
    """The class id of one line on one board."""
    return uuid5(uuid5(NAMESPACE_DNS, vendor_domain), f"{board}/{line}")


def image_uri(digest: str) -> str:
    """The relative URI of an image."""
    return f"images/{digest}"


def encode_manifest(manifest: Manifest) -> bytes:
    """The SUIT_Manifest, deterministically encoded and not yet signed."""
    needs = dict(manifest.needs)
    carried = list(dict.fromkeys(component.name for component in manifest.components))
    names = carried + [name for name in needs if name not in carried]
    shared: list[Any] = []
    fetch: list[Any] = []
    match: list[Any] = []
    text: dict[Any, Any] = {DESCRIPTION: manifest.description, RELEASE_VERSION: manifest.version}
    for index, name in enumerate(names):
        shared += [SET_INDEX, index]
        if name in carried:
            images = manifest.images_of(name)
            shared += _identity(manifest, [names.index(before) for before in images[0].after])
            shared += _either(images, lambda one: [OVERRIDE, _image_parameters(one)])
            fetch += [SET_INDEX, index, *_either(images, lambda one: [OVERRIDE, {URI: one.uri}]), FETCH, REPORT_ALL]
            match += [SET_INDEX, index, IMAGE_MATCH, REPORT_ALL]
            text[tuple(_identifier(name))] = _text_element(manifest, images[0])
        if name in needs:
            shared += [OVERRIDE, {VERSION_MATCH: cbor.encode([AT_LEAST, _numbers(needs[name])])}]
            shared += [VERSION_CONDITION, REPORT_ALL]
    common = {COMPONENTS: [_identifier(name) for name in names], SHARED_SEQUENCE: cbor.encode(shared)}
    body = {
        VERSION: 1,
        SEQUENCE: manifest.floor,
        COMMON: cbor.encode(common),
        FETCH_SEQUENCE: cbor.encode(fetch),
        INSTALL: cbor.encode(match),
        VALIDATE: cbor.encode(match),
        TEXT: cbor.encode({LANGUAGE: text}),
    }
    flags = {INDEPENDENT: manifest.independent, RESTART: manifest.restart}
    return cbor.encode({**body, **{flag: True for flag, given in flags.items() if given}})


def _identifier(name: str) -> list[bytes]:
    """A component's identifier: its name, or kind and place."""
    return [part.encode() for part in name.split("/")]


def _identity(manifest: Manifest, after: list[int]) -> list[Any]:
    parameters: dict[int, Any] = {
        VENDOR_ID: manifest.vendor_id.bytes,
        CLASS_ID: manifest.class_id.bytes,
        HW_REV_RANGE: [manifest.hw_rev_min, manifest.hw_rev_max],
    }
    if after:
        parameters[AFTER] = after
    conditions = [VENDOR_MATCH, REPORT_ALL, CLASS_MATCH, REPORT_ALL, HW_REV_RANGE, REPORT_ALL]
    return [OVERRIDE, parameters, *conditions]


def _image_parameters(image: Component) -> dict[int, Any]:
    parameters: dict[int, Any] = {
        IMAGE_DIGEST: cbor.encode([SHA256_ALGORITHM, bytes.fromhex(image.digest)]),
        IMAGE_SIZE: image.size,
    }
    if image.address is not None:
        parameters[LINK_ADDRESS] = image.address
    if image.base is not None:
        parameters[BASE] = bytes.fromhex(image.base)
    return parameters


def _either(images: Sequence[Component], commands: Any) -> list[Any]:
    """The commands for the only image, or a try-each over the slots."""
    if len(images) > 1 and len({one.slot for one in images} - {None}) != len(images):
        raise Refused("bad-manifest", f"component {images[0].name} has two images for one slot.")
    if images[0].slot is None:
        return list(commands(images[0]))
    by_slot = [[OVERRIDE, {SLOT: one.slot}, SLOT_MATCH, REPORT_ALL, *commands(one)] for one in images]
    return [TRY_EACH, [cbor.encode(sequence) for sequence in by_slot]]


def _text_element(manifest: Manifest, image: Component) -> dict[int, Any]:
    return {
        MODEL_NAME: manifest.board,
        VENDOR_DOMAIN: manifest.vendor_domain,
        MODEL_INFO: manifest.line,
        COMPONENT_VERSION: image.version,
        UPDATER: image.updater,
        BUILD_ID: image.build_id,
        BUILD_TIME: image.build_time,
    }


def _numbers(version: str) -> list[int]:
    parsed = parse_version(version)
    return [parsed.major, parsed.minor, parsed.patch]


def read_manifest(data: bytes) -> Manifest:
    """Reads a SUIT_Manifest. Even a publisher's own slip ends in a typed refusal, never in another exception."""
    body = cbor.decode(data)
    try:
        return _read_fields(body)
    except Refused:
        raise
    except (KeyError, IndexError, TypeError, ValueError, AttributeError) as error:
        raise Refused("bad-manifest", f"the manifest lacks a field or has one of the wrong kind ({error!r}).") from None


def _read_fields(body: Mapping[int, Any]) -> Manifest:
    known = {VERSION, SEQUENCE, COMMON, VALIDATE, FETCH_SEQUENCE, INSTALL, TEXT}
    flags = {INDEPENDENT, RESTART}
    if body[VERSION] != 1 or set(body) - flags != known or any(body.get(flag, True) is not True for flag in flags):
        raise Refused("bad-manifest", "the manifest has a version or fields that this version does not know.")
    common = cbor.decode(body[COMMON])
    names = [_component_name(parts) for parts in common[COMPONENTS]]
    if not 0 < len(names) <= MOST_COMPONENTS or len(set(names)) != len(names):
        raise Refused("bad-manifest", f"the manifest must name each component once, and at most {MOST_COMPONENTS}.")
    conditions = {VENDOR_MATCH, CLASS_MATCH, HW_REV_RANGE, VERSION_CONDITION}
    shared = _gather(cbor.decode(common[SHARED_SEQUENCE]), len(names), conditions)
    fetch = _gather(cbor.decode(body[FETCH_SEQUENCE]), len(names), {FETCH})
    for sequence in (INSTALL, VALIDATE):
        _gather(cbor.decode(body[sequence]), len(names), {IMAGE_MATCH})
    text = cbor.decode(body[TEXT])[LANGUAGE]
    carried = [index for index, given in enumerate(shared) if VENDOR_ID in given.always]
    if not carried:
        raise Refused("bad-manifest", "the manifest carries no image.")
    components = tuple(
        image
        for index in carried
        for image in _read_images(index, names, shared[index], fetch[index], text[tuple(_identifier(names[index]))])
    )
    switch_order(components)
    first = text[tuple(_identifier(names[carried[0]]))]
    low, high = shared[carried[0]].always[HW_REV_RANGE]
    manifest = Manifest(
        vendor_domain=_text(first[VENDOR_DOMAIN]),
        line=_name(first[MODEL_INFO]),
        board=_name(first[MODEL_NAME]),
        version=_version(text[RELEASE_VERSION]),
        floor=_whole(body[SEQUENCE]),
        components=components,
        hw_rev_min=_whole(low, LARGEST_REVISION),
        hw_rev_max=_whole(high, LARGEST_REVISION),
        description=_text(text[DESCRIPTION]),
        needs=tuple(
            (names[index], _read_needed(given.always[VERSION_MATCH]))
            for index, given in enumerate(shared)
            if VERSION_MATCH in given.always
        ),
        independent=INDEPENDENT in body,
        restart=RESTART in body,
    )
    for index in carried:
        given = shared[index].always
        if (given[VENDOR_ID], given[CLASS_ID]) != (manifest.vendor_id.bytes, manifest.class_id.bytes):
            raise Refused("bad-manifest", "vendor or class id do not match the board, line and domain in the text.")
    if {names[index] for index in range(len(names)) if index not in carried} - {name for name, _ in manifest.needs}:
        raise Refused("bad-manifest", "the manifest names a component without saying anything of it.")
    return manifest


@dataclass(frozen=True, slots=True)
class _Given:
    """What a sequence sets for one component: parameters that always hold, and those for each slot."""

    always: dict[int, Any]
    by_slot: list[dict[int, Any]]


def _gather(sequence: list[Any], count: int, allowed: Set[int]) -> list[_Given]:
    """What each component is given by ``sequence``; a command not in ``allowed`` is refused."""
    gathered = [_Given({}, []) for _ in range(count)]
    expected = {SET_INDEX, OVERRIDE, TRY_EACH, *allowed} - ({TRY_EACH} if SLOT_MATCH in allowed else set())
    index = 0
    for command, argument in zip(sequence[::2], sequence[1::2], strict=True):
        if command not in expected:
            raise Refused("bad-manifest", f"the manifest uses command {command!r}, which is not allowed there.")
        if command == SET_INDEX:
            index = _whole(argument)
        elif command == OVERRIDE:
            gathered[index].always.update(argument)
        elif command == TRY_EACH:
            if not 0 < len(argument) <= MOST_SLOTS:
                raise Refused("bad-manifest", f"the manifest must try between one and {MOST_SLOTS} slots.")
            for inner in argument:
                # Within a slot no further slots are tried, so this goes no deeper.
                (given,) = _gather(cbor.decode(inner), 1, {SLOT_MATCH})
                gathered[index].by_slot.append(given.always)
    return gathered


def _read_images(
    index: int, names: list[str], shared: _Given, fetch: _Given, text: Mapping[int, Any]
) -> Iterable[Component]:
    name = names[index]
    pairs = list(zip(shared.by_slot, fetch.by_slot, strict=True)) or [(shared.always, fetch.always)]
    slots = [_whole(given[SLOT]) if shared.by_slot else None for given, _ in pairs]
    if len(set(slots)) != len(slots):
        raise Refused("bad-manifest", f"component {name} has two images for one slot.")
    for slot, (given, where) in zip(slots, pairs, strict=True):
        algorithm, digest = cbor.decode(given[IMAGE_DIGEST])
        if algorithm != SHA256_ALGORITHM or not is_digest(digest.hex()):
            raise Refused("bad-manifest", f"the digest of component {name} is not a SHA-256.")
        image = Component(
            name=name,
            version=_version(text[COMPONENT_VERSION]),
            digest=digest.hex(),
            size=_whole(given[IMAGE_SIZE]),
            updater=_whole(text[UPDATER], LARGEST_REVISION),
            build_id=_text(text[BUILD_ID]),
            build_time=_whole(text[BUILD_TIME]),
            slot=slot,
            address=_whole(given[LINK_ADDRESS]) if LINK_ADDRESS in given else None,
            after=tuple(names[_whole(before)] for before in shared.always.get(AFTER, [])),
            base=_base(given.get(BASE), name),
        )
        if (where[URI], where.get(SLOT)) != (image.uri, slot):
            raise Refused("bad-manifest", f"the uri of component {name} does not name its digest.")
        yield image


def _read_needed(condition: bytes) -> str:
    comparison, (major, minor, patch) = cbor.decode(condition)
    if comparison != AT_LEAST:
        raise Refused("bad-manifest", f"the manifest compares versions by {comparison!r}; only 2 (at least) is known.")
    return f"{_whole(major)}.{_whole(minor)}.{_whole(patch)}"


def _whole(value: Any, most: int = LARGEST_INTEGER) -> int:
    if type(value) is not int or not 0 <= value <= most:
        raise ValueError(f"{value!r} is not a whole number up to {most}")
    return value


def _text(value: Any) -> str:
    if not isinstance(value, str) or "\0" in value:
        raise ValueError(f"{value!r} is not text")
    return value


def _version(value: Any) -> str:
    parse_version(_text(value))
    return str(value)


def _name(value: Any) -> str:
    if not isinstance(value, str) or NAME.fullmatch(value) is None:
        raise ValueError(f"{value!r} is not a name")
    return value


def _base(value: Any, name: str) -> str | None:
    if value is None:
        return None
    if kind_of(name) is not Kind.SETTINGS or not is_digest(value.hex()):
        raise ValueError(f"{name} has no base of settings")
    return str(value.hex())


def _component_name(parts: list[bytes]) -> str:
    if len(parts) == 1:
        return _name(parts[0].decode())
    kind, place = (part.decode() for part in parts)
    if not is_component(f"{kind}/{place}"):
        raise ValueError(f"{kind}/{place} is no component")
    return f"{kind}/{place}"
