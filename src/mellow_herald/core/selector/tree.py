"""The syntax tree of a selector, and the names of the facts it may speak of."""

from dataclasses import dataclass
from enum import StrEnum


class Kind(StrEnum):
    """How the values of a fact compare."""

    TEXT = "text"
    NUMBER = "number"
    VERSION = "version"
    FLAG = "flag"  # yes or no
    AGE = "age"  # written as a duration, kept in seconds


FACTS: dict[str, Kind] = {
    "serial": Kind.TEXT,
    "board": Kind.TEXT,
    "line": Kind.TEXT,
    "hw_rev": Kind.NUMBER,
    "version": Kind.VERSION,
    "digest": Kind.TEXT,
    "floor": Kind.NUMBER,
    "updater": Kind.NUMBER,
    "admission": Kind.TEXT,
    "parts": Kind.TEXT,  # what it is made of, as in ",app,radio,settings/main,"
    "gateway": Kind.TEXT,
    "known_build": Kind.FLAG,
    "runs": Kind.TEXT,  # release, bench-build, unknown-build, recovery or unreadable
    "version_differs": Kind.FLAG,  # it says another version of itself than its bytes were published as
    "on_bench": Kind.FLAG,  # marked as a bench device
    "radio": Kind.TEXT,  # on narrow radio: ready for a session, no-packages or no-key
    "radio_region": Kind.TEXT,
    "rescued": Kind.FLAG,
    "cloned": Kind.FLAG,
    "restart_loop": Kind.FLAG,
    "in_list": Kind.NUMBER,  # named in the list of this number
    "in_rollout": Kind.FLAG,
    "overtakable": Kind.FLAG,  # in a rollout that has not told it yet, or whose turn for it has not come
    "rollout": Kind.NUMBER,  # the newest one that it is, or was, part of
    "ring": Kind.TEXT,  # its ring there
    "pinned": Kind.FLAG,
    "presence": Kind.TEXT,
    "seen": Kind.AGE,
    "battery": Kind.NUMBER,
    "charging": Kind.FLAG,
    "link": Kind.TEXT,
}
LABEL_PREFIX = "label."
COMPONENT_SUFFIX = ".version"
DIGEST_SUFFIX = ".digest"


@dataclass(frozen=True, slots=True)
class Compare:
    """``name op value``; ``value`` is an int for numbers, a bool for flags, else text."""

    name: str
    op: str
    value: str | int | bool


@dataclass(frozen=True, slots=True)
class OneOf:
    """``name in (values)``."""

    name: str
    values: tuple[str | int | bool, ...]


@dataclass(frozen=True, slots=True)
class Like:
    """``name ~ "pattern"``: ``*`` stands for anything, ``?`` for one character."""

    name: str
    pattern: str


@dataclass(frozen=True, slots=True)
class Has:
    """``has name``: the fact or label is known."""

    name: str


@dataclass(frozen=True, slots=True)
class Not:
    """Everything the part does not match; a missing fact is simply not matched by a comparison."""

    part: "Node"


@dataclass(frozen=True, slots=True)
class And:
    """All parts match."""

    parts: "tuple[Node, ...]"


@dataclass(frozen=True, slots=True)
class Or:
    """At least one part matches."""

    parts: "tuple[Node, ...]"


Node = Compare | OneOf | Like | Has | Not | And | Or


def kind_of(name: str) -> Kind:
    """The kind of a fact; every other name is a label, and labels are text."""
    return Kind.VERSION if component_of(name) else FACTS.get(name, Kind.TEXT)


def component_of(name: str) -> str | None:
    """The component whose version a name like ``radio.version`` speaks of, None for other names."""
    if name.endswith(COMPONENT_SUFFIX) and not name.startswith(LABEL_PREFIX):
        return name.removesuffix(COMPONENT_SUFFIX)
    return None


def digest_of(name: str) -> str | None:
    """The component whose image a name like ``radio.digest`` speaks of, None for other names."""
    if name.endswith(DIGEST_SUFFIX) and not name.startswith(LABEL_PREFIX):
        return name.removesuffix(DIGEST_SUFFIX)
    return None


def label_of(name: str) -> str:
    """The label key behind a name that is no fact: ``label.site`` and ``site`` are the same."""
    return name.removeprefix(LABEL_PREFIX)
