"""Boards."""

from pathlib import Path
from typing import Annotated

import typer

from mellow_herald.cli.output import AsJson, print_json, table

app = typer.Typer(name="board", help="Hardware models and the lines they serve.", no_args_is_help=True)


@app.command("add")
def add(file: Annotated[Path, typer.Argument(help="A board file (TOML).")]) -> None:
    """Add a board from a file, or replace what is known of it."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.documents import read_document
    from mellow_herald.wire.board import BoardIn

    board = read_document(file, BoardIn)
    with connect() as herald:
        added = herald.boards.add(board)
    print(f"Board {added.name} with line{'s' * (len(added.lines) > 1)} {', '.join(added.lines)}.")


@app.command("list")
def list_boards(as_json: AsJson = False) -> None:
    """List the boards."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.looks import amount

    with connect() as herald:
        boards = herald.boards.list()
    if as_json:
        print_json(boards)
        return
    rows = [
        [
            b.name, ", ".join(b.lines), ", ".join(map(str, b.hw_revs)),
            " + ".join(amount(slot.size) for slot in b.slots), b.check_in, str(b.devices),
        ]
        for b in boards
    ]  # fmt: skip
    table("Boards", ["board", "lines", "revisions", "slots", "check-in", "devices"], rows, right=["devices"])
