"""The reader of selectors that works on one device's facts in memory."""

import operator
import re
from collections.abc import Callable, Mapping
from functools import lru_cache
from typing import Any

from mellow_herald.core.selector.tree import (
    FACTS,
    And,
    Compare,
    Has,
    Kind,
    Like,
    Node,
    Not,
    OneOf,
    Or,
    component_of,
    digest_of,
    kind_of,
    label_of,
)
from mellow_herald.core.version import version_key

Facts = Mapping[str, Any]
OPERATORS: dict[str, Callable[[Any, Any], bool]] = {
    "=": operator.eq,
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
}


def matches(node: Node, facts: Facts) -> bool:
    """Whether a device with these facts is picked.

    Labels stand in ``facts`` under their bare key, ``components`` holds the other components' versions by name,
    ``digests`` their digests, ``seen`` is an age in seconds. A fact that is missing or None matches no comparison
    but ``!=``."""
    match node:
        case And(parts):
            return all(matches(part, facts) for part in parts)
        case Or(parts):
            return any(matches(part, facts) for part in parts)
        case Not(part):
            return not matches(part, facts)
        case OneOf(name, values):
            return any(_compare(name, "=", value, facts) for value in values)
        case Like(name, pattern):
            have = _fact(name, facts)
            return have is not None and glob(pattern).fullmatch(str(have)) is not None
        case Has(name):
            return _fact(name, facts) is not None
        case Compare(name, "!=", value):
            return not _compare(name, "=", value, facts)
        case Compare(name, op, value):
            return _compare(name, op, value, facts)


@lru_cache(maxsize=256)
def glob(pattern: str) -> re.Pattern[str]:
    """A pattern of ``*`` (anything) and ``?`` (one character) as a regular expression."""
    parts = {"*": ".*", "?": "."}
    return re.compile("".join(parts.get(letter, re.escape(letter)) for letter in pattern), re.DOTALL)


def _fact(name: str, facts: Facts) -> Any:
    component = component_of(name)
    if component is not None:
        return facts.get("components", {}).get(component)
    image = digest_of(name)
    if image is not None:
        return facts.get("digests", {}).get(image)
    return facts.get(name if name in FACTS else label_of(name))


def _compare(name: str, op: str, value: str | int | bool, facts: Facts) -> bool:
    have = _fact(name, facts)
    if have is None:
        return False
    if kind_of(name) is Kind.VERSION:
        return OPERATORS[op](version_key(have), version_key(str(value)))
    if kind_of(name) is Kind.TEXT:
        return OPERATORS[op](str(have), str(value))
    return OPERATORS[op](have, value)
