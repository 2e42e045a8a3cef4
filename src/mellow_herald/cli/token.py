"""Tokens: by which API and command line are let in."""

from typing import Annotated

import typer

from mellow_herald.cli.output import AsJson, print_json, table

app = typer.Typer(
    name="token", help="Tokens of API, command line and pipelines. `herald sign-in` makes one.", no_args_is_help=True
)


@app.command("new")
def new(
    name: Annotated[str, typer.Argument(metavar="NAME", help="What it is for.")],
    days: Annotated[int, typer.Option("--days", min=1, max=366, help="How long it is good for.")] = 90,
    as_json: AsJson = False,
) -> None:
    """Make a token of your own, for a pipeline say. It is shown this once, and may do what you may."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        made = herald.people.make_token(name, days)
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
        [str(one.id), one.person, one.name, f"{one.created_at:%Y-%m-%d %H:%M}", f"{one.expires_at:%Y-%m-%d}"]
        for one in tokens
    ]
    table("Tokens", ["id", "person", "name", "made", "until"], rows, right=["id"])


@app.command("close")
def close(token_id: Annotated[int, typer.Argument(metavar="ID", help="The token's number.")]) -> None:
    """Close one of your tokens; an admin may close anybody's."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        herald.people.close_token(token_id)
    print(f"Token {token_id} lets nobody in any more.")
