"""What a device answers when one of its resources is read: a value, in any of the formats that the standard lets it
choose (OMA LwM2M 1.1, core, 7.4; SenML is RFC 8428)."""

import json
from collections.abc import Callable, Iterator
from enum import IntEnum
from typing import Any, TypeVar

import cbor2

from mellow_herald.core.refusal import Refused

Value = TypeVar("Value")
# The labels of SenML in CBOR, by their names in JSON.
SENML = {"bn": -2, "n": 0, "v": 2, "vs": 3, "vb": 4, "vd": 8}
VALUES = ("v", "vs", "vb", "vd")
# The kinds of an entry in TLV, and the sizes of an integer there.
RESOURCE_INSTANCE, SEVERAL, RESOURCE = 1, 2, 3
INTEGERS = (1, 2, 4, 8)


class Format(IntEnum):
    """Content formats (IANA) that a resource may come in."""

    TEXT = 0
    OPAQUE = 42
    CBOR = 60
    SENML_JSON = 110
    SENML_CBOR = 112
    TLV = 11542


def read_numbers(content_format: int | None, payload: bytes, resource: int) -> list[int]:
    """The integers of a resource: one, or several where it has several instances. ``Refused`` if they are none."""
    return [_number(one) for one in _read(content_format, payload, resource)]


def read_text(content_format: int | None, payload: bytes, resource: int) -> str:
    """The text of a resource; ``Refused`` if it is none."""
    return _one(_read(content_format, payload, resource), _text)


def read_bytes(content_format: int | None, payload: bytes, resource: int) -> bytes:
    """The bytes of a resource; ``Refused`` if it is none."""
    return _one(_read(content_format, payload, resource), _bytes)


def _read(content_format: int | None, payload: bytes, resource: int) -> list[Any]:
    match content_format:
        case Format.TEXT | None:
            return [_text(payload)]
        case Format.OPAQUE:
            return [payload]
        case Format.CBOR:
            return [_cbor(payload)]
        case Format.SENML_JSON:
            try:
                return _senml(json.loads(payload), {name: name for name in SENML}, resource)
            except ValueError:
                raise _odd("it is no SenML") from None
        case Format.SENML_CBOR:
            return _senml(_cbor(payload), SENML, resource)
        case Format.TLV:
            return list(_tlv(payload, resource))
    raise _odd(f"content format {content_format} is none that a resource comes in")


def _cbor(payload: bytes) -> Any:
    # A device may encode as it likes; only what is signed has to be in one form.
    try:
        return cbor2.loads(payload)
    except (cbor2.CBORDecodeError, ValueError, RecursionError):
        raise _odd("it is no CBOR") from None


def _senml(pack: Any, labels: dict[str, Any], resource: int) -> list[Any]:
    if not isinstance(pack, list) or not all(isinstance(one, dict) for one in pack):
        raise _odd("it is no SenML")
    base, found = "", []
    for record in pack:
        base = record.get(labels["bn"], base)
        parts = [part for part in f"{base}{record.get(labels['n'], '')}".split("/") if part]
        # /object/instance/resource, with one more for an instance of the resource.
        if len(parts) >= 3 and parts[2] != str(resource):
            continue
        found += [record[labels[name]] for name in VALUES if labels[name] in record]
    return found


def _tlv(data: bytes, resource: int) -> Iterator[bytes]:
    for kind, number, value in _entries(data):
        if kind == RESOURCE and number == resource:
            yield value
        elif kind == SEVERAL and number == resource:
            yield from (one for inner, _, one in _entries(value) if inner == RESOURCE_INSTANCE)
        elif kind not in (RESOURCE, SEVERAL, RESOURCE_INSTANCE):
            yield from _tlv(value, resource)


def _entries(data: bytes) -> Iterator[tuple[int, int, bytes]]:
    at = 0
    while at < len(data):
        head = data[at]
        wide, sized = 1 + (head >> 5 & 1), head >> 3 & 3
        begins = at + 1 + wide + sized
        number = int.from_bytes(data[at + 1 : at + 1 + wide])
        length = int.from_bytes(data[at + 1 + wide : begins]) if sized else head & 7
        if begins + length > len(data):
            raise _odd("it is cut off")
        yield head >> 6, number, data[begins : begins + length]
        at = begins + length


def _one(values: list[Any], convert: Callable[[Any], Value]) -> Value:
    if len(values) != 1:
        raise _odd("there is no value in it" if not values else "there are several values in it")
    return convert(values[0])


def _number(value: Any) -> int:
    if isinstance(value, str) and value.strip().lstrip("-").isascii() and value.strip().lstrip("-").isdigit():
        return int(value)
    if isinstance(value, bytes) and len(value) in INTEGERS:
        return int.from_bytes(value, signed=True)
    if isinstance(value, (int, float)) and not isinstance(value, bool) and value == int(value):
        return int(value)
    raise _odd("it is no integer")


def _text(value: Any) -> str:
    if isinstance(value, bytes):
        try:
            return value.decode()
        except UnicodeDecodeError:
            raise _odd("it is no text") from None
    if isinstance(value, str):
        return value
    raise _odd("it is no text")


def _bytes(value: Any) -> bytes:
    if isinstance(value, str):
        try:
            return bytes.fromhex(value)
        except ValueError:
            raise _odd("it is no bytes") from None
    if isinstance(value, bytes):
        return value
    raise _odd("it is no bytes")


def _odd(why: str) -> Refused:
    return Refused("bad-value", f"a resource cannot be read: {why}.")
