"""The journal."""

from collections.abc import Iterable, Iterator
from datetime import datetime
from pathlib import Path
from typing import Annotated, Any

import typer

from mellow_herald.cli.output import AsJson, Limit, note, print_json, table

By = Annotated[str | None, typer.Option("--by", help="Who did it: a person's name, conductor, device, service.")]
What = Annotated[str | None, typer.Option("--what", help="Words within what was done.")]
Subject = Annotated[str | None, typer.Option("--subject", help="Words within what it was done to.")]
Text = Annotated[str | None, typer.Option("--text", help="Words anywhere, reasons and numbers included.")]
Since = Annotated[datetime | None, typer.Option("--since", help="From this time on (service time, UTC).")]
Until = Annotated[datetime | None, typer.Option("--until", help="Before this time (service time, UTC).")]

app = typer.Typer(
    name="journal", help="Show who or what decided what, when and why; export it; verify it.", no_args_is_help=False
)


@app.callback(invoke_without_command=True)
def journal(
    context: typer.Context,
    by: By = None,
    what: What = None,
    subject: Subject = None,
    text: Text = None,
    since: Since = None,
    until: Until = None,
    enrolments: Annotated[
        bool, typer.Option("--enrolments", help="Show devices that enrolled, too; they would drown the decisions.")
    ] = False,
    as_json: AsJson = False,
    limit: Limit = 30,
) -> None:
    """Show who or what decided what, when and why; newest first."""
    if context.invoked_subcommand is not None:
        return
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        page = herald.journal.list(
            by=by,
            what=what,
            subject=subject,
            text=text,
            since=since,
            until=until,
            decisions=not enrolments,
            limit=limit,
        )
    if as_json:
        print_json(page.items)
        return
    rows = [[str(e.link), f"{e.at:%Y-%m-%d %H:%M:%S}", e.who, e.what, e.subject, e.why, e.hash[:8]] for e in page.items]
    more = "; --limit shows more" if page.next else ""
    table(f"Journal{more}", ["link", "at", "who", "what", "subject", "why", "hash"], rows, right=["link"])


@app.command("export")
def export(
    file: Annotated[Path, typer.Argument(help="CSV (*.csv) or JSON Lines (*.jsonl); only these can be verified.")],
    by: By = None,
    what: What = None,
    subject: Subject = None,
    text: Text = None,
    since: Since = None,
    until: Until = None,
) -> None:
    """Write the journal to a file, oldest first and all of it, or what the options pick."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.inventory import format_of

    written = format_of(file)
    with connect() as herald, file.open("wb") as out:
        for piece in herald.journal.export(
            written=written, by=by, what=what, subject=subject, text=text, since=since, until=until
        ):
            out.write(piece)
    note(f"written to {file}")


@app.command("verify")
def verify(
    file: Annotated[
        Path | None, typer.Argument(help="An exported journal (*.jsonl); the service's own, if it is not given.")
    ] = None,
    expect: Annotated[
        str | None,
        typer.Option("--expect", help="A link and its hash as noted before, 113:02e01959…; it must be the same."),
    ] = None,
) -> None:
    """Compute every hash of the journal anew, on this machine, and say whether it is what it was when it was written.

    Each hash covers the entry and the hash before. Whoever notes the last one has proof of all before it.
    """
    from mellow_herald.core.refusal import Refused

    number, hashed = _noted(expect)
    try:
        if file is not None:
            with file.open("rb") as lines:
                last, at_number = _follow(lines, number)
        else:
            from mellow_herald.cli.connection import connect
            from mellow_herald.core.inventory import Format

            with connect() as herald:
                last, at_number = _follow(_lines(herald.journal.export(written=Format.JSONL)), number)
    except FileNotFoundError:
        raise Refused("no-file", f"there is no file {file}.") from None
    if number and at_number is None:
        raise Refused("journal-cut", f"the journal ends at link {last[0]}; link {number} was noted before.")
    if number and not (at_number or "").startswith(hashed):
        raise Refused("journal-broken", f"link {number} is {at_number}, not {hashed}: what is there was written anew.")
    print(f"{last[0]} links follow each other; the last is {last[0]}:{last[1]}")


def _noted(expect: str | None) -> tuple[int, str]:
    if expect is None:
        return 0, ""
    number, _, hashed = expect.partition(":")
    if not number.isdigit() or len(hashed) < 8:
        raise typer.BadParameter("write it as verify prints it: 113:02e01959…", param_hint="--expect")
    return int(number), hashed.lower()


def _lines(pieces: Iterable[bytes]) -> Iterator[bytes]:
    left = b""
    for piece in pieces:
        *whole, left = (left + piece).split(b"\n")
        yield from whole
    if left:
        yield left


def _follow(lines: Iterable[bytes], number: int) -> tuple[tuple[int, str], str | None]:
    """The last link and its hash, and the hash of link ``number``; ``Refused`` where the chain breaks."""
    import json

    from mellow_herald.core.journal import Chain, covered
    from mellow_herald.core.refusal import Refused

    chain, at_number = Chain(), None
    for line in lines:
        try:
            told: dict[str, Any] = json.loads(line)
            named = (told["who"], told["what"], told["subject"], told["why"], told["data"])
            entry = covered(*named, datetime.fromisoformat(told["at"]))
            link, hashed = told["link"], told["hash"]
        except (ValueError, KeyError, TypeError):
            raise Refused(
                "not-a-journal", "that is no exported journal.", "Take JSON Lines: herald journal export FILE.jsonl."
            ) from None
        if not chain.follows(link, hashed, entry):
            hint = "it begins later" if chain.link == 0 and link > 1 else "an entry was changed, left out or added"
            raise Refused("journal-broken", f"link {link} does not follow from link {chain.link}: {hint}.")
        if link == number:
            at_number = hashed
    return (chain.link, chain.hash), at_number
