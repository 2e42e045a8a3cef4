"""Rollouts."""

from pathlib import Path
from typing import Annotated, Any

import typer

from mellow_herald.cli.output import AsJson, Limit, console, print_json, table

app = typer.Typer(name="rollout", help="Releases brought to devices, ring by ring.", no_args_is_help=True)
Id = Annotated[int, typer.Argument(metavar="ID", help="The rollout's number.")]
Reason = Annotated[str, typer.Option("--reason", prompt=True, help="Why; it goes to the journal.")]
Yes = Annotated[bool, typer.Option("--yes", help="Do not ask.")]


@app.command("start")
def start(
    plan: Annotated[Path, typer.Argument(help="A plan file (TOML).")], yes: Yes = False, as_json: AsJson = False
) -> None:
    """Start a rollout by a plan."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.client.documents import read_document
    from mellow_herald.wire.plan import PlanDocument

    document = read_document(plan, PlanDocument)
    document.to_plan()
    with connect() as herald:
        targeted = herald.devices.list(where=document.target, limit=1).total
        if not yes:
            typer.confirm(f"{document.release} goes to {targeted} targeted devices. Start?", abort=True, err=True)
        rollout = herald.rollouts.start(document)
    if as_json:
        print_json(rollout)
    else:
        print(f"Rollout {rollout.id} started: {rollout.release} to {rollout.targeted} targeted devices.")
        print(f"  herald rollout watch {rollout.id}")


@app.command("list")
def list_rollouts(as_json: AsJson = False, limit: Limit = 20) -> None:
    """List rollouts, newest first."""
    from rich.text import Text

    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.looks import styled

    with connect() as herald:
        page = herald.rollouts.list(limit=min(limit, 200))
    if as_json:
        print_json(page.items)
        return
    rows = [
        [
            str(r.id), r.name, r.release, r.state, str(r.targeted), str(sum(r.passed_over.values())),
            Text("  ").join(styled(state, str(n)) for state, n in r.states.items()), f"{r.created_at:%Y-%m-%d %H:%M}",
        ]
        for r in page.items
    ]  # fmt: skip
    columns = ["id", "name", "release", "state", "targeted", "passed over", "attempts", "created"]
    table("Rollouts", columns, rows, right=["id", "targeted", "passed over"])


@app.command("show")
def show(rollout_id: Id, as_json: AsJson = False) -> None:
    """Show a rollout: rings, counts, and what went wrong."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.watching import picture
    from mellow_herald.core.attempt import BAD

    with connect() as herald:
        rollout = herald.rollouts.show(rollout_id)
        bad = [a for state in BAD for a in herald.rollouts.attempts(rollout_id, state=state.value, limit=20).items]
    if as_json:
        print_json(rollout)
        return
    console().print(picture(rollout))
    if bad:
        _print_bad(bad)


def _print_bad(bad: list[Any]) -> None:
    from mellow_herald.cli.looks import styled

    rows = [[a.serial, str(a.hw_rev), styled(a.state), a.reason or "", f"{a.try_number} of {a.tries}"] for a in bad]
    table("Went wrong (herald device show SERIAL tells more)", ["serial", "rev", "state", "reason", "try"], rows)


@app.command("watch")
def watch(rollout_id: Id) -> None:
    """Follow a rollout live until it ends. Exit code 4 if it is halted."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.watching import follow

    with connect() as herald:
        state = follow(herald, rollout_id)
    if state == "halted":
        raise typer.Exit(4)


def _act(rollout_id: int, word: str, reason: str, yes: bool) -> None:
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.watching import picture

    with connect() as herald:
        before = herald.rollouts.show(rollout_id)
        if not yes:
            what = f"{word} {rollout_id} ({before.name}): {before.live} attempts live, {before.at_risk} at risk"
            typer.confirm(f"{what}. Go on?", abort=True, err=True)
        after = getattr(herald.rollouts, word)(rollout_id, reason)
    console().print(picture(after))


@app.command("hold")
def hold(rollout_id: Id, reason: Reason, yes: Yes = False) -> None:
    """Give no further offers or clearances for now."""
    _act(rollout_id, "hold", reason, yes)


@app.command("resume")
def resume(rollout_id: Id, reason: Reason, yes: Yes = False) -> None:
    """Go on with a held or halted rollout."""
    _act(rollout_id, "resume", reason, yes)


@app.command("halt")
def halt(rollout_id: Id, reason: Reason, yes: Yes = False) -> None:
    """Stop a rollout at once; what was not cleared is called off."""
    _act(rollout_id, "halt", reason, yes)


@app.command("cancel")
def cancel(rollout_id: Id, reason: Reason, yes: Yes = False) -> None:
    """End a rollout for good; refused while devices are at risk."""
    _act(rollout_id, "cancel", reason, yes)
