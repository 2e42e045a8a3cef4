"""Devices by the thousand: import, export, visits; and logs."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, TextIO

import typer

from mellow_herald.cli.device import Where
from mellow_herald.cli.device import app as app
from mellow_herald.cli.output import AsJson, byte_progress, note, print_json, table
from mellow_herald.core.visible import visible

if TYPE_CHECKING:
    from mellow_herald.core.inventory import Format

Out = Annotated[Path | None, typer.Option("--out", help="Write to this file instead of standard output.")]
PORTION = 256 * 1024
MOST_VISITS = 1000


@app.command("import")
def import_(
    file: Annotated[Path, typer.Argument(help="CSV (*.csv) or JSON Lines (*.jsonl).")],
    check: Annotated[bool, typer.Option("--check", help="Only say what would be done.")] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask.")] = False,
    as_json: AsJson = False,
) -> None:
    """Import devices with labels. New ones are admitted and may enrol; known ones get labels, note and gateway.

    Exit code 1 if lines were refused; the others are taken all the same.
    """
    from mellow_herald.cli.connection import connect
    from mellow_herald.core.refusal import Refused

    if not file.is_file():
        raise Refused("no-file", f"{file} is not there.")
    written = format_of(file)
    with connect() as herald:
        if check or not yes:
            report = _send(herald, file, written, check=True)
            if check:
                _report(report, as_json, "would be")
                raise typer.Exit(int(report.refused > 0))
            _report(report, False, "would be")
            typer.confirm("Import?", abort=True, err=True)
        report = _send(herald, file, written, check=False)
    _report(report, as_json, "were")
    # Those that could be taken were taken; a script must not take that for all of them.
    raise typer.Exit(int(report.refused > 0))


def _send(herald: Any, file: Path, written: "Format", *, check: bool) -> Any:
    size = file.stat().st_size
    with file.open("rb") as source, byte_progress("checking" if check else "importing", size) as progress:

        def portions() -> Any:
            done = 0
            while piece := source.read(PORTION):
                yield piece
                done += len(piece)
                progress(done)

        return herald.devices.import_from(portions(), written, check=check)


def _report(report: Any, as_json: bool, verb: str) -> None:
    if as_json:
        print_json(report)
        return
    if report.refusals:
        rows = [[str(r.line_number), r.serial, r.kind, r.detail] for r in report.refusals[:50]]
        table(f"{report.refused} lines refused", ["line", "serial", "", "why"], rows, right=["line"])
        if report.refused > len(rows):
            note(f"… and {report.refused - len(rows)} more; --json lists a thousand.")
    if report.changes:
        rows = [
            [change.serial, name, field.before or "–", field.after or "–"]
            for change in report.changes[:50]
            for name, field in change.fields.items()
        ]
        table(f"{report.changed} devices change", ["serial", "", "from", "to"], rows)
        if report.changed > 50:
            note(f"… and {report.changed - 50} devices more; --json lists a thousand.")
    if report.new:
        more = f" … and {report.added - 20} more" if report.added > 20 else ""
        print(f"new: {', '.join(report.new[:20])}{more}")
    print(
        f"{report.added} {verb} added, {report.changed} changed, {report.unchanged} left as they are, "
        f"{report.refused} refused."
    )


@app.command("export")
def export(
    where: Where = None,
    out: Out = None,
    jsonl: Annotated[bool, typer.Option("--jsonl", help="JSON Lines instead of CSV.")] = False,
) -> None:
    """Export devices with labels and what they run; what is exported can be imported again."""
    import sys

    from mellow_herald.cli.connection import connect
    from mellow_herald.core.inventory import Format

    written = Format.JSONL if jsonl or (out is not None and out.suffix == ".jsonl") else Format.CSV
    with connect() as herald:
        pieces = herald.devices.export(where=where, written=written)
        if out is None:
            for piece in pieces:
                sys.stdout.buffer.write(_for(sys.stdout, piece))
            sys.stdout.buffer.flush()
            return
        with out.open("wb") as target:
            for piece in pieces:
                target.write(piece)
    note(f"written to {out}")


@app.command("visits")
def visits(where: Where = None, out: Out = None, as_json: AsJson = False) -> None:
    """List devices that somebody must go to, by site; with --out as a CSV to take along."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.looks import ago

    with connect() as herald:
        if out is not None:
            out.write_text(herald.devices.visit_list(where=where))
            note(f"written to {out}")
            return
        found = herald.devices.visits(where=where, limit=MOST_VISITS)
        now = herald.service_time
    if as_json:
        print_json(found)
        return
    rows = [
        [v.site, v.serial, v.board, v.why, ago((now - v.seen_at).total_seconds()), v.version or "?", v.gateway or ""]
        for v in found
    ]
    table(f"{len(found)} devices to visit", ["site", "serial", "board", "why", "heard", "ran", "behind"], rows)
    if len(found) == MOST_VISITS:
        note("These are the first; --out FILE has them all.")


@app.command("log")
def log(
    serial: str,
    ask: Annotated[str | None, typer.Option("--ask", help="Ask the device for its log for so long, e.g. 30m.")] = None,
    stop: Annotated[bool, typer.Option("--stop", help="Ask it no longer.")] = False,
    follow: Annotated[bool, typer.Option("--follow", help="Go on as lines come, until Ctrl-C.")] = False,
    limit: Annotated[int, typer.Option("--limit", min=1, max=2000, help="At most so many lines.")] = 50,
) -> None:
    """Show a device's log lines; a device sends them only while it is asked."""
    import time

    from mellow_herald.cli.connection import connect

    with connect() as herald:
        if ask or stop:
            device = herald.devices.ask_for_log(serial, None if stop else ask)
            due = f"; it hears of it at {device.next_checkin_at:%H:%M:%S}" if device.next_checkin_at else ""
            note(f"{serial} is {'no longer asked' if stop else f'asked for {ask}'}{due}")
        after = 0
        while True:
            for line in herald.devices.log(serial, after=after, limit=limit):
                print(f"{line.at:%Y-%m-%d %H:%M:%S}  {line.text}", flush=True)
                after = line.id
            if not follow:
                return
            time.sleep(0.5)


@app.command("settle")
def settle(
    serial: str, reason: Annotated[str, typer.Option("--reason", prompt=True, help="Why; it goes to the journal.")]
) -> None:
    """Take the marks off a device that was rescued, or whose token two units used: you have seen to it."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        herald.devices.settle(serial, reason)
    print(f"{serial}: settled.")


def format_of(file: Path) -> "Format":
    """How a file is written, by its name; ``Refused`` if that says nothing."""
    from mellow_herald.core.inventory import Format
    from mellow_herald.core.refusal import Refused

    known = {".csv": Format.CSV, ".jsonl": Format.JSONL, ".ndjson": Format.JSONL}
    if file.suffix not in known:
        raise Refused("unknown-format", f"{file} is neither *.csv nor *.jsonl.", "Name it by what it is.")
    return known[file.suffix]


def _for(stream: TextIO, piece: bytes) -> bytes:
    """The very bytes for a file or a program; for a terminal what it does not obey."""
    return visible(piece.decode(errors="replace"), keep="\r\n").encode() if stream.isatty() else piece
