"""Plan files: every mistake in them at its line and key, with the nearest word where one was mistyped."""

import difflib
import re
import tomllib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any, get_args

from pydantic import BaseModel, ValidationError

from mellow_herald.client.documents import read_document
from mellow_herald.core.refusal import Refused
from mellow_herald.core.selector import parse_selector
from mellow_herald.wire.plan import PlanDocument

Path_ = tuple[str | int, ...]
HEADER = re.compile(r"\s*(\[\[?)\s*([^\[\]]+?)\s*\]\]?\s*(?:#.*)?$")
KEY = re.compile(r"\s*([A-Za-z0-9_-]+|\"[^\"]*\"|'[^']*')((?:\s*\.\s*[A-Za-z0-9_-]+)*)\s*=")
AT = re.compile(r"at line (\d+)")
SELECTORS = ("target", "leave_out")
NEAR = 0.6


@dataclass(frozen=True, slots=True)
class Mistake:
    """What is wrong at a line (None: nowhere in particular) and key of a plan file."""

    line: int | None
    key: str
    words: str


def check_plan(path: Path) -> tuple[PlanDocument | None, list[Mistake]]:
    """Reads a plan file; returns it (None if it cannot be read) and every mistake in it, in the order of lines."""
    try:
        text = path.read_text()
    except (OSError, UnicodeDecodeError):
        read_document(path, PlanDocument)  # says why it cannot be read
        raise
    try:
        content = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        found = AT.search(str(error))
        return None, [Mistake(int(found[1]) if found else None, "", f"this is not TOML: {error}")]
    lines = locate(text)
    mistakes = [Mistake(_line_of(lines, place), _written(place), words) for place, words in _wrong(content)]
    if mistakes:
        return None, sorted(mistakes, key=lambda one: one.line or 0)
    document = PlanDocument.model_validate(content)
    try:
        document.to_plan()
    except Refused as refusal:
        ring = re.search(r"ring '(.+?)'", refusal.detail)
        at: Path_ = next((("rings", n) for n, one in enumerate(document.rings) if ring and one.name == ring[1]), ())
        return document, [Mistake(_line_of(lines, at), _written(at), str(refusal))]
    return document, []


def locate(text: str) -> dict[Path_, int]:
    """The line (from 1) on which every table and key of a TOML text stands."""
    found: dict[Path_, int] = {}
    counts: dict[Path_, int] = {}
    table: Path_ = ()
    inside = ""  # what ends the string or list that goes on over several lines
    depth = 0
    for number, line in enumerate(text.splitlines(), 1):
        if inside:
            inside = "" if inside in line else inside
            continue
        if depth > 0:
            depth += _depth(line)
            continue
        header = HEADER.match(line)
        if header:
            names = tuple(part.strip().strip("\"'") for part in header[2].split("."))
            table = _resolved(names, counts, new=header[1] == "[[")
            found.setdefault(table, number)
            continue
        key = KEY.match(line)
        if not key:
            continue
        names = (key[1].strip("\"'"), *(part.strip() for part in key[2].split(".") if part.strip()))
        for n in range(1, len(names) + 1):
            found.setdefault((*table, *names[:n]), number)
        value = line[key.end() :]
        for mark in ('"""', "'''"):
            if value.count(mark) == 1:
                inside = mark
        depth = 0 if inside else max(0, _depth(value))
    return found


def _resolved(names: tuple[str, ...], counts: dict[Path_, int], *, new: bool) -> Path_:
    """The path of a header, with the index of every list of tables on its way."""
    path: Path_ = ()
    for n, name in enumerate(names):
        path = (*path, name)
        if new and n == len(names) - 1:
            counts[path] = counts.get(path, -1) + 1
        if path in counts:
            path = (*path, counts[path])
    return path


def _depth(text: str) -> int:
    """How many brackets more a line opens than it closes, strings and comments left out."""
    bare = re.sub(r"\"(?:\\.|[^\"\\])*\"|'[^']*'", "", text).partition("#")[0]
    return sum(bare.count(mark) for mark in "[{") - sum(bare.count(mark) for mark in "]}")


def _wrong(content: Mapping[str, Any]) -> Iterator[tuple[Path_, str]]:
    try:
        PlanDocument.model_validate(content)
    except ValidationError as error:
        for one in error.errors():
            yield one["loc"], _in_words(one, content)
    for name in SELECTORS:
        if isinstance(content.get(name), str) and not content[name].startswith("@"):
            yield from _selector((name,), content[name])
    rings = content.get("rings")
    for n, ring in enumerate(rings if isinstance(rings, list) else []):
        if isinstance(ring, dict) and isinstance(ring.get("where"), str):
            yield from _selector(("rings", n, "where"), ring["where"])


def _selector(place: Path_, text: str) -> Iterator[tuple[Path_, str]]:
    try:
        parse_selector(text)
    except Refused as refusal:
        yield place, str(refusal)


def _in_words(error: Any, content: Mapping[str, Any]) -> str:
    message = str(error["msg"]).removeprefix("Value error, ")
    name = str(error["loc"][-1]) if error["loc"] else ""
    if error["type"] == "extra_forbidden":
        known = list(_fields_at(error["loc"][:-1]))
        near = difflib.get_close_matches(name, known, 1, NEAR)
        if len(error["loc"]) > 1 and name in PlanDocument.model_fields:
            return f"there is no {name} here; it stands at the top of the file, before the first table"
        elsewhere = [f"[{table}]" for table, fields in _tables() if name in fields and name not in known]
        if near:
            return f"there is no {name}; did you mean {near[0]}?"
        return f"there is no {name} here" + (
            f"; it stands in {elsewhere[0]}" if elsewhere else f"; known: {', '.join(known)}"
        )
    if error["type"] in ("enum", "literal_error"):
        given = str(error["input"])
        known = re.findall(r"'([^']+)'", str(error["ctx"].get("expected", "")))
        near = difflib.get_close_matches(given, known, 1, NEAR)
        return f"{given!r} is not known here; " + (f"did you mean {near[0]}?" if near else f"known: {', '.join(known)}")
    if error["type"] == "string_pattern_mismatch" and name in ("begin", "end"):
        return f"{error['input']!r} is no time of day; write it like 02:30"
    if error["type"] == "missing":
        return f"{name} is missing"
    return message[:1].lower() + message[1:]


def _model_at(place: Path_) -> type[BaseModel] | None:
    model: type[BaseModel] | None = PlanDocument
    for part in place:
        if isinstance(part, int) or model is None:
            continue
        field = model.model_fields.get(part)
        model = None if field is None else _model_in(field.annotation)
    return model


def _model_in(kind: Any) -> type[BaseModel] | None:
    if isinstance(kind, type) and issubclass(kind, BaseModel):
        return kind
    return next((model for part in get_args(kind) if (model := _model_in(part)) is not None), None)


def _fields_at(place: Path_) -> Iterator[str]:
    model = _model_at(place)
    yield from model.model_fields if model else ()


def _tables() -> Iterator[tuple[str, set[str]]]:
    for name, field in PlanDocument.model_fields.items():
        model = _model_in(field.annotation)
        if model is not None:
            yield name, set(model.model_fields)


def _line_of(lines: Mapping[Path_, int], place: Path_) -> int | None:
    """The line of a key, or of the nearest table around it that stands in the file."""
    for n in range(len(place), 0, -1):
        if place[:n] in lines:
            return lines[place[:n]]
    return None


def _written(place: Path_) -> str:
    text = ""
    for part in place:
        text += f"[{part + 1}]" if isinstance(part, int) else f".{part}" if text else part
    return text
