"""Signing in."""

import os
import sys
from typing import Annotated

import typer

from mellow_herald.cli.output import AsJson, print_json


def sign_in(
    name: Annotated[str, typer.Option("--name", prompt=True, help="Your name at the service.")],
    url: Annotated[str | None, typer.Option("--url", help="The service's address.")] = None,
    password: Annotated[
        str | None, typer.Option("--password", envvar="HERALD_PASSWORD", help="Asked for if not given.")
    ] = None,
    days: Annotated[int, typer.Option("--days", min=1, max=366, help="How long the token is good for.")] = 90,
) -> None:
    """Sign in and keep a token for later commands."""
    from mellow_herald.cli.connection import keep_credentials
    from mellow_herald.client import Herald
    from mellow_herald.client.transport import DEFAULT_URL

    address = url or os.environ.get("HERALD_URL") or DEFAULT_URL
    if password is None:
        if not sys.stdin.isatty():
            password = sys.stdin.readline().rstrip("\n")
        else:
            password = typer.prompt("Password", hide_input=True)
    with Herald(address) as herald:
        me = herald.people.sign_in(name, password)
        token = herald.people.make_token("command line", days)
    assert token.token is not None
    path = keep_credentials(address, token.token)
    print(f"Signed in at {address} as {me.name} ({me.role}). Token kept in {path} until {token.expires_at:%Y-%m-%d}.")


def whoami(as_json: AsJson = False) -> None:
    """Show who is signed in."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        me = herald.people.whoami()
    if as_json:
        print_json(me)
    else:
        print(f"{me.name} ({me.role})")
