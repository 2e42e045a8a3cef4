"""Enrolment codes."""

from typing import Annotated

import typer

from mellow_herald.cli.output import AsJson, print_json, table

app = typer.Typer(name="code", help="Enrolment codes: how devices get in.", no_args_is_help=True)


@app.command("new")
def new(
    board: Annotated[str, typer.Option("--board", help="For devices of this board.")],
    line: Annotated[str, typer.Option("--line", help="And of this line.")],
    uses: Annotated[int, typer.Option("--uses", min=1, help="For so many devices.")] = 1000,
    valid_for: Annotated[str, typer.Option("--valid-for", help="For so long, e.g. 30d.")] = "30d",
    ask: Annotated[bool, typer.Option("--ask", help="A person admits each device that comes in by it.")] = False,
    label: Annotated[list[str] | None, typer.Option("--label", help="key=value for every device that enrols.")] = None,
    as_json: AsJson = False,
) -> None:
    """Make an enrolment code. It is shown this once."""
    from mellow_herald.cli.choices import labels_of
    from mellow_herald.cli.connection import connect
    from mellow_herald.wire.fleet import CodeIn

    asked = CodeIn(board=board, line=line, uses=uses, ask=ask, valid_for=valid_for, labels=labels_of(label))
    with connect() as herald:
        made = herald.codes.make(asked)
    if as_json:
        print_json(made)
    else:
        until = f"{made.expires_at:%Y-%m-%d %H:%M}"
        print(f"{made.code}\n  for {made.uses} devices of {made.board}/{made.line}, until {until}")


@app.command("list")
def list_codes(as_json: AsJson = False) -> None:
    """List enrolment codes (not the codes themselves)."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        codes = herald.codes.list()
    if as_json:
        print_json(codes)
        return
    rows = [
        [
            str(c.id),
            c.board,
            c.line,
            f"{c.used} of {c.uses}",
            "asks" if c.ask else "admits",
            f"{c.expires_at:%Y-%m-%d %H:%M}",
        ]
        for c in codes
    ]
    table("Enrolment codes", ["id", "board", "line", "used", "comes in", "until"], rows)


@app.command("close")
def close(code_id: Annotated[int, typer.Argument(metavar="ID", help="The code's number.")]) -> None:
    """Close an enrolment code before its time; devices that came in by it stay."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        herald.codes.close(code_id)
    print(f"Code {code_id} closed.")
