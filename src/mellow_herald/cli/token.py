"""Tokens: by which API and command line are let in."""

from typing import Annotated

import typer

from mellow_herald.cli.output import AsJson, print_json, table
from mellow_herald.wire.person import TokenFor

app = typer.Typer(
    name="token", help="Tokens of API, command line and pipelines. `herald sign-in` makes one.", no_args_is_help=True
)


@app.command("new")
def new(
    name: Annotated[str, typer.Argument(metavar="NAME", help="What it is for.")],
    days: Annotated[int, typer.Option("--days", min=1, max=366, help="How long it is good for.")] = 90,
    only_for: Annotated[
        TokenFor | None, typer.Option("--only-for", help="It may do this alone: evidence, sent by a ticket system say.")
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Make a token of your own, for a pipeline say. It is shown this once, and may do what you may."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        made = herald.people.make_token(name, days, only_for)
    if as_json:
        print_json(made)
    else:
        print(f"{made.token}\n  token {made.id}, good until {made.expires_at:%Y-%m-%d}")


@app.command("list")
def list_tokens(
    everybody: Annotated[bool, typer.Option("--everybody", help="Everybody's, for admins.")] = False,
    as_json: AsJson = False,
) -> None:
    """List open tokens (not the tokens themselves)."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        tokens = herald.people.tokens(everybody=everybody)
    if as_json:
        print_json(tokens)
        return
    rows = [
        [
            str(one.id),
            one.person,
            one.name,
            one.only_for or "all",
            f"{one.created_at:%Y-%m-%d %H:%M}",
            f"{one.expires_at:%Y-%m-%d}",
        ]
        for one in tokens
    ]
    table("Tokens", ["id", "person", "name", "may", "made", "until"], rows, right=["id"])


@app.command("close")
def close(token_id: Annotated[int, typer.Argument(metavar="ID", help="The token's number.")]) -> None:
    """Close one of your tokens; an admin may close anybody's."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        herald.people.close_token(token_id)
    print(f"Token {token_id} lets nobody in any more.")
