"""The journal."""

from mellow_herald.cli.output import AsJson, Limit, print_json, table


def journal(as_json: AsJson = False, limit: Limit = 30) -> None:
    """Show who or what decided what, when and why; newest first."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        entries = herald.journal.list(limit=limit).items
    if as_json:
        print_json(entries)
        return
    rows = [[str(e.link), f"{e.at:%Y-%m-%d %H:%M:%S}", e.who, e.what, e.subject, e.why, e.hash[:8]] for e in entries]
    table("Journal", ["link", "at", "who", "what", "subject", "why", "hash"], rows, right=["link"])
