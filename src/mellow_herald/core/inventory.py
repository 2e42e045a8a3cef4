"""A fleet as lines of text: devices with labels in CSV or JSON Lines, read line by line and written the same way."""

import csv
import io
import json
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from difflib import get_close_matches
from enum import StrEnum
from typing import Any

from mellow_herald.core.limits import LARGEST_REVISION
from mellow_herald.core.refusal import Refused

NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,62}")
KEY = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,62}")
LABEL = "label."
OWN = ("serial", "board", "line", "hw_rev", "gateway", "note")
# An export has these, too; an import passes them by, so that what was exported can be imported again.
TOLD = ("admission", "presence", "seen_at", "version", "digest", "runs", "pinned_until")
LONGEST_LINE = 64 * 1024
MOST_LABELS = 32
FORMULA = ("=", "+", "-", "@", "\t")


class Format(StrEnum):
    """How a fleet is written."""

    CSV = "csv"
    JSONL = "jsonl"


@dataclass(frozen=True, slots=True)
class Entry:
    """One device to import. None leaves alone what is known of it; ``labels`` are added to those it has."""

    line_number: int
    serial: str
    board: str
    line: str
    hw_rev: int
    gateway: str | None = None
    note: str | None = None
    labels: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Mistake:
    """A line that was refused, and why."""

    line_number: int
    serial: str
    kind: str
    detail: str


def differences(before: Mapping[str, Any], after: Mapping[str, Any]) -> dict[str, tuple[str | None, str | None]]:
    """What differs between a device's ``labels``, ``note`` and ``gateway`` before and after: ``label.KEY``, ``note``,
    ``gateway``, each with both values (None: nothing there)."""
    found = {}
    labels = {f"label.{key}": (before["labels"].get(key), value) for key, value in after["labels"].items()}
    for name, (was, is_) in {
        **labels,
        **{n: (before[n] or None, after[n] or None) for n in ("note", "gateway")},
    }.items():
        if was != is_:
            found[name] = (was, is_)
    return found


class Reader:
    """Reads pieces of text as they come; yields an ``Entry`` or a ``Mistake`` for each line that has a device.

    Raises ``Refused`` where nothing can be made of the text at all: a header that names unknown columns, a line
    without an end.
    """

    def __init__(self, format_: Format) -> None:
        self._format, self._rest, self._number = format_, "", 0
        self._open = ""  # lines of a quoted cell that has not ended
        self._columns: list[str] | None = None

    def feed(self, text: str) -> Iterator[Entry | Mistake]:
        """The lines that are whole by now."""
        lines = (self._rest + text).split("\n")
        self._rest = lines.pop()
        if len(self._rest) > LONGEST_LINE:
            raise Refused("too-long", f"line {self._number + 1} has more than {LONGEST_LINE} characters.")
        for line in lines:
            yield from self._line(line)
        if len(self._open) > LONGEST_LINE:
            raise Refused("too-long", f"a quote that begins in line {self._number} does not end.")

    def end(self) -> Iterator[Entry | Mistake]:
        """The last line, if it had no end."""
        rest, self._rest = self._rest, ""
        yield from self._line(rest)
        if self._open:
            yield Mistake(self._number, "", "bad-line", "a quote does not end")
        if self._number == 0 or (self._format is Format.CSV and self._columns is None):
            raise Refused("no-devices", "the file is empty.", f"A CSV begins with a header: {','.join(OWN[:4])}.")

    def _line(self, line: str) -> Iterator[Entry | Mistake]:
        self._number += 1
        line = line.rstrip("\r").removeprefix("\ufeff")
        if self._format is Format.CSV and (self._open or '"' in line):
            line, self._open = self._open + line, ""
            if line.count('"') % 2:
                self._open = line + "\n"
                return
        if not line.strip():
            return
        if self._format is Format.CSV:
            try:
                cells = [_uncell(cell) for cell in next(csv.reader(io.StringIO(line, newline=""), strict=True))]
            except csv.Error as error:
                yield Mistake(self._number, "", "bad-line", f"not a line of CSV: {error}")
                return
            if self._columns is None:
                self._columns = _header(cells)
                return
            if len(cells) != len(self._columns):
                detail = f"{len(cells)} values for {len(self._columns)} columns"
                yield Mistake(self._number, cells[0] if cells else "", "bad-line", detail)
                return
            # An empty cell says nothing.
            values: Any = {name: cell for name, cell in zip(self._columns, cells, strict=True) if cell != ""}
        else:
            try:
                values = _flat(json.loads(line))
            except (ValueError, RecursionError) as error:
                yield Mistake(self._number, "", "bad-line", f"not a JSON object: {error}")
                return
        yield _entry(self._number, values)


def _header(cells: list[str]) -> list[str]:
    names = [cell.strip() for cell in cells]
    for name in names:
        if name not in OWN and name not in TOLD and not name.startswith(LABEL):
            near = get_close_matches(name, OWN, n=1)
            mend = f"Did you mean {near[0]}?" if near else f"A label is written {LABEL}{name}."
            raise Refused("bad-header", f"the column {name!r} is not known.", mend)
    missing = [name for name in OWN[:4] if name not in names]
    if missing:
        raise Refused("bad-header", f"the header lacks {', '.join(missing)}.", "Every device needs them.")
    if len(set(names)) != len(names):
        raise Refused("bad-header", "the header names a column twice.")
    return names


def _flat(document: Any) -> dict[str, Any]:
    if not isinstance(document, dict):
        raise ValueError("it must begin with {")
    labels = document.pop("labels", {})
    if not isinstance(labels, dict):
        raise ValueError("labels must be an object")
    return document | {LABEL + str(key): value for key, value in labels.items()}


def _entry(number: int, values: dict[str, Any]) -> Entry | Mistake:
    serial = values.get("serial")
    try:
        unknown = [n for n in values if n not in OWN and n not in TOLD and not n.startswith(LABEL)]
        if unknown:
            raise ValueError(f"{unknown[0]} is not known")
        labels = {name.removeprefix(LABEL): _text(name, value) for name, value in values.items() if LABEL in name}
        if len(labels) > MOST_LABELS:
            raise ValueError(f"more than {MOST_LABELS} labels")
        for key in labels:
            if not KEY.fullmatch(key):
                raise ValueError(f"{key!r} cannot be the key of a label")
        return Entry(
            line_number=number,
            serial=_name(values, "serial"),
            board=_name(values, "board"),
            line=_name(values, "line"),
            hw_rev=_revision(values.get("hw_rev")),
            gateway=_name(values, "gateway") if values.get("gateway") else None,
            note=_text("note", values["note"]) if values.get("note") is not None else None,
            labels=labels,
        )
    except ValueError as error:
        return Mistake(number, serial if isinstance(serial, str) else "", "bad-values", str(error))


def _name(values: Mapping[str, Any], name: str) -> str:
    value = values.get(name)
    if not isinstance(value, str) or not NAME.fullmatch(value):
        raise ValueError(f"{name} is missing" if value in (None, "") else f"{name} {value!r} is not a name")
    return value


def _revision(value: Any) -> int:
    if isinstance(value, bool) or not str(value).isdecimal() or not 0 <= int(value) <= LARGEST_REVISION:
        wrong = f"hw_rev {value!r} is not a number of 0 to {LARGEST_REVISION}"
        raise ValueError("hw_rev is missing" if value is None else wrong)
    return int(value)


def _text(name: str, value: Any) -> str:
    limit = 4000 if name == "note" else 200
    if not isinstance(value, str) or "\0" in value or len(value) > limit:
        raise ValueError(f"{name} must be a text of at most {limit} characters")
    return value


def header(labels: Sequence[str]) -> list[str]:
    """The columns of an export with these label keys."""
    return [*OWN, *TOLD, *(LABEL + key for key in labels)]


def write_csv(rows: Iterable[Sequence[Any]]) -> str:
    """Rows as CSV. A cell that a spreadsheet would take for a formula is told apart by an apostrophe before it."""
    out = io.StringIO()
    csv.writer(out, lineterminator="\n").writerows([_cell(cell) for cell in row] for row in rows)
    return out.getvalue()


def _uncell(cell: str) -> str:
    return cell[1:] if cell[:1] == "'" and _like_a_formula(cell) else cell


def _cell(cell: Any) -> Any:
    return f"'{cell}" if isinstance(cell, str) and _like_a_formula(cell) else cell


def _like_a_formula(cell: str) -> bool:
    return cell.lstrip("'")[:1] in FORMULA
