"""What becomes of releases in the long run: the baseline of a line, and images that nobody needs any more."""

from typing import Annotated, Any

import typer

from mellow_herald.cli import choices
from mellow_herald.cli.output import note, table
from mellow_herald.cli.release import app as app


@app.command("baseline")
def baseline(
    release: Annotated[
        str | None, typer.Argument(metavar="RELEASE", help="board/line/version, or its number; without: list them.")
    ] = None,
    reason: Annotated[str | None, typer.Option("--reason", help="Why; it goes to the journal.")] = None,
    bring: Annotated[
        bool | None, typer.Option("--bring/--no-bring", help="Bring devices that arrive to it, or no longer.")
    ] = None,
    yes: choices.Yes = False,
) -> None:
    """Say what newly admitted or returning devices should run, and whether they are brought to it."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        if release is None:
            rows = [
                [b.board, b.line, b.release, "brings" if b.brings else "brings nobody"] for b in herald.baselines.list()
            ]
            table(f"{len(rows)} baselines", ["board", "line", "release", ""], rows)
            return
        found = herald.releases.find(release)
        why = reason or typer.prompt("Reason", err=True)
        if not found.baseline:
            if not yes:
                typer.confirm(f"Make {found.name} the baseline of {found.line} on {found.board}?", abort=True, err=True)
            herald.releases.make_baseline(found.id, why)
            print(f"{found.name} is the baseline of {found.line} on {found.board}.")
        if bring is not None:
            _bring(herald, found, bring, why, yes)


def _bring(herald: Any, found: Any, bring: bool, why: str, yes: bool) -> None:
    due = herald.baselines.preview(found.board, found.line)
    if bring:
        first = f": {', '.join(due.first)}{' …' if due.would_bring > len(due.first) else ''}" if due.first else ""
        passed = "".join(f", {count} passed over as {reason}" for reason, count in due.passed_over.items())
        note(
            f"Now it would bring {due.would_bring} devices that arrived{first}{passed}; {due.left_alone} older ones "
            "that did not arrive are left alone. Whoever arrives later is brought to it, never downwards."
        )
        if not yes:
            typer.confirm(f"Let {found.name} bring devices?", abort=True, err=True)
    herald.baselines.switch(found.board, found.line, brings=bring, reason=why)
    print(f"{found.name} {'brings devices that arrive' if bring else 'brings nobody any more'}.")


@app.command("clean")
def clean(
    yes: choices.Yes = False,
    keep: Annotated[list[str] | None, typer.Option("--keep", help="Keep this release; may be repeated.")] = None,
) -> None:
    """Show releases that no device runs and no rollback needs, and clean their images away."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.looks import amount

    with connect() as herald:
        unused = [one for one in herald.releases.unused() if one.name not in (keep or [])]
        if not unused:
            print("Every release is needed: nothing to clean away.")
            return
        rows = [[one.name, one.state, f"{one.published_at:%Y-%m-%d}", amount(one.bytes)] for one in unused]
        table("Needed by nobody", ["release", "state", "published", "frees"], rows, right=["frees"])
        if not yes:
            typer.confirm("Clean their images away? Their records stay.", abort=True, err=True)
        done = herald.releases.clean([one.id for one in unused])
    print(f"{len(done.releases)} releases cleaned, {done.images} images gone.")
