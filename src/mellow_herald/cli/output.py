"""Printing: tables for people, JSON for programs."""

import json
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from typing import Annotated, Any

import typer

from mellow_herald.core.refusal import Refused
from mellow_herald.core.visible import OBEYED

AsJson = Annotated[bool, typer.Option("--json", help="Print JSON instead of a table.")]
Where = Annotated[str | None, typer.Option("--where", help="A selector: only what it picks.")]
Limit = Annotated[int, typer.Option("--limit", min=1, max=1000, help="At most so many rows.")]


def console(*, error: bool = False) -> Any:
    """A rich console on standard output (or error) with our colours; NO_COLOR and pipes are respected by rich."""
    from rich.console import Console
    from rich.theme import Theme

    from mellow_herald.cli.looks import COLOURS

    stream = sys.stderr if error else sys.stdout
    drawn = Console(highlight=False, width=None if stream.isatty() else 160, stderr=error)
    few = drawn.color_system in ("standard", "windows")
    drawn.push_theme(Theme({name: colours[few] for name, colours in COLOURS.items()}))
    return drawn


@contextmanager
def byte_progress(what: str, total: int, *, quiet: bool = False) -> Iterator[Callable[..., None]]:
    """A progress bar of bytes on standard error while the block runs; nothing where that is no terminal. It is moved by
    how many are done, and, where that shows only on the way, how many there are."""
    from rich.console import Console
    from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn, TimeRemainingColumn, TransferSpeedColumn

    columns = (TextColumn(what), BarColumn(), DownloadColumn(), TransferSpeedColumn(), TimeRemainingColumn())
    silent = quiet or not sys.stderr.isatty()
    with Progress(*columns, console=Console(stderr=True), transient=True, disable=silent) as bar:
        task = bar.add_task(what, total=total)
        yield lambda done, known=None: bar.update(task, completed=done, total=known)


def print_json(value: Any) -> None:
    """Prints models (or lists of them, or plain values) as JSON."""
    if isinstance(value, Sequence) and not isinstance(value, str):
        plain: Any = [one.model_dump(mode="json") for one in value]
    else:
        plain = value if isinstance(value, dict) else value.model_dump(mode="json")
    # JSON may hold as they are what a terminal obeys beyond ASCII; it is written by its number.
    text = json.dumps(plain, indent=2, ensure_ascii=False)
    print(OBEYED.sub(lambda found: found[0] if found[0] == "\n" else f"\\u{ord(found[0]):04x}", text))


def table(title: str, columns: Sequence[str], rows: Sequence[Sequence[Any]], *, right: Sequence[str] = ()) -> None:
    """Prints a table of strings and rich texts; columns named in ``right`` are aligned to the right.

    Strings are never markup: what an engineer wrote in brackets stays in brackets.
    """
    from rich import box
    from rich.table import Table
    from rich.text import Text

    drawn = Table(title=title, title_justify="left", box=box.SIMPLE_HEAD, header_style="bold", pad_edge=False)
    for column in columns:
        drawn.add_column(column, justify="right" if column in right else "left", overflow="fold")
    for row in rows:
        drawn.add_row(*(Text(cell) if isinstance(cell, str) else cell for cell in row))
    console().print(drawn)


def note(text: str) -> None:
    """A line for people, on standard error, so that pipes stay clean."""
    print(text, file=sys.stderr)


def size(count: int) -> str:
    """So many bytes, as one reads them."""
    for unit, one in (("GB", 1e9), ("MB", 1e6), ("kB", 1e3)):
        if count >= one:
            return f"{count / one:.3g} {unit}"
    return f"{count} B"


def moment_of(text: str, option: str) -> datetime:
    """The moment that an option says. ``Refused`` if it is none, or has no zone."""
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        moment = None
    if moment is None or moment.tzinfo is None:
        raise Refused("bad-time", f"{option} {text}: that is no time with its zone.", "Write 2026-05-02T08:00:00Z.")
    return moment
