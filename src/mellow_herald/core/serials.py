"""Lists of devices as somebody wrote them down: one serial a line."""

from collections.abc import Iterator
from dataclasses import dataclass

from mellow_herald.core.limits import LONGEST_SERIAL
from mellow_herald.core.refusal import Refused

MOST_SERIALS = 100_000
HEADINGS = frozenset({"serial", "serials"})


@dataclass(frozen=True, slots=True)
class ListedSerial:
    """A serial and the line it stands on (from 1); ``first_at`` is the line on which it stood before, if it did."""

    line_number: int
    serial: str
    first_at: int | None = None


def read_serials(text: str) -> list[ListedSerial]:
    """The serials of a list. Empty lines and what follows a # are passed by; of a line with commas, semicolons or tabs
    the first cell counts, and a heading ``serial`` is none.

    Raises ``Refused`` for a list without any, with too many, or with a line that can be no serial.
    """
    first: dict[str, int] = {}
    found = []
    for number, cell in _cells(text):
        if len(cell) > LONGEST_SERIAL or not cell.isprintable() or " " in cell:
            raise Refused(
                "bad-list",
                f"line {number} is {cell[:40]!r}, which can be no serial.",
                "Write one serial a line; what follows a # is passed by.",
            )
        found.append(ListedSerial(number, cell, first.get(cell)))
        first.setdefault(cell, number)
        if len(first) > MOST_SERIALS:
            raise Refused(
                "bad-list",
                f"the list names more than {MOST_SERIALS} devices.",
                "Pick them by a selector, or make several lists.",
            )
    if not found:
        raise Refused("bad-list", "the list names no device.", "Write one serial a line.")
    return found


def _cells(text: str) -> Iterator[tuple[int, str]]:
    heading = True
    for number, line in enumerate(text.removeprefix("\ufeff").splitlines(), 1):
        cell = line.partition("#")[0]
        for mark in (",", ";", "\t"):
            cell = cell.partition(mark)[0]
        cell = cell.strip().strip("\"'")
        if cell and not (heading and cell.lower() in HEADINGS):
            yield number, cell
        heading = heading and not cell
