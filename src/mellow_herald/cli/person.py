"""Signing in, and the team."""

import os
import sys
from typing import TYPE_CHECKING, Annotated

import typer

from mellow_herald.cli.choices import Yes
from mellow_herald.cli.output import AsJson, print_json, table

if TYPE_CHECKING:
    from mellow_herald.wire.person import Me, PersonOut

app = typer.Typer(name="person", help="The team: who may sign in, and what each may do.", no_args_is_help=True)
Name = Annotated[str, typer.Argument(metavar="NAME", help="The person's name.")]
RoleNames = Annotated[
    list[str], typer.Option("--role", help="viewer, publisher, operator or admin; may be given several times.")
]


Only = Annotated[
    str | None,
    typer.Option("--only", help="A selector: they see and steer the devices that it picks, and no others."),
]


def sign_in(
    name: Annotated[str, typer.Option("--name", prompt=True, help="Your name at the service.")],
    url: Annotated[str | None, typer.Option("--url", help="The service's address.")] = None,
    password: Annotated[
        str | None, typer.Option("--password", envvar="HERALD_PASSWORD", help="Asked for if not given.")
    ] = None,
    new_password: Annotated[
        str | None,
        typer.Option(
            "--new-password",
            envvar="HERALD_NEW_PASSWORD",
            help="Your own, in place of a first one; asked for if needed.",
        ),
    ] = None,
    days: Annotated[int, typer.Option("--days", min=1, max=366, help="How long the token is good for.")] = 90,
) -> None:
    """Sign in and keep a token for later commands."""
    from mellow_herald.cli.connection import keep_credentials
    from mellow_herald.client import Herald
    from mellow_herald.client.transport import DEFAULT_URL

    address = url or os.environ.get("HERALD_URL") or DEFAULT_URL
    password = _secret("Password", password)
    with Herald(address) as herald:
        me = herald.people.sign_in(name, password)
        if me.must_change:
            _say_to_person("This is a first password: choose your own, of at least 10 characters.")
            herald.people.change_password(password, _new_secret(new_password))
        token = herald.people.make_token("command line", days)
    assert token.token is not None
    path = keep_credentials(address, token.token)
    print(f"Signed in at {address} as {_told(me)}. Token kept in {path} until {token.expires_at:%Y-%m-%d}.")


def whoami(as_json: AsJson = False) -> None:
    """Show who is signed in."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        me = herald.people.whoami()
    if as_json:
        print_json(me)
    else:
        print(_told(me))


@app.command("add")
def add(name: Name, roles: RoleNames, only: Only = None, as_json: AsJson = False) -> None:
    """Add somebody. Their first password is shown this once; they change it when they sign in."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        made = herald.people.add(name, _roles(roles), only=only)
    if as_json:
        print_json(made)
    else:
        print(f"{made.name} is in the team as {_may(made)}.")
        print(f"First password, shown this once: {made.password}")


@app.command("list")
def list_people(as_json: AsJson = False) -> None:
    """List everybody, those who were closed too."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        people = herald.people.list()
    if as_json:
        print_json(people)
        return
    rows = [
        [
            one.name,
            _may(one),
            f"closed {one.closed_at:%Y-%m-%d}" if one.closed_at else "first password" if one.must_change else "open",
            f"{one.signed_in_at:%Y-%m-%d %H:%M}" if one.signed_in_at else "never",
            str(one.tokens),
        ]
        for one in people
    ]
    table("People", ["name", "roles", "state", "signed in last", "tokens"], rows, right=["tokens"])


@app.command("role")
def role(
    name: Name,
    roles: RoleNames,
    only: Only = None,
    of_all: Annotated[bool, typer.Option("--of-all", help="Narrow them no longer.")] = False,
) -> None:
    """Give somebody these roles in place of those they have; what they are narrowed to stays, unless it is said."""
    if only is not None and of_all:
        raise typer.BadParameter("say either --only or --of-all")
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        changed = herald.people.set_roles(name, _roles(roles), only=False if of_all else only)
    print(f"{changed.name} is {_may(changed)} now.")


def _may(person: "PersonOut | Me") -> str:
    return ", ".join(person.roles) + (f" of {person.only}" if person.only else "")


@app.command("password")
def password(
    name: Annotated[
        str | None, typer.Argument(metavar="[NAME]", help="Whose is reset, by an admin; left out: change your own.")
    ] = None,
    old: Annotated[
        str | None, typer.Option("--old", envvar="HERALD_PASSWORD", help="Your present one; asked for if not given.")
    ] = None,
    new: Annotated[
        str | None, typer.Option("--new", envvar="HERALD_NEW_PASSWORD", help="The new one; asked for if not given.")
    ] = None,
) -> None:
    """Change your own password, or give somebody a first one anew. Other sessions of that person end; tokens stay."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        if name is not None:
            print(f"First password of {name}, shown this once: {herald.people.reset_password(name).password}")
            return
        herald.people.change_password(_secret("Present password", old), _new_secret(new))
    print("Your password is changed, and your other sessions have ended.")


@app.command("close")
def close(name: Name, yes: Yes = False) -> None:
    """Let somebody in no more: their sessions, tokens and event streams end. What they did stays in the journal."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        if not yes:
            typer.confirm(f"Close {name}? Their sessions and tokens end at once, pipelines' too.", abort=True, err=True)
        herald.people.close(name)
    print(f"{name} is let in no more.")


def _told(me: "Me") -> str:
    return f"{me.name} ({_may(me)})"


def _roles(names: list[str]) -> list[str]:
    from mellow_herald.wire.person import Role

    known = [role.value for role in Role]
    for name in names:
        if name not in known:
            raise typer.BadParameter(f"{name!r} is none of {', '.join(known)}.", param_hint="--role")
    return names


def _secret(prompt: str, given: str | None) -> str:
    if given is not None:
        return given
    if not sys.stdin.isatty():
        return sys.stdin.readline().rstrip("\n")
    return str(typer.prompt(prompt, hide_input=True, err=True))


def _new_secret(given: str | None) -> str:
    if given is not None or not sys.stdin.isatty():
        return _secret("New password", given)
    return str(typer.prompt("New password", hide_input=True, confirmation_prompt=True, err=True))


def _say_to_person(line: str) -> None:
    if sys.stdin.isatty():
        print(line, file=sys.stderr)
