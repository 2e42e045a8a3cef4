"""Boards."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from mellow_herald.cli.output import AsJson, console, print_json, table

if TYPE_CHECKING:
    from mellow_herald.wire.board import BoardIn

app = typer.Typer(name="board", help="Hardware models and the lines they serve.", no_args_is_help=True)


@app.command("add")
def add(
    file: Annotated[Path, typer.Argument(help="A board file (TOML).")],
    signals_from: Annotated[
        list[Path] | None,
        typer.Option("--signals-from", help="Its bus-signal database file (.dbc, .kcd, .sym, .arxml); more than once."),
    ] = None,
) -> None:
    """Add a board from a file, or replace what is known of it. Signals may come from the file that describes its bus;
    what the board file says of one of them counts."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.client.documents import read_document
    from mellow_herald.wire.board import BoardIn

    board = read_document(file, BoardIn)
    if signals_from:
        board = _with_signals(board, signals_from)
    with connect() as herald:
        added = herald.boards.add(board)
    print(f"Board {added.name} with line{'s' * (len(added.lines) > 1)} {', '.join(added.lines)}.")
    if added.single_slot:
        print("It has a single slot for app: an update is written in place, with no way back without a download.")


def _with_signals(board: "BoardIn", files: list[Path]) -> "BoardIn":
    """A board with the signals of files that describe its bus."""
    from mellow_herald.cli.extras import require
    from mellow_herald.client.bus_signals import read_bus_file

    require("bus")
    known = {one.name: one for file in reversed(files) for one in read_bus_file(file)}
    known |= {one.name: one for one in board.signals}
    print(f"{len(known)} signals: {', '.join(sorted(known))}")
    return type(board).model_validate({**board.model_dump(), "signals": [known[name] for name in sorted(known)]})


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
            b.name,
            ", ".join(b.lines),
            ", ".join(map(str, b.hw_revs)),
            " + ".join(amount(slot.size) for slot in b.slots if slot.component == "app"),
            ", ".join(dict.fromkeys(slot.component for slot in b.slots)),
            "no, single slot" if b.single_slot else "yes",
            b.check_in,
            str(b.devices),
        ]
        for b in boards
    ]
    columns = ["board", "lines", "revisions", "slots for app", "components", "way back", "check-in", "devices"]
    table("Boards", columns, rows, right=["devices"])


@app.command("show")
def show(
    name: Annotated[str, typer.Argument(metavar="BOARD", help="The board's name.")], as_json: AsJson = False
) -> None:
    """Show a board: its slots, its lines, how often its devices check in."""
    from rich.text import Text

    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.looks import amount
    from mellow_herald.core.board import Runs
    from mellow_herald.core.suit import class_id

    with connect() as herald:
        board = herald.boards.show(name)
    if as_json:
        print_json(board)
        return
    # Devices are built with it, and hold it against the manifest's.
    ids = [(line, class_id(board.vendor_domain, board.name, line).hex) for line in board.lines]
    exceptions = "".join(f"; {one.every} where {one.where}" for one in board.check_in_exceptions)
    code = {
        Runs.ANYWHERE: "runs in any slot",
        Runs.WHERE_LINKED: "runs only where it is linked for: an image for each slot",
        Runs.MAPPED: f"linked for {board.run_address or 0:#010x}, where the boot loader maps the slot that it starts",
    }[board.runs]
    fields = [
        ("lines", ", ".join(board.lines)),
        ("revisions", ", ".join(map(str, board.hw_revs))),
        ("vendor", board.vendor_domain),
        *(("class id", f"{id_}, for {line}") for line, id_ in ids),
        ("code", code),
        ("check-in", f"every {board.check_in}{exceptions}"),
        ("way back", "no, a single slot for app" if board.single_slot else "yes, two slots for app"),
        ("devices", str(board.devices)),
    ]
    screen = console()
    screen.print(Text(board.name, "bold"))
    for what, value in fields:
        screen.print(Text.assemble((f"  {what:<10} ", "dim"), value), soft_wrap=True)
    rows = [
        [s.name, s.component, amount(s.size), "–" if s.address is None else f"{s.address:#010x}"] for s in board.slots
    ]
    table("Slots", ["slot", "component", "size", "address"], rows, right=["size"])
