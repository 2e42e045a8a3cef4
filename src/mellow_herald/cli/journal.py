"""The journal."""

from datetime import datetime
from typing import Annotated

import typer

from mellow_herald.cli.output import AsJson, Limit, print_json, table


def journal(
    by: Annotated[
        str | None, typer.Option("--by", help="Who did it: a person's name, conductor, device, service.")
    ] = None,
    what: Annotated[str | None, typer.Option("--what", help="Words within what was done.")] = None,
    subject: Annotated[str | None, typer.Option("--subject", help="Words within what it was done to.")] = None,
    text: Annotated[str | None, typer.Option("--text", help="Words anywhere, reasons and numbers included.")] = None,
    since: Annotated[datetime | None, typer.Option("--since", help="From this time on (service time, UTC).")] = None,
    until: Annotated[datetime | None, typer.Option("--until", help="Before this time (service time, UTC).")] = None,
    enrolments: Annotated[
        bool, typer.Option("--enrolments", help="Show devices that enrolled, too; they would drown the decisions.")
    ] = False,
    as_json: AsJson = False,
    limit: Limit = 30,
) -> None:
    """Show who or what decided what, when and why; newest first."""
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
