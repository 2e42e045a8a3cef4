"""Plans played on a model of the fleet before anybody is hurt."""

import time
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from mellow_herald.cli.output import AsJson, console, note, print_json, table

if TYPE_CHECKING:
    from mellow_herald.client import Herald
    from mellow_herald.wire.rehearsal import NumberSpread, RehearsalOut, RehearsedFault, TimeSpread

app = typer.Typer()
LOOK_S = 0.5
# What a service answers that will answer again.
AWAY = 500
BAR, CURVE = 24, 40
# What comes about more seldom is not told in words.
SELDOM = 0.005
LEVELS = "▁▂▃▄▅▆▇█"
Fault = Annotated[
    list[str] | None,
    typer.Option(
        "--fault",
        help='"none", "0.1 crashed", "hw_rev = 2: 0.3 crashed", "0.05 crash-looping after 6h"; again for more.',
    ),
]


@app.command("rehearse")
def rehearse(
    plan: Annotated[Path | None, typer.Argument(metavar="PLAN", help="The plan file, TOML or JSON.")] = None,
    fault: Fault = None,
    runs: Annotated[int, typer.Option("--runs", min=10, max=1000, help="How often each fault is played.")] = 200,
    seed: Annotated[int, typer.Option("--seed", min=0, help="The same one gives the same answer.")] = 1,
    people_after: Annotated[
        str, typer.Option("--people-after", help="After how long somebody says go or approves.")
    ] = "0s",
    beside: Annotated[int | None, typer.Option("--beside", help="The number of a rehearsal to set it beside.")] = None,
    number: Annotated[
        int | None, typer.Option("--show", help="Show this rehearsal again, instead of a new one.")
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Play a plan on a model of your fleet: when rings open, whom a fault hurts, what takes long. Nothing is sent."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.planning import read_plan, with_its_list
    from mellow_herald.wire.rehearsal import RehearsalIn

    if (plan is None) == (number is None):
        raise typer.BadParameter("say which plan, or --show NUMBER")
    document = None if plan is None else read_plan(plan)
    with connect() as herald:
        if document is not None and plan is not None:
            document = with_its_list(herald, plan, document)
            asked = {"plan": document, "faults": fault or ["none"], "runs": runs, "seed": seed}
            made = herald.rehearsals.ask(RehearsalIn.model_validate({**asked, "people_after": people_after}))
            done = _follow(herald, made)
        else:
            done = herald.rehearsals.show(number or 0)
        other = None if beside is None else herald.rehearsals.show(beside)
    if done.state != "done":
        note(f"herald: rehearsal {done.id} is {done.state}" + (f": {done.why}" if done.why else "."))
        raise typer.Exit(1)
    if other is not None and other.state != "done":
        note(f"herald: rehearsal {other.id} is {other.state}, so there is nothing to set beside.")
        raise typer.Exit(1)
    if as_json:
        print_json(done)
    elif other is None:
        _print(done)
    else:
        _print_beside(done, other)


@app.command("rehearsals")
def list_rehearsals(as_json: AsJson = False) -> None:
    """List the newest rehearsals."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        found = herald.rehearsals.list()
    if as_json:
        print_json(found)
        return
    rows = [
        [
            str(one.id),
            f"{one.asked_at:%d %b %H:%M}",
            one.asked_by,
            one.name,
            "; ".join(one.faults),
            one.state if one.state != "running" else f"running {one.progress:.0%}",
            "" if one.result is None else f"{one.result.devices}",
        ]
        for one in found
    ]
    table("Rehearsals", ["no", "when", "by", "plan", "faults", "state", "devices"], rows, right=["no", "devices"])


def _follow(herald: "Herald", made: "RehearsalOut") -> "RehearsalOut":
    """Shows how far it is until it is done, also through an outage of the service; Ctrl-C cancels it."""
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn

    columns = (
        TextColumn("rehearsal {task.fields[number]} {task.fields[state]}"),
        BarColumn(BAR),
        TextColumn("{task.percentage:.0f} %"),
    )
    try:
        with Progress(*columns, console=Console(stderr=True), transient=True) as bar:
            task = bar.add_task("", total=1.0, number=made.id, state=made.state)
            while made.state in ("waiting", "running"):
                time.sleep(LOOK_S)
                now = _look(herald, made.id)
                made = now or made
                bar.update(
                    task, completed=made.progress, state=made.state if now else "goes on; no answer from the service"
                )
    except KeyboardInterrupt:
        herald.rehearsals.cancel(made.id)
        note(f"Rehearsal {made.id} is cancelled.")
        raise typer.Exit(130) from None
    return made


def _look(herald: "Herald", number: int) -> "RehearsalOut | None":
    """How far it is; None while the service, or its database, is away."""
    from mellow_herald.client.errors import ProblemError, UnreachableError

    try:
        return herald.rehearsals.show(number)
    except UnreachableError:
        return None
    except ProblemError as error:
        if error.problem.status < AWAY:
            raise
        return None


def _print(one: "RehearsalOut") -> None:
    from rich.text import Text

    result = one.result
    assert result is not None
    out = console()
    out.print(
        Text(f"Rehearsal {one.id} of {one.name}, {one.release}: {one.runs} runs on {result.devices} devices", "bold")
    )
    known = "all by their own last week" if not result.assumed else f"{result.assumed:.0%} without a week of their own"
    out.print(Text(f"  {known}; 10 … 50 … 90 % of all runs", "dim"))
    for fault in result.faults:
        _print_fault(fault, one.asked_at)
    if result.levers:
        out.print()
        out.print(Text("What would change most", "bold"))
    for lever in result.levers:
        spared = "" if lever.spared is None else f", {lever.spared:+.0f} devices spared of the first fault"
        when = f"{_span(abs(lever.sooner_s))} {'sooner' if lever.sooner_s >= 0 else 'later'}"
        out.print(Text(f"  {lever.key}: {lever.words}: {when}{spared}"))
    for words in result.assumptions:
        out.print(Text(f"  taken for granted: {words}", "dim"))


def _print_fault(fault: "RehearsedFault", now: Any) -> None:
    from rich.text import Text

    out = console()
    rows = [
        [
            ring.name,
            str(ring.devices),
            _times(ring.opens, now),
            _times(ring.ends, now),
            _numbers(ring.exposed),
            Text(_numbers(ring.hurt), "herald.rose" if ring.hurt.high else ""),
        ]
        for ring in fault.rings
    ]
    table(
        f"{fault.named[:1].upper()}{fault.named[1:]}",
        ["ring", "devices", "opens", "done", "exposed", "hurt"],
        rows,
        right=["devices"],
    )
    ends = f"done in {fault.finishes:.0%} of all runs: {_times(fault.done, now)}; halted in {fault.halts:.0%}"
    out.print(Text(f"  {ends}"))
    unseen = f", {_numbers(fault.hurt_unseen)} of them after their soak, unseen" if fault.hurt_unseen.high else ""
    harm = f"hurt {_numbers(fault.hurt)}{unseen}; exposed {_numbers(fault.exposed)}"
    out.print(Text(f"  {harm}; reached {_percents(fault.served)}"))
    for one in fault.halted_by:
        out.print(Text(f"  halted by {one.words} in {one.share:.0%}", "dim"))
    for one in (one for one in fault.stands if one.share >= SELDOM):
        out.print(Text(f"  ring {one.ring} stands still in {one.share:.0%}: {one.words}", "herald.honey"))
    for never in fault.never:
        if never.devices >= 0.5:
            share = "" if never.share is None else f" ({never.share:.0%})"
            out.print(Text(f"  not reached: {never.devices:.0f} on average{share}, {never.words}", "dim"))
    out.print(Text(f"  good {_curve(fault.fan.good)}  {fault.fan.at[0]:%a %H:%M} … {fault.fan.at[-1]:%a %d %b %H:%M}"))
    if fault.hurt.high:
        out.print(Text(f"  hurt {_curve(fault.fan.hurt_high)}  (90 %)", "herald.rose"))
    from mellow_herald.cli.looks import amount

    out.print(
        Text(
            f"  {amount(round(fault.bytes.middle))} in all, {amount(round(fault.peak.middle))} in the busiest hour",
            "dim",
        )
    )


def _print_beside(one: "RehearsalOut", other: "RehearsalOut") -> None:
    """Two plans, fault by fault."""
    assert one.result is not None
    assert other.result is not None
    found = {fault.fault: fault for fault in other.result.faults}
    rows = []
    for fault in one.result.faults:
        then = found.get(fault.fault)
        if then is None:
            continue
        rows += [
            [fault.fault, "all done", _times(then.done, other.asked_at), _times(fault.done, one.asked_at)],
            ["", "hurt", _numbers(then.hurt), _numbers(fault.hurt)],
            ["", "hurt, unseen", _numbers(then.hurt_unseen), _numbers(fault.hurt_unseen)],
            ["", "exposed", _numbers(then.exposed), _numbers(fault.exposed)],
            ["", "halted", f"{then.halts:.0%}", f"{fault.halts:.0%}"],
            ["", "finishes", f"{then.finishes:.0%}", f"{fault.finishes:.0%}"],
        ]
    if not rows:
        note(f"herald: rehearsals {one.id} and {other.id} have no fault in common.")
        raise typer.Exit(1)
    table("Side by side", ["fault", "", f"rehearsal {other.id}", f"rehearsal {one.id}"], rows)


def _curve(values: list[float]) -> str:
    """A small picture of a course."""
    most = max(values, default=0.0) or 1.0
    step = max(1, len(values) // CURVE)
    return "".join(LEVELS[min(7, int(8 * value / (most + 1e-9)))] for value in values[::step])


def _times(spread: "TimeSpread", now: Any) -> str:
    def one(at: Any) -> str:
        if at is None:
            return "never"
        return f"{at:%H:%M}" if at.date() == now.date() else f"{at:%a %d %H:%M}"

    told = [one(at) for at in (spread.low, spread.middle, spread.high)]
    return told[0] if len(set(told)) == 1 else " … ".join(told)


def _numbers(spread: "NumberSpread") -> str:
    low, middle, high = spread.low, spread.middle, spread.high
    return f"{middle:.0f}" if low == high else f"{middle:.0f} ({low:.0f} … {high:.0f})"


def _percents(spread: "NumberSpread") -> str:
    return (
        f"{spread.middle:.0%}"
        if spread.low == spread.high
        else f"{spread.middle:.0%} ({spread.low:.0%} … {spread.high:.0%})"
    )


def _span(seconds: float) -> str:
    return f"{seconds / 3600:.1f} h" if seconds < 48 * 3600 else f"{seconds / 86400:.1f} days"
