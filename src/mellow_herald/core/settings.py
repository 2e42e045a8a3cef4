"""Settings: a JSON document in one form, its JSON Schema, and how two of them differ."""

import json
from collections.abc import Iterator, Mapping
from functools import lru_cache
from typing import Any

from mellow_herald.core.refusal import Refused

LARGEST = 64 * 1024
MOST_TOLD = 12
ABSENT = object()


def read_settings(data: bytes) -> dict[str, Any]:
    """The document in ``data``; raises ``Refused`` for what is no JSON object, or too large."""
    if len(data) > LARGEST:
        raise Refused("too-large", f"settings of {len(data)} bytes; at most {LARGEST} are taken.", "Leave out more.")
    try:
        document = json.loads(data.decode(), parse_constant=_no_number)
    except (UnicodeDecodeError, ValueError, RecursionError) as error:
        raise Refused("bad-settings", f"these settings are no JSON ({error}).", "Write one JSON object.") from None
    if not isinstance(document, dict):
        raise Refused("bad-settings", "these settings are no JSON object.", 'Write them as {"name": value, …}.')
    return document


def _no_number(text: str) -> float:
    raise ValueError(f"{text} is no JSON number")


def canonical(document: Mapping[str, Any]) -> bytes:
    """A document in the form in which it is sealed: keys sorted, no spaces, so that the same settings have the same
    digest whoever wrote them."""
    return json.dumps(document, sort_keys=True, separators=(",", ":"), ensure_ascii=False, allow_nan=False).encode()


def check_schema(schema: Mapping[str, Any]) -> None:
    """Raises ``Refused`` if this is no JSON Schema (2020-12, or what its ``$schema`` names)."""
    from jsonschema.exceptions import SchemaError
    from jsonschema.validators import validator_for

    try:
        validator_for(schema, default=_default()).check_schema(schema)
    except SchemaError as error:
        at = "/".join(map(str, error.absolute_path)) or "its top"
        raise Refused("bad-schema", f"the JSON Schema is wrong at {at}: {error.message}.") from None


def breaks(document: Mapping[str, Any], schema: Mapping[str, Any]) -> list[str]:
    """Where a document breaks its schema, in words, the first ones only."""
    from jsonschema.validators import validator_for
    from referencing import Registry
    from referencing.exceptions import Unresolvable

    # With a registry of its own, a schema that refers to another is never looked for on the network.
    validator = validator_for(schema, default=_default())(schema, registry=Registry())
    try:
        found = [f"{_place(error.absolute_path)}: {error.message}" for error in validator.iter_errors(document)]
    except Unresolvable as error:
        return [f"the schema refers to {error.ref!r}, which the board's file does not hold"]
    return sorted(found)[:MOST_TOLD]


def differences(before: Mapping[str, Any], after: Mapping[str, Any], within: str = "") -> list[str]:
    """How ``after`` differs from ``before``, a line for each value, the first ones only."""
    return list(_differences(before, after, within))[:MOST_TOLD]


def _differences(before: Mapping[str, Any], after: Mapping[str, Any], within: str) -> Iterator[str]:
    for key in sorted(before.keys() | after.keys()):
        old, new = before.get(key, ABSENT), after.get(key, ABSENT)
        if isinstance(old, dict) and isinstance(new, dict):
            yield from _differences(old, new, f"{within}{key}.")
        elif type(old) is not type(new) or old != new:
            yield f"{within}{key}: {_shown(old)} → {_shown(new)}"


def _shown(value: Any) -> str:
    text = "(not there)" if value is ABSENT else json.dumps(value, ensure_ascii=False)
    return text if len(text) <= 80 else f"{text[:79]}…"


def _place(path: Any) -> str:
    return ".".join(map(str, path)) or "the document"


@lru_cache
def _default() -> Any:
    from jsonschema import Draft202012Validator

    return Draft202012Validator
