"""Selections: selectors saved under a name."""

from typing import Annotated, Any

import typer

from mellow_herald.cli.choices import Yes
from mellow_herald.cli.output import AsJson, print_json, table

app = typer.Typer(
    name="selection", help="Selectors saved under a name; use one as --where @NAME.", no_args_is_help=True
)
Name = Annotated[str, typer.Argument(metavar="NAME", help="The selection's name.")]


@app.command("save")
def save(
    name: Name,
    where: Annotated[str, typer.Argument(metavar="SELECTOR", help='For example "site = fernhollow and seen < 1d".')],
    note: Annotated[str, typer.Option("--note", help="What it is for.")] = "",
) -> None:
    """Save a selector under a name, or replace the one of that name."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        saved = herald.selections.save(name, where, note=note)
    print(f"{saved.name}: {saved.standing.total} devices now.")


@app.command("list")
def list_selections(as_json: AsJson = False) -> None:
    """List selections, and how their devices stand against baseline or latest release."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        saved = herald.selections.list()
    if as_json:
        print_json(saved)
        return
    _table("Selections", saved)


@app.command("show")
def show(name: Name, as_json: AsJson = False) -> None:
    """Show one selection."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        saved = herald.selections.show(name)
    if as_json:
        print_json(saved)
        return
    _table(saved.note or saved.name, [saved])


@app.command("drop")
def drop(name: Name, yes: Yes = False) -> None:
    """Drop a selection; its devices stay as they are."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        if not yes:
            typer.confirm(f"Drop selection {name}?", abort=True, err=True)
        herald.selections.drop(name)
    print(f"{name} dropped.")


def _table(title: str, saved: Any) -> None:
    counts = ["current", "behind", "ahead", "unknown", "barred"]
    rows = [
        [
            one.name,
            one.selector,
            str(one.standing.total),
            *(str(getattr(one.standing, name)) for name in counts),
            one.saved_by,
        ]
        for one in saved
    ]
    table(title, ["name", "selector", "devices", *counts, "saved by"], rows, right=["devices", *counts])
