"""From the text of a selector to its tree; errors point at the character."""

from difflib import get_close_matches
from functools import lru_cache
from importlib.resources import files
from typing import Any

from lark import Lark, Token, Transformer
from lark.exceptions import UnexpectedEOF, UnexpectedInput, UnexpectedToken, VisitError

from mellow_herald.core.duration import parse_duration
from mellow_herald.core.refusal import Refused
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
    kind_of,
)
from mellow_herald.core.version import parse_version

MAX_LENGTH = 4000
MAX_NESTING = 200
MAX_DIGITS = 15
EXAMPLE = "Write for example: board = comb-s1 and site in (fernhollow, quillmere)"


def parse_selector(text: str) -> Node:
    """Parses a selector; raises ``Refused`` with the place of the mistake."""
    if len(text) > MAX_LENGTH:
        raise Refused("bad-selector", f"the selector is longer than {MAX_LENGTH} characters.")
    if text.count("(") + text.count("not") > MAX_NESTING:
        # Both readers walk the tree by recursion; no engineer's selector comes near this.
        raise Refused("bad-selector", f"the selector has more than {MAX_NESTING} parentheses and negations.")
    try:
        tree = _parser().parse(text)
        return _Build().transform(tree)
    except (UnexpectedEOF, UnexpectedInput) as error:
        ended = isinstance(error, UnexpectedToken) and error.token.type == "$END"
        at = len(text) if ended or isinstance(error, UnexpectedEOF) else error.column - 1
        raise Refused("bad-selector", _point(text, at), EXAMPLE) from None
    except VisitError as error:
        if isinstance(error.orig_exc, Refused):
            raise error.orig_exc from None
        raise


def _point(text: str, at: int) -> str:
    if at >= len(text.rstrip()):
        return f"the selector ends too early: {text!r}."
    return f"the selector goes wrong at character {at + 1}, at {text[at : at + 20]!r}."


@lru_cache
def _parser() -> Lark:
    grammar = files(__package__).joinpath("grammar.lark").read_text()
    return Lark(grammar, parser="lalr", maybe_placeholders=False)


class _Build(Transformer[Token, Node]):
    def start(self, items: list[Any]) -> Node:
        return items[0]  # type: ignore[no-any-return]

    def any(self, items: list[Any]) -> Node:
        return Or(tuple(items))

    def all(self, items: list[Any]) -> Node:
        return And(tuple(items))

    def negation(self, items: list[Any]) -> Node:
        return Not(items[0])

    def value(self, items: list[Token]) -> str:
        token = items[0]
        return str(token)[1:-1] if token.type == "QUOTED" else str(token)

    def presence(self, items: list[Any]) -> Node:
        return Has(_must_be_fact(str(items[0])))

    def like(self, items: list[Any]) -> Node:
        name, pattern = _must_be_fact(str(items[0])), str(items[1])
        if kind_of(name) is not Kind.TEXT:
            raise Refused("bad-selector", f"{name} is not text; ~ compares text with a pattern.", EXAMPLE)
        return Like(name, pattern)

    def comparison(self, items: list[Any]) -> Node:
        name, op, value = items
        typed = _typed(_must_be_fact(str(name)), value)
        if isinstance(typed, bool) and op not in ("=", "!="):
            raise Refused("bad-selector", f"{name} is yes or no and cannot be compared with {op}.")
        return Compare(str(name), str(op), typed)

    def one_of(self, items: list[Any]) -> Node:
        name, *values = items
        return OneOf(_must_be_fact(str(name)), tuple(_typed(str(name), value) for value in values))


def _must_be_fact(name: str) -> str:
    """The name, unless it is nearly that of a fact: a slip of the pen would otherwise be a label nobody has."""
    near = [] if name in FACTS or "." in name else get_close_matches(name, FACTS, n=1, cutoff=0.84)
    if near:
        mend = f"Write {near[0]}, or label.{name} for a label of that name."
        raise Refused("bad-selector", f"{name} is no fact; {near[0]} is.", mend)
    return name


def _typed(name: str, value: str) -> str | int | bool:
    match kind_of(name):
        case Kind.NUMBER:
            if not (value.isascii() and value.isdigit() and len(value) <= MAX_DIGITS):
                raise Refused("bad-selector", f"{name} takes a whole number, not {value!r}.", EXAMPLE)
            return int(value)
        case Kind.FLAG:
            if value not in ("yes", "no"):
                raise Refused("bad-selector", f"{name} takes yes or no, not {value!r}.")
            return value == "yes"
        case Kind.VERSION:
            parse_version(value)
        case Kind.AGE:
            return int(parse_duration(value).total_seconds())
    return value
