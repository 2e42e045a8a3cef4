"""Plans before they do anything: checking and previewing; and starting them."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from mellow_herald.cli.choices import Yes
from mellow_herald.cli.output import AsJson, console, note, print_json, table
from mellow_herald.core.refusal import Refused

if TYPE_CHECKING:
    from mellow_herald.client import Herald
    from mellow_herald.wire.plan import PlanDocument
    from mellow_herald.wire.radio import RadioForecast
    from mellow_herald.wire.rollout import PlanEditPreview, PreviewOut

app = typer.Typer()
PlanFile = Annotated[Path, typer.Argument(metavar="PLAN", help="A plan file (TOML).")]
Overtake = Annotated[bool, typer.Option("--overtake", help="An urgent plan takes over devices that wait in others.")]
PERCENT = 100
MOST_REMARKS = 50
EDITABLE = frozenset({"pace", "rings", "calendar"})


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
        Path | None,
        typer.Option("--export", help="Write every device with its ring, or why it is passed over; or its step (CSV)."),
    ] = None,
    steps: Annotated[
        bool, typer.Option("--steps", help="In which order devices stage and switch, and whom each restart cuts off.")
    ] = False,
    as_json: AsJson = False,
) -> None:
    """Show what a plan would do: rings, who is passed over, bytes, bounds of harm, expected times; or its steps."""
    from mellow_herald.cli.connection import connect

    document = read_plan(plan)
    with connect() as herald:
        document = with_its_list(herald, plan, document)
        if steps:
            _show_steps(herald, document, export, as_json)
            return
        shown = herald.rollouts.preview(document, overtake=overtake)
        rows = [] if export is None else herald.rollouts.preview_devices(document, overtake=overtake)
    if as_json:
        print_json(shown)
    else:
        print_preview(shown)
    if export is not None:
        _write(export, rows)
        note(f"{len(rows)} devices written to {export}.")


def _show_steps(herald: Any, document: "PlanDocument", export: Path | None, as_json: bool) -> None:
    from mellow_herald.cli.tree import print_steps, write_steps

    found = herald.rollouts.steps(document)
    if as_json:
        print_json(found)
    else:
        print_steps(found)
    if export is not None:
        note(f"{write_steps(export, herald.rollouts.steps(document, all_devices=True))} lines written to {export}.")


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
        document = with_its_list(herald, plan, document)
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


def with_its_list(herald: "Herald", path: Path, document: "PlanDocument") -> "PlanDocument":
    """The plan with the list that its ``target_file`` names kept by the service; what is wrong with its lines is
    printed."""
    from mellow_herald.client.sealing import read_file
    from mellow_herald.core.release_name import parse_release_name

    if document.target_file is None:
        return document
    file = path.parent / document.target_file
    release = parse_release_name(document.release)
    text = read_file(file, "the list of devices").decode("utf-8", "replace")
    kept = herald.devices.keep_list(text, board=release.board, line=release.line)
    for one in kept.remarks[:MOST_REMARKS]:
        note(f"{file}:{one.line_number}: {one.serial} {one.kind}: {one.detail}")
    if len(kept.remarks) > MOST_REMARKS:
        note(f"… and {sum(kept.counts.values()) - MOST_REMARKS} lines more.")
    counts = ", ".join(f"{count} {kind}" for kind, count in kept.counts.items())
    note(f"{file} names {kept.devices} devices{f' ({counts})' if counts else ''}: list {kept.id}")
    return document.model_copy(update={"target": kept.target, "target_file": None})


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
            f"{ring.position + 1} {ring.name}",
            str(ring.devices),
            ", ".join(f"{n} {word}" for word, n in ring.presence.items()) or "–",
            _clock(ring.opens, shown.now) + (" by hand" if ring.by_hand else ""),
            _clock(ring.first_sign, shown.now),
            _clock(ring.through, shown.now),
            ring.soak,
            _clock(ring.done, shown.now),
            str(ring.at_risk),
            str(ring.unproven),
            f"{ring.rules_out:.1%}" if ring.devices else "–",
        ]
        for ring in shown.rings
    ]
    columns = [
        "ring",
        "devices",
        "presence",
        "opens",
        "first sign",
        "through",
        "soak",
        "done",
        "at risk",
        "in soak",
        "rules out",
    ]
    table("Rings, as expected", columns, rows, right=["devices", "at risk", "in soak", "rules out"])
    _print_faults(shown)
    _print_budget(shown)
    _print_arms(shown)
    for ring in shown.rings:
        if ring.foreseen:
            known = [one for one in ring.foreseen if one.unknown < ring.sampled]
            told = ", ".join(f"{one.condition} {one.low}–{one.high}" for one in known) or "not known yet"
            out.print(f"  {ring.position + 1} {_safe(ring.name)} can switch in the next 24 h, by its last week: {told}")
            if known and known[0].unknown:
                out.print(f"    {known[0].unknown} of {ring.sampled} have less than three days of history", style="dim")
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
    for one_by_radio in shown.radio:
        print_radio(one_by_radio, shown.now)
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


def print_radio(one: "RadioForecast", now: Any) -> None:
    """How a ring's devices on narrow radio would be sent to."""
    from mellow_herald.cli.looks import amount

    out = console()
    out.print(f"[bold]By radio[/], ring {_safe(one.ring)}: {one.devices} devices at once")
    out.print(
        f"  {amount(one.bytes)}: {one.fragments} fragments of {one.fragment} bytes and {one.redundancy} % more"
        f" ({one.coded} of parity); {one.region} data rate {one.data_rate}, {one.frequency / 1e6:.3f} MHz"
    )
    minutes = round(one.length_s / 60)
    length = f"{minutes // 60} h {minutes % 60:02d} min" if minutes >= 60 else f"{minutes} min"
    out.print(
        f"  {one.on_air_s * 1000:.0f} ms on the air, one every {one.apart_s:.2f} s: about {length} in all,"
        f" energy {one.energy}"
    )
    every = f"{one.slowest_s / 60:.0f} min"
    out.print(
        f"  earliest start {_clock(one.earliest, now)}, as {_safe(one.slowest)} speaks every {every};"
        f" begins {_clock(one.begins_at, now)}, over about {_clock(one.ends_at, now)}"
    )
    known = f"loss measured of {one.measured}" if one.measured else "no loss measured yet: 8 % in bursts of 5 assumed"
    repair = {"session": "one repair for them all", "alone": "each served alone", "none": "no repair"}[one.repair]
    out.print(f"  about {one.expected_share:.0%} need no repair ({known}); for the others: {repair}")


def _print_faults(shown: "PreviewOut") -> None:
    """What faults would cost with this plan, ring by ring."""
    if not shown.faults:
        return
    names = [ring.name for ring in shown.rings]
    rows = [
        [
            f"{one.times:g} × the limit",
            f"{one.rate:.0%}",
            *(f"{met:.0f} / {hurt:.0f}" if met else "–" for met, hurt in zip(one.exposed, one.hurt, strict=True)),
            f"{one.halted:.0%}",
        ]
        for one in shown.faults
    ]
    columns = ["a fault of", "rate", *names, "halted"]
    table("Exposed / hurt before the halt, if it strikes every device alike", columns, rows, right=columns[1:])


def _print_budget(shown: "PreviewOut") -> None:
    """What the harm budget means for a good release."""
    budget = shown.budget
    if budget is None:
        return
    out, surely = console(), "for sure" if budget.sure else f"with a certainty of {100 * budget.certainty:g} %"
    out.print(f"[bold]Harm budget[/]: at most {budget.at_most} devices hurt, {surely}")
    waves = ", ".join(f"{_safe(ring.name)} {many}" for ring, many in zip(shown.rings, budget.waves, strict=True))
    times = f"done {_clock(budget.done, shown.now)}, without the budget {_clock(budget.done_without, shown.now)}"
    out.print(f"  a good release takes waves: {waves}; {times}")
    for words in budget.words:
        out.print(f"  {_safe(words)}", style="dim")


def _print_arms(shown: "PreviewOut") -> None:
    """The two releases that the plan compares."""
    from mellow_herald.cli.looks import amount

    for arm in shown.arms:
        what = f"{_safe(arm.name)}, {_safe(arm.release)}, {amount(arm.image_bytes)}"
        console().print(f"[bold]By lot[/] {arm.devices} devices get {what}")
    if shown.arms:
        console().print(f"  ring {_safe(shown.rings[-1].name)} waits until one is chosen", style="dim")


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
    # Rings are counted from 1 wherever somebody reads or types them.
    counted = [{**row, "ring": None if row["ring"] is None else row["ring"] + 1} for row in rows]
    lines = [["" if row[name] is None else str(row[name]) for name in columns] for row in counted]
    path.write_text(write_csv([columns, *lines]))


def check_edit(before: "PlanDocument", after: "PlanDocument") -> None:
    """Raises ``Refused`` if a plan file differs from the plan that runs in what cannot be changed while it does."""
    one, other = before.model_dump(mode="json"), after.model_dump(mode="json")
    # What a resume left out besides stands in the plan that runs, and not in the file.
    if other["leave_out"] is None or other["leave_out"] in (one["leave_out"] or ""):
        other["leave_out"] = one["leave_out"]
    other["numbers"]["wait_at_most"] = one["numbers"]["wait_at_most"]
    if one["harm"] and other["harm"]:
        other["harm"]["at_most"] = one["harm"]["at_most"]
    differ = [name for name in one if name not in EDITABLE and one[name] != other[name]]
    if differ:
        raise Refused(
            "not-editable",
            f"The file also differs in {', '.join(differ)}, which stays as it is while the rollout runs.",
            "Change only pace, calendar, rings, numbers.wait_at_most and harm.at_most in it.",
        )


def print_edit(rollout_id: int, found: "PlanEditPreview") -> None:
    """What a change of a plan would do."""
    out = console()
    out.print(
        f"Rollout {rollout_id}, revision {found.revision} of its plan" + ("" if found.changes else ": nothing changes")
    )
    for one in found.changes:
        out.print(f"  {_safe(one.key)}: {_safe(_brief(one.before))} → {_safe(_brief(one.after))}")
    for effect in found.effects:
        out.print(f"  {_safe(effect)}")


def _brief(value: Any) -> str:
    if value is None:
        return "none"
    return (
        ", ".join(f"{k} {v}" for k, v in value.items() if v not in (None, [], ""))
        if isinstance(value, dict)
        else str(value)
    )
