"""A signed manifest in CBOR diagnostic notation (RFC 8949 section 8), with the names of its keys as comments."""

from collections.abc import Iterator, Mapping
from typing import Any

from cbor2 import CBORTag

from mellow_herald.core import cbor, suit
from mellow_herald.core.cose import SIGN1_TAG
from mellow_herald.core.manifest import AUTHENTICATION, ENVELOPE_TAG, MANIFEST
from mellow_herald.core.refusal import Refused

STEP = "  "
SHORT = 72
_MANIFEST_KEYS = {
    suit.VERSION: "manifest version",
    suit.SEQUENCE: "sequence number: the floor number",
    suit.COMMON: "common",
    suit.VALIDATE: "validate",
    suit.FETCH_SEQUENCE: "payload fetch",
    suit.INSTALL: "install",
    suit.TEXT: "text",
    suit.INDEPENDENT: "independent",
}
_COMMON_KEYS = {suit.COMPONENTS: "components", suit.SHARED_SEQUENCE: "shared sequence"}
_COMMANDS = {
    suit.SET_INDEX: "set component index",
    suit.TRY_EACH: "try each",
    suit.OVERRIDE: "override parameters",
    suit.FETCH: "fetch",
    suit.VENDOR_MATCH: "condition: vendor",
    suit.CLASS_MATCH: "condition: class",
    suit.IMAGE_MATCH: "condition: image",
    suit.SLOT_MATCH: "condition: slot",
    suit.VERSION_CONDITION: "condition: version",
    suit.HW_REV_RANGE: "condition: hw_rev",
}
_PARAMETERS = {
    suit.VENDOR_ID: "vendor id",
    suit.CLASS_ID: "class id",
    suit.IMAGE_DIGEST: "image digest",
    suit.SLOT: "slot",
    suit.IMAGE_SIZE: "image size",
    suit.URI: "uri",
    suit.VERSION_MATCH: "version: at least",
    suit.HW_REV_RANGE: "hw_rev range",
    suit.AFTER: "after",
    suit.LINK_ADDRESS: "link address",
}
_TEXT_KEYS = {suit.DESCRIPTION: "description", suit.RELEASE_VERSION: "version of the release"}
_COMPONENT_TEXT = {
    suit.MODEL_NAME: "board",
    suit.VENDOR_DOMAIN: "vendor domain",
    suit.MODEL_INFO: "line",
    suit.COMPONENT_VERSION: "version",
    suit.UPDATER: "updater",
    suit.BUILD_ID: "build id",
    suit.BUILD_TIME: "build time",
}
_ENVELOPE_KEYS = {AUTHENTICATION: "authentication wrapper", MANIFEST: "manifest"}


def diagnose(envelope: bytes) -> str:
    """The envelope without payloads as text; byte strings that hold CBOR are shown opened, between << and >>."""
    value = cbor.decode(envelope, tags=frozenset({ENVELOPE_TAG}))
    body = _map(value.value, _ENVELOPE_KEYS, {AUTHENTICATION: _authentication, MANIFEST: _manifest}, "")
    return f"{value.tag}({body})"


def _authentication(data: bytes, indent: str) -> str:
    return _opened(data, lambda value, deeper: _list([_guess(one, deeper) for one in value], deeper), indent)


def _manifest(data: bytes, indent: str) -> str:
    inner = {
        suit.COMMON: _common,
        suit.FETCH_SEQUENCE: _sequence,
        suit.INSTALL: _sequence,
        suit.VALIDATE: _sequence,
        suit.TEXT: _text,
    }
    return _opened(data, lambda value, deeper: _map(value, _MANIFEST_KEYS, inner, deeper), indent)


def _common(data: bytes, indent: str) -> str:
    inner = {suit.SHARED_SEQUENCE: _sequence}
    return _opened(data, lambda value, deeper: _map(value, _COMMON_KEYS, inner, deeper), indent)


def _sequence(data: bytes, indent: str) -> str:
    def commands(value: list[Any], deeper: str) -> str:
        lines = []
        for command, argument in zip(value[::2], value[1::2], strict=False):
            shown = _plain(argument)
            if command == suit.OVERRIDE:
                shown = _map(argument, _PARAMETERS, dict.fromkeys(argument, _guess), deeper + STEP)
            elif command == suit.TRY_EACH:
                shown = _list([_sequence(one, deeper + STEP + STEP) for one in argument], deeper + STEP)
            lines.append(f"/ {_COMMANDS.get(command, '?')} / {command}, {shown}")
        return _list(lines, deeper)

    return _opened(data, commands, indent)


def _text(data: bytes, indent: str) -> str:
    def language(value: Mapping[Any, Any], deeper: str) -> str:
        inner = {key: _component_text for key in value if isinstance(key, tuple)}
        return _map(value, _TEXT_KEYS, inner, deeper)

    return _opened(data, lambda value, deeper: _map(value, {}, dict.fromkeys(value, language), deeper), indent)


def _component_text(value: Mapping[Any, Any], indent: str) -> str:
    return _map(value, _COMPONENT_TEXT, {}, indent)


def _guess(value: Any, indent: str) -> str:
    """A byte string that is CBOR of ours is shown opened; identifiers and digests stay bytes."""
    if isinstance(value, bytes) and len(value) > 1 and value[0] >> 5 in (4, 6):
        try:
            inner = cbor.decode(value, tags=frozenset({SIGN1_TAG}))
        except Refused:
            return _plain(value)
        return f"<< {_plain(inner)} >>"
    return _plain(value)


def _opened(data: bytes, show: Any, indent: str) -> str:
    return f"<< {show(cbor.decode(data), indent)} >>"


def _map(value: Mapping[Any, Any], names: Mapping[Any, str], inner: Mapping[Any, Any], indent: str) -> str:
    def entries() -> Iterator[str]:
        for key, content in value.items():
            comment = f"/ {names[key]} / " if key in names else ""
            shown = inner[key](content, indent + STEP) if key in inner else _plain(content)
            yield f"{comment}{_plain(key)}: {shown}"

    return _enclosed("{", list(entries()), "}", indent)


def _list(items: list[str], indent: str) -> str:
    return _enclosed("[", items, "]", indent)


def _enclosed(opening: str, items: list[str], closing: str, indent: str) -> str:
    flat = ", ".join(items)
    if len(flat) + len(indent) <= SHORT and "\n" not in flat:
        return f"{opening}{flat}{closing}"
    lines = ",\n".join(indent + STEP + item for item in items)
    return f"{opening}\n{lines}\n{indent}{closing}"


def _plain(value: Any) -> str:
    match value:
        case bytes():
            name = value.decode("ascii", "replace")
            return f"'{name}'" if name.isidentifier() and len(name) < 32 else f"h'{value.hex()}'"
        case bool():
            return "true" if value else "false"
        case None:
            return "null"
        case str():
            escaped = value.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
            return f'"{escaped}"'
        case CBORTag():
            return f"{value.tag}({_plain(value.value)})"
        case Mapping():
            return "{" + ", ".join(f"{_plain(k)}: {_plain(v)}" for k, v in value.items()) + "}"
        case list() | tuple():
            return "[" + ", ".join(_plain(one) for one in value) + "]"
    return str(value)
