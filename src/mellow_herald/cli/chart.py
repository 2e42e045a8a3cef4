"""Chart pages: rows of signals that are looked at together."""

import sys
from datetime import timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from mellow_herald.cli.output import AsJson, print_json, table
from mellow_herald.core.refusal import Refused

if TYPE_CHECKING:
    from collections.abc import Iterable

    from mellow_herald.client import Herald
    from mellow_herald.wire.charts import ChartPageOut, ChartRow, SeriesStyle
    from mellow_herald.wire.readings import SeriesOut

app = typer.Typer(name="chart", help="Chart pages: rows of signals that are looked at together.", no_args_is_help=True)
ROW_HEIGHT, POINTS = 14, 200
Number = Annotated[int, typer.Argument(help="The chart page's number.")]
File = Annotated[Path, typer.Argument(metavar="FILE", help="A TOML file: name, where, by, last, [[rows]].")]
Shared = Annotated[bool, typer.Option("--shared", help="For everybody; otherwise you keep it for yourself.")]
Last = Annotated[str | None, typer.Option("--last", help="How far back, if not as the page says: 30m, 6h, 2d.")]


@app.callback()
def chart() -> None:
    """Chart pages: rows of signals that are looked at together."""


@app.command("list")
def list_(as_json: AsJson = False) -> None:
    """List your chart pages, and those that are shared."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        found = herald.charts.list()
    if as_json:
        print_json(found)
        return
    rows = [[str(one.id), one.name, _whose(one), one.where, one.last, _signals(one.rows)] for one in found]
    table(f"{len(rows)} chart pages", ["", "name", "whose", "which devices", "last", "rows"], rows)
    if not rows:
        print("Lay one out on the page Readings, or keep one from a file with `herald chart keep FILE`.")


@app.command("show")
def show(number: Number, last: Last = None, as_json: AsJson = False) -> None:
    """Draw a chart page: each row as it is now."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        page = herald.charts.show(number)
        if as_json:
            print_json(page)
            return
        print(f"{page.name} ({_whose(page)}): {page.where}, a line for each {page.by}, the last {last or page.last}")
        styles = herald.charts.styles()
        for row in page.rows:
            print()
            _draw(herald, page, row, last or page.last, styles)


@app.command("keep")
def keep(file: File, shared: Shared = False) -> None:
    """Keep a chart page that a file describes."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.client.documents import read_document
    from mellow_herald.wire.charts import ChartPageDocument, ChartPageIn

    document = read_document(file, ChartPageDocument)
    with connect() as herald:
        kept = herald.charts.keep(ChartPageIn(**document.model_dump(), shared=shared))
    print(f"chart page {kept.id}, {kept.name}: kept {_whose(kept)}. See it with `herald chart show {kept.id}`.")


@app.command("change")
def change(
    number: Number,
    file: Annotated[Path | None, typer.Argument(metavar="[FILE]", help="As what; as it is if none is named.")] = None,
    shared: Annotated[
        bool | None, typer.Option("--shared/--for-myself", help="Share it with everybody, or no more.")
    ] = None,
) -> None:
    """Change a chart page of yours: what it shows, or for whom it is."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.client.documents import read_document
    from mellow_herald.wire.charts import ChartPageChange, ChartPageDocument

    if file is None and shared is None:
        raise Refused("nothing-to-change", "what is to change?", "Name a FILE, or say --shared or --for-myself.")
    document = None if file is None else read_document(file, ChartPageDocument)
    with connect() as herald:
        there = herald.charts.show(number)
        shown = (document or there.document()).model_dump()
        kept_for = there.shared if shared is None else shared
        changed = herald.charts.change(number, ChartPageChange(**shown, shared=kept_for, edition=there.edition))
    print(f"chart page {changed.id}, {changed.name}: changed, kept {_whose(changed)}")


@app.command("write")
def write(
    number: Number,
    out: Annotated[Path | None, typer.Option("--out", help="Where to; printed if it is not said.")] = None,
) -> None:
    """Write a chart page as a TOML file, to be kept with the firmware or given to somebody."""
    import tomli_w

    from mellow_herald.cli.connection import connect

    with connect() as herald:
        page = herald.charts.show(number)
    text = tomli_w.dumps(page.document().model_dump(mode="json", exclude_none=True))
    if out is None:
        sys.stdout.write(text)
        return
    out.write_text(text)
    print(f"{out}: {page.name}", file=sys.stderr)


@app.command("drop")
def drop(number: Number) -> None:
    """Drop a chart page of yours; the readings stay."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        page = herald.charts.show(number)
        herald.charts.drop(number)
    print(f"chart page {number}, {page.name}, is dropped. The readings are as they were.")


@app.command("style")
def style(
    series: Annotated[str, typer.Argument(help="Which line: a serial, a version, a ring.")] = "",
    name: Annotated[str | None, typer.Option("--name", help="What you call it.")] = None,
    colour: Annotated[str | None, typer.Option("--colour", help="In which colour you see it: #2f7f6f.")] = None,
    signal: Annotated[str | None, typer.Option("--signal", help="Of this signal only; else of all.")] = None,
    as_json: AsJson = False,
) -> None:
    """Give a line a name and a colour that only you see, or take them back; without SERIES, list yours."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.wire.charts import SeriesStyle

    with connect() as herald:
        if series:
            herald.charts.style(SeriesStyle(series=series, signal=signal, name=name, colour=colour))
        found = herald.charts.styles()
    if as_json:
        print_json(found)
        return
    rows = [[one.series, one.signal or "every signal", one.name or "", one.colour or ""] for one in found]
    table(f"{len(rows)} lines look as you have said", ["line", "of", "name", "colour"], rows)


def _whose(page: "ChartPageOut") -> str:
    keeper = "you" if page.mine else page.made_by
    return f"by {keeper}, for everybody" if page.shared else f"by {keeper}, for {'yourself' if page.mine else 'them'}"


def _signals(rows: "Iterable[ChartRow]") -> str:
    return "; ".join(", ".join(row.signals) + (f" against {row.against}" if row.against else "") for row in rows)


def _draw(herald: "Herald", page: "ChartPageOut", row: "ChartRow", last: str, styles: "list[SeriesStyle]") -> None:
    from mellow_herald.cli.plots import plot_against, plot_series

    other = None if row.against is None else _asked(herald, page, row.against, last)
    for signal in row.signals:
        names = {one.series: one.name for one in styles if one.name and one.signal in (None, signal)}
        told = _asked(herald, page, signal, last)
        if other is None:
            plot_series(told, names, ROW_HEIGHT)
        else:
            plot_against(told, other, names, ROW_HEIGHT)


def _asked(herald: "Herald", page: "ChartPageOut", signal: str, last: str) -> "SeriesOut":
    from mellow_herald.core.duration import parse_duration

    until = herald.overview().now + timedelta(seconds=1)
    asked = {"where": page.where, "begin": until - parse_duration(last), "end": until, "points": POINTS}
    return herald.readings.series(signal, by=page.by.value, rollout=page.rollout, **asked)  # type: ignore[arg-type]
