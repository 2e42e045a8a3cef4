"""Releases."""

from pathlib import Path
from typing import Annotated

import typer

from mellow_herald.cli.output import AsJson, Limit, print_json, table

app = typer.Typer(name="release", help="Signed versions of a line for one board.", no_args_is_help=True)


@app.command("publish")
def publish(
    file: Annotated[Path, typer.Argument(help="The firmware image (raw binary).")],
    key: Annotated[Path, typer.Option("--key", help="The private signing key.")],
    notes: Annotated[str, typer.Option("--notes", help="One line about the release.")] = "",
    line: Annotated[str | None, typer.Option("--line", help="State the line, for an image without nameplate.")] = None,
    board: Annotated[str | None, typer.Option("--board", help="State the board.")] = None,
    version: Annotated[str | None, typer.Option("--version", help="State the version.")] = None,
    floor: Annotated[int | None, typer.Option("--floor", min=0, help="State the floor number.")] = None,
    as_json: AsJson = False,
) -> None:
    """Sign an image here and publish it."""
    import sys

    from rich.console import Console
    from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn, TransferSpeedColumn

    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.looks import amount
    from mellow_herald.client.sealing import load_key, seal_file, vendor_of

    stated = {"line": line, "board": board, "version": version, "floor": floor}
    given = {name: value for name, value in stated.items() if value is not None}
    signing_key = load_key(key)
    with connect() as herald:
        vendor = vendor_of(herald.boards.list(), file, board)
        sealed = seal_file(file, signing_key, vendor, description=notes, **given)
        columns = (TextColumn("publishing"), BarColumn(), DownloadColumn(), TransferSpeedColumn())
        quiet = as_json or not sys.stderr.isatty()
        with Progress(*columns, console=Console(stderr=True), transient=True, disable=quiet) as bar:
            task = bar.add_task("publishing", total=sealed.length)
            release = herald.releases.upload(sealed, lambda sent: bar.update(task, completed=sent))
    if as_json:
        print_json(release)
        return
    source = "read from its nameplate" if sealed.image.read else "as stated"
    what = "is there already, with the same bytes" if release.already_there else "published"
    print(f"{release.name} {what}: {amount(release.size)}, floor number {release.floor}, {source}.")
    print(f"  image    {release.components[0].digest}")
    print(f"  manifest {release.manifest}, signed by {release.key}")


@app.command("list")
def list_releases(as_json: AsJson = False, limit: Limit = 50) -> None:
    """List releases, newest first."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.looks import amount

    with connect() as herald:
        page = herald.releases.list(limit=limit)
    if as_json:
        print_json(page.items)
        return
    rows = [
        [
            r.version, r.line, r.board, r.state, amount(r.size), str(r.floor), str(r.running), str(r.on_the_way),
            f"{r.published_at:%Y-%m-%d %H:%M}", r.published_by, r.description,
        ]
        for r in page.items
    ]  # fmt: skip
    columns = [
        "version",
        "line",
        "board",
        "state",
        "size",
        "floor",
        "running",
        "on the way",
        "published",
        "by",
        "notes",
    ]
    table("Releases", columns, rows, right=["size", "floor", "running", "on the way"])
