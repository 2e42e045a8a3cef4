"""Two releases compared by lot: side by side, and the choice of one for the rest."""

from typing import TYPE_CHECKING, Annotated

import typer

from mellow_herald.cli.output import AsJson, console, note, print_json, table

if TYPE_CHECKING:
    from mellow_herald.wire.comparison import ArmOut, ComparisonOut

app = typer.Typer()
Id = Annotated[int, typer.Argument(metavar="ID", help="The rollout's number.")]


@app.command("compare")
def compare(rollout_id: Id, as_json: AsJson = False) -> None:
    """Show the two releases that a rollout compares by lot ([[arms]]), side by side."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        seen = herald.comparison.show(rollout_id)
    if as_json:
        print_json(seen)
    else:
        print_comparison(seen)


@app.command("choose")
def choose(
    rollout_id: Id,
    arm: Annotated[str, typer.Argument(metavar="ARM", help="Its name in the plan, or the release's version.")],
    reason: Annotated[str | None, typer.Option("--reason", help="Why; it goes to the journal. Asked for.")] = None,
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask.")] = False,
    as_json: AsJson = False,
) -> None:
    """Choose the release that the rest gets. Who has switched to the other, or is about to, keeps it."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.watching import picture
    from mellow_herald.core.arms import Arm, find_arm
    from mellow_herald.core.release_name import parse_release_name

    with connect() as herald:
        seen = herald.comparison.show(rollout_id)
        if not as_json:
            print_comparison(seen)
        named = seen.arms[find_arm([Arm(one.name, parse_release_name(one.release)) for one in seen.arms], arm)]
        if reason is None:
            reason = typer.prompt("Reason", err=True)
        if not yes and seen.chosen is None:
            question = f"Bring {named.name} ({named.release}) to everybody from now on?"
            typer.confirm(question, abort=True, err=True)
        after = herald.comparison.choose(rollout_id, arm, reason)
    if as_json:
        print_json(after)
        return
    note(f"herald: {after.chosen} is chosen for the rest of rollout {rollout_id}.")
    console().print(picture(after))


def print_comparison(seen: "ComparisonOut") -> None:
    """Both releases as a table, and what it proves."""
    from rich.text import Text

    columns = ["arm", "release", "by lot", "exposed", "good", "bad", "undecided", "counted", "share bad"]
    rows = [
        [
            Text(f"{one.name} ← chosen" if one.name == seen.chosen else one.name, "bold"),
            one.release,
            str(one.given),
            str(one.exposed),
            str(one.good),
            Text(str(one.bad), "herald.rose" if one.bad else ""),
            str(one.undecided),
            str(one.counted),
            _share(one),
        ]
        for one in seen.arms
    ]
    table(f"Rollout {seen.rollout_id}: two releases by lot", columns, rows, right=columns[2:8])
    out = console()
    out.print(Text(seen.words, "bold" if seen.differ else ""))
    for one in seen.readings:
        out.print(Text(one.words, "bold" if one.differ else ""))
    out.print(Text(f"Intervals hold with {seen.confidence:.0%} at every look; look as often as you like.", "dim"))


def _share(one: "ArmOut") -> str:
    if not one.counted:
        return "nothing counted yet"
    return f"{100 * one.counted_bad / one.counted:.1f} %  ({100 * one.low:.1f} … {100 * one.high:.1f} %)"
