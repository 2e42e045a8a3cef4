"""Recordings: what a device has kept at full rate, asked for and fetched."""

import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from mellow_herald.cli.output import AsJson, moment_of, print_json, size, table
from mellow_herald.core.refusal import Refused

if TYPE_CHECKING:
    from mellow_herald.client import Herald
    from mellow_herald.client.recording_calls import Form
    from mellow_herald.wire.recordings import RecordingOut

app = typer.Typer(name="recording", help="What devices have kept at full rate, as files.", no_args_is_help=True)
LOOK_S = 1.0
ENDINGS: dict[str, "Form"] = {".csv.gz": "csv", ".gz": "csv", ".jsonl": "jsonl", ".nc": "netcdf"}
Number = Annotated[int, typer.Argument(help="The recording's number.")]
Out = Annotated[
    Path | None,
    typer.Option("--out", help="Where to; its ending says the form: .csv.gz, .jsonl or .nc (NetCDF). - prints CSV."),
]


@app.callback()
def recording() -> None:
    """What devices have kept at full rate, as files."""


def ask(
    serial: Annotated[str, typer.Argument(help="The device's serial.")],
    last: Annotated[str | None, typer.Option("--last", help="The last so long: 10m, 1h.")] = None,
    begin: Annotated[str | None, typer.Option("--from", help="From when (2026-05-02T08:00:00Z).")] = None,
    end: Annotated[str | None, typer.Option("--to", help="Until when; now if it is not said.")] = None,
    signals: Annotated[str, typer.Option("--signals", help="Which, separated by commas; all if none is named.")] = "",
    at_most: Annotated[float, typer.Option("--at-most", help="Not if it has more than so many MB.")] = 16.0,
    out: Out = None,
    wait: Annotated[bool, typer.Option("--wait/--no-wait", help="Follow until it is there.")] = True,
) -> None:
    """Ask a device for a stretch of what it has kept at full rate; follow its parts, and fetch it."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.wire.recordings import RecordingIn

    if (last is None) == (begin is None):
        raise Refused("no-stretch", "which stretch?", "Say --last 1h, or --from and --to.")
    form = None if out is None else _form(out)
    asked = RecordingIn.model_validate(
        {
            "last": last,
            "from": None if begin is None else moment_of(begin, "--from"),
            "to": None if end is None else moment_of(end, "--to"),
            "signals": [name.strip() for name in signals.split(",") if name.strip()],
            "at_most": round(at_most * 1_000_000),
        }
    )
    with connect() as herald:
        begun = herald.recordings.ask(serial, asked)
        print(f"recording {begun.id}: {_stretch(begun)}. {serial} learns of it when it next calls.", file=sys.stderr)
        if not wait:
            print(f"See how far it is with `herald recording show {begun.id}`.", file=sys.stderr)
            return
        ended = _follow(herald, begun)
        if ended.state != "complete":
            raise Refused(
                "no-recording",
                f"recording {ended.id} {'was' if ended.state == 'cancelled' else 'has'} {ended.state}{_why(ended)}.",
                _mend(ended),
            )
        if out is None or form is None:
            print(f"Fetch it with `herald recording fetch {ended.id} --out {serial}.csv.gz`.", file=sys.stderr)
        else:
            _write(herald, ended.id, out, form)


@app.command("list")
def list_(
    where: Annotated[str | None, typer.Option("--where", help="Of which devices, as a selector.")] = None,
    as_json: AsJson = False,
) -> None:
    """List recordings, the newest first."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        found = herald.recordings.list(where=where)
    if as_json:
        print_json(found)
        return
    rows = [
        [str(one.id), one.serial, _stretch(one), f"{one.state}{_why(one)}", _come(one), _values(one), one.asked_by]
        for one in found
    ]
    table(f"{len(rows)} recordings", ["", "device", "stretch", "state", "come", "values", "asked by"], rows)
    if not rows:
        print("Ask for one with `herald device recording SERIAL --last 1h`.")


@app.command("show")
def show(number: Number, as_json: AsJson = False) -> None:
    """Show a recording, and how far it is."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        one = herald.recordings.show(number)
    if as_json:
        print_json(one)
        return
    print(f"recording {one.id} of {one.serial} ({one.board}): {one.state}{_why(one)}")
    print(f"  {_stretch(one)}, of {', '.join(one.signals) or 'all signals'}; asked for by {one.asked_by}")
    print(f"  come: {_come(one)}; at most {size(one.at_most)}")
    if one.contains:
        print(f"  {_values(one)} values of {', '.join(one.contains)}")
    if one.offset_s:
        print(f"  its clock is {one.offset_s:+.1f} s behind, which is made up for in the file")


@app.command("fetch")
def fetch(number: Number, out: Out = None) -> None:
    """Fetch a complete recording as a file."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        one = herald.recordings.show(number)
        target = out or Path(f"{one.serial}-{one.id}.csv.gz")
        _write(herald, number, target, _form(target))


@app.command("cancel")
def cancel(
    number: Number, reason: Annotated[str, typer.Option("--reason", help="Why, for the journal.")] = "not needed"
) -> None:
    """Let a device send a recording no more; what of it has come is dropped."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        one = herald.recordings.cancel(number, reason)
    print(f"recording {one.id} of {one.serial} is cancelled")


def _form(out: Path) -> "Form":
    if str(out) == "-":
        return "csv"
    form = next((form for ending, form in ENDINGS.items() if out.name.endswith(ending)), None)
    if form is None:
        raise Refused("bad-ending", f"--out {out}: what form is that?", "Let it end in .csv.gz, .jsonl or .nc.")
    return form


def _write(herald: "Herald", number: int, out: Path, form: "Form") -> None:
    if str(out) == "-":
        for piece in herald.recordings.file(number, form):
            sys.stdout.buffer.write(piece)
        return
    with out.open("wb") as file:
        for piece in herald.recordings.file(number, form):
            file.write(piece)
    print(f"{out}: {size(out.stat().st_size)}", file=sys.stderr)


def _follow(herald: "Herald", begun: "RecordingOut") -> "RecordingOut":
    """Until it has ended; says whenever something has changed."""
    said, one = "", begun
    while one.state in ("asked", "coming"):
        told = f"{one.state}, {_come(one)}"
        if told != said:
            print(f"  {told}", file=sys.stderr)
            said = told
        time.sleep(LOOK_S)
        one = herald.recordings.show(one.id)
    if one.state == "complete":
        print(f"  complete, {_come(one)}, {_values(one)} values", file=sys.stderr)
    return one


def _stretch(one: "RecordingOut") -> str:
    same_day = one.begins.date() == one.ends.date()
    return f"{one.begins:%Y-%m-%d %H:%M:%S} to {one.ends:{'%H:%M:%S' if same_day else '%Y-%m-%d %H:%M:%S'}}"


def _come(one: "RecordingOut") -> str:
    if one.size is None and one.state == "asked" and one.called_at is not None and one.called_at > one.asked_at:
        return "nothing, though it has called since: does its firmware know recordings?"
    return "nothing yet" if one.size is None else f"{size(one.have)} of {size(one.size)}"


def _values(one: "RecordingOut") -> str:
    return "" if one.samples is None else f"{one.samples:,}"


def _why(one: "RecordingOut") -> str:
    return "".join(f": {told}" for told in (one.reason, one.detail) if told)


def _mend(one: "RecordingOut") -> str:
    if one.reason == "too-large":
        return "Ask for less, for fewer signals, or raise --at-most."
    if one.reason == "nothing-kept":
        return "Ask for what is not so long ago."
    return "Ask again, or see `herald device log`."
