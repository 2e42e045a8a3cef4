"""Plans before they do anything: checking and previewing; and starting them."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from mellow_herald.cli.choices import Yes
from mellow_herald.cli.output import AsJson, console, note, print_json, table

if TYPE_CHECKING:
    from mellow_herald.wire.plan import PlanDocument
    from mellow_herald.wire.rollout import PreviewOut

app = typer.Typer()
PlanFile = Annotated[Path, typer.Argument(metavar="PLAN", help="A plan file (TOML).")]
Overtake = Annotated[bool, typer.Option("--overtake", help="An urgent plan takes over devices that wait in others.")]
PERCENT = 100


@app.command("check")
def check(plan: PlanFile, as_json: AsJson = False) -> None:
    """Check a plan file: every mistake with its line and key. Needs no service."""
    from mellow_herald.client.plan_file import check_plan

    document, mistakes = check_plan(plan)
    if as_json:
        found = [{"line": one.line, "key": one.key, "words": one.words} for one in mistakes]
        print_json({"file": str(plan), "good": not mistakes, "mistakes": found})
    for one in () if as_json else mistakes:
        key = f"{one.key}: " if one.key else ""
        print(f"{plan}:{one.line or 1}: {key}{one.words}")
    if mistakes:
        raise typer.Exit(1)
    if not as_json:
        assert document is not None
        rings = ", ".join(ring.name for ring in document.rings)
        print(f"{plan}: good. {document.release} in {len(document.rings)} rings: {rings}.")


@app.command("preview")
def preview(
    plan: PlanFile,
    overtake: Overtake = False,
    export: Annotated[
        Path | None, typer.Option("--export", help="Write every device with its ring, or why it is passed over (CSV).")
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Show what a plan would do: rings, who is passed over, bytes, bounds of harm, expected times."""
    from mellow_herald.cli.connection import connect

    document = read_plan(plan)
    with connect() as herald:
        shown = herald.rollouts.preview(document, overtake=overtake)
        rows = [] if export is None else herald.rollouts.preview_devices(document, overtake=overtake)
    if as_json:
        print_json(shown)
    else:
        print_preview(shown)
    if export is not None:
        _write(export, rows)
        note(f"{len(rows)} devices written to {export}.")


@app.command("start")
def start(
    plan: PlanFile,
    yes: Yes = False,
    overtake: Overtake = False,
    within: Annotated[
        float, typer.Option("--within", min=0, max=100, help="By how many percent a ring may change until it starts.")
    ] = 5.0,
    as_json: AsJson = False,
) -> None:
    """Start a rollout by a plan; the numbers are shown first, and nothing starts if they have changed meanwhile."""
    from mellow_herald.cli.connection import connect

    document = read_plan(plan)
    with connect() as herald:
        shown = herald.rollouts.preview(document, overtake=overtake)
        if not as_json:
            print_preview(shown)
        if not yes:
            typer.confirm(f"Start {document.release} on {sum(shown.counts)} devices?", abort=True, err=True)
        rollout = herald.rollouts.start(document, counts=shown.counts, within=within / PERCENT, overtake=overtake)
    if as_json:
        print_json(rollout)
    else:
        print(f"Rollout {rollout.id} {'is scheduled' if rollout.state == 'scheduled' else 'started'}.")
        print(f"  herald rollout watch {rollout.id}")


def read_plan(path: Path) -> "PlanDocument":
    """A plan file; its mistakes are printed with their lines, and the command ends."""
    from mellow_herald.client.plan_file import check_plan

    document, mistakes = check_plan(path)
    for one in mistakes:
        note(f"herald: {path}:{one.line or 1}: {one.key + ': ' if one.key else ''}{one.words}")
    if mistakes or document is None:
        raise typer.Exit(1)
    return document


def print_preview(shown: "PreviewOut") -> None:
    """The numbers, as they are asked about before anything starts."""
    from mellow_herald.cli.looks import amount

    out = console()
    passed = shown.targeted - shown.eligible
    out.print(f"[bold]{_safe(shown.name)}[/]   {_safe(shown.release)}")
    out.print(
        f"{shown.targeted} targeted, {shown.eligible} eligible, {passed} passed over; "
        f"{amount(shown.bytes)} to move, {amount(shown.image_bytes)} each"
        + (f" at about {amount(int(shown.rate))}/s" if shown.rate else " (no transfer measured yet: 20 kB/s assumed)")
    )
    rows = [
        [
            f"{ring.position + 1} {ring.name}", str(ring.devices),
            ", ".join(f"{n} {word}" for word, n in ring.presence.items()) or "–",
            _clock(ring.opens, shown.now) + (" by hand" if ring.by_hand else ""), _clock(ring.first_sign, shown.now),
            _clock(ring.through, shown.now), ring.soak, _clock(ring.done, shown.now), str(ring.at_risk),
            str(ring.unproven), f"{ring.rules_out:.1%}" if ring.devices else "–",
        ]
        for ring in shown.rings
    ]  # fmt: skip
    columns = [
        "ring", "devices", "presence", "opens", "first sign", "through", "soak", "done", "at risk", "in soak",
        "rules out",
    ]  # fmt: skip
    table("Rings, as expected", columns, rows, right=["devices", "at risk", "in soak", "rules out"])
    _print_faults(shown)
    for ring in shown.rings:
        if ring.coverage:
            met = sum(one.taken > 0 for one in ring.coverage)
            over = _safe(", ".join(ring.coverage[0].values))
            out.print(f"  {ring.position + 1} {_safe(ring.name)} meets {met} of {len(ring.coverage)} kinds by {over}")
        if ring.first:
            more = f" and {ring.devices - len(ring.first)} more" if ring.devices > len(ring.first) else ""
            out.print(
                f"  {ring.position + 1} {_safe(ring.name)}: {', '.join(d.serial for d in ring.first)}{more}",
                style="dim",
            )
    if shown.passed_over:
        out.print()
        out.print("[bold]Passed over[/]")
    for one in shown.passed_over:
        first = ", ".join(one.first[:6]) + (" …" if one.devices > 6 else "")
        out.print(f"  {one.devices:>6} {one.reason}: {one.words} [dim]({_safe(first)})[/]")
    for name, devices in shown.overtaken.items():
        out.print(f"  {devices} waiting devices are taken over from {_safe(name)!r}", style="herald.honey")
    for words in shown.warnings:
        out.print(f"! {_safe(words)}", style="herald.honey")


def _print_faults(shown: "PreviewOut") -> None:
    """What faults would cost with this plan, ring by ring."""
    if not shown.faults:
        return
    names = [ring.name for ring in shown.rings]
    rows = [
        [f"{one.times:g} × the limit", f"{one.rate:.0%}",
         *(f"{met:.0f} / {hurt:.0f}" if met else "–" for met, hurt in zip(one.exposed, one.hurt, strict=True)),
         f"{one.halted:.0%}"]
        for one in shown.faults
    ]  # fmt: skip
    columns = ["a fault of", "rate", *names, "halted"]
    table("Exposed / hurt before the halt, if it strikes every device alike", columns, rows, right=columns[1:])


def _clock(at: Any, now: Any) -> str:
    if at is None:
        return "never"
    return f"{at:%H:%M}" if at.date() == now.date() else f"{at:%a %d %b %H:%M}"


def _safe(text: str) -> str:
    from rich.markup import escape

    return escape(text)


def _write(path: Path, rows: list[dict[str, Any]]) -> None:
    from mellow_herald.core.inventory import write_csv

    columns = ("ring", "name", "serial", "hw_rev", "version", "passed_over")
    lines = [["" if row[name] is None else str(row[name]) for name in columns] for row in rows]
    path.write_text(write_csv([columns, *lines]))
