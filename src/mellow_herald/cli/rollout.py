"""Rollouts."""

from pathlib import Path
from typing import Annotated, Any

import typer

from mellow_herald.cli import harm, planning
from mellow_herald.cli.output import AsJson, Limit, Where, console, note, print_json, table

app = typer.Typer(name="rollout", help="Releases brought to devices, ring by ring.", no_args_is_help=True)
app.registered_commands += planning.app.registered_commands + harm.rollout_app.registered_commands
Id = Annotated[int, typer.Argument(metavar="ID", help="The rollout's number.")]
Reason = Annotated[str, typer.Option("--reason", prompt=True, help="Why; it goes to the journal.")]
Yes = Annotated[bool, typer.Option("--yes", help="Do not ask.")]
Serial = Annotated[str, typer.Argument(metavar="SERIAL", help="The device's serial.")]


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
        rollout, brakes = herald.rollouts.show(rollout_id), herald.rollouts.brakes(rollout_id)
        bad = [a for state in BAD for a in herald.rollouts.attempts(rollout_id, state=state.value, limit=20).items]
    if as_json:
        print_json({**rollout.model_dump(mode="json"), "brakes": brakes.model_dump(mode="json")})
        return
    console().print(picture(rollout, brakes=brakes))
    if bad:
        _print_bad(bad)


def _print_bad(bad: list[Any]) -> None:
    from mellow_herald.cli.looks import styled

    rows = [[a.serial, str(a.hw_rev), styled(a.state), a.reason or "", f"{a.try_number} of {a.tries}"] for a in bad]
    table("Went wrong (herald device show SERIAL tells more)", ["serial", "rev", "state", "reason", "try"], rows)


@app.command("attempts")
def attempts(
    rollout_id: Id,
    where: Where = None,
    state: Annotated[str | None, typer.Option("--state", help="Only attempts in this state.")] = None,
    ring: Annotated[int | None, typer.Option("--ring", min=1, help="Only attempts of this ring, from 1.")] = None,
    waiting_for: Annotated[str | None, typer.Option("--waiting-for", help="Only those that wait for this.")] = None,
    as_json: AsJson = False,
    limit: Limit = 50,
) -> None:
    """List a rollout's attempts: state, reason or what is waited for, parts."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.looks import styled

    with connect() as herald:
        page = herald.rollouts.attempts(
            rollout_id, state=state, ring=None if ring is None else ring - 1, waiting_for=waiting_for, where=where,
            limit=limit,
        )  # fmt: skip
    if as_json:
        print_json(page.items)
        return
    rows = [
        [str(a.id), a.serial, str(a.ring + 1), styled(a.state, f"{a.percent} %" if a.percent is not None else ""),
         (a.reason or a.waiting or "") + (", settings changed" if a.settings == "changed" else ""),
         f"{a.waiting_until:%H:%M}" if a.waiting_until else "",
         f"{a.try_number}/{a.tries}",
         ", ".join(f"{part.name} {part.state.value}" for part in a.parts)]
        for a in page.items
    ]  # fmt: skip
    columns = ["id", "serial", "ring", "state", "reason, or waits for", "until", "try", "parts"]
    table(f"Attempts of rollout {rollout_id}", columns, rows, right=["id", "ring"])


@app.command("watch")
def watch(
    rollout_id: Id,
    until: Annotated[
        str, typer.Option("--until", help="end, confirmed (somebody confirmed it), or ring:NAME (that ring is done).")
    ] = "end",
) -> None:
    """Follow a rollout live. Exit code 4 if it is halted, 1 if it ends without what was waited for."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.watching import Until, follow

    with connect() as herald:
        wanted = Until.parse(until, herald.rollouts.show(rollout_id))
        shown = follow(herald, rollout_id, wanted)
    if shown.state == "halted":
        raise typer.Exit(4)
    if not wanted.met(shown):
        note(f"herald: rollout {rollout_id} is {shown.state}, and {until} has not come to pass.")
        raise typer.Exit(1)


@app.command("report")
def report(
    rollout_id: Id,
    html: Annotated[Path | None, typer.Option("--html", help="Write one HTML file with charts.")] = None,
    as_json: AsJson = False,
) -> None:
    """What was planned, what happened, who decided what, where the time went; as Markdown, HTML or JSON."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        if html is not None:
            html.write_text(herald.rollouts.written_report(rollout_id, "html"))
            note(f"Written to {html}.")
        elif as_json:
            print_json(herald.rollouts.report(rollout_id))
        else:
            print(herald.rollouts.written_report(rollout_id, "md"), end="")


@app.command("go")
def go(rollout_id: Id, reason: Reason, yes: Yes = False) -> None:
    """Let the ring open that awaits go."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.watching import picture

    with connect() as herald:
        before = herald.rollouts.show(rollout_id)
        waiting = next((ring for ring in before.rings if ring.state == "awaiting-go"), None)
        if waiting is not None and not yes:
            what = f"Ring {waiting.position + 1} ({waiting.name}) opens for {waiting.planned} devices"
            typer.confirm(f"{what}. Go?", abort=True, err=True)
        after = herald.rollouts.go(rollout_id, reason)
    console().print(picture(after))


@app.command("edit")
def edit(
    rollout_id: Id,
    reason: Reason,
    plan: Annotated[
        Path | None, typer.Option("--plan", help="A plan file: its pace, and its rings that are not open yet, count.")
    ] = None,
    downloading: Annotated[int | None, typer.Option("--downloading", min=1, help="So many download at once.")] = None,
    at_risk: Annotated[int | None, typer.Option("--at-risk", min=1, help="So many are at risk at once.")] = None,
    yes: Yes = False,
) -> None:
    """Change the pace, or rings that are not open yet, of a rollout that runs."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.watching import picture
    from mellow_herald.wire.rollout import PlanEdit

    if plan is None and downloading is None and at_risk is None:
        raise typer.BadParameter("say what is to change: --plan, --downloading or --at-risk")
    document = planning.read_plan(plan) if plan is not None else None
    with connect() as herald:
        before = herald.rollouts.show(rollout_id)
        pace = document.pace if document else before.plan.pace
        wished = {"downloading_at_once": downloading, "at_risk_at_once": at_risk}
        pace = pace.model_copy(update={name: value for name, value in wished.items() if value is not None})
        said = PlanEdit(pace=pace, rings=document.rings if document else None, reason=reason)
        if not yes:
            rings = ", ".join(f"{r.name} {r.planned}" for r in before.rings if r.state in ("closed", "awaiting-go"))
            what = f"Rollout {rollout_id}: {before.downloading} download now, {before.at_risk} are at risk"
            typer.confirm(f"{what}; rings to come: {rings or 'none'}. Change its plan?", abort=True, err=True)
        after = herald.rollouts.edit(rollout_id, said, revision=before.revision)
    console().print(picture(after))


@app.command("call-off")
def call_off(rollout_id: Id, serial: Serial, reason: Reason, yes: Yes = False) -> None:
    """Stop one device's attempt before it switches."""
    _on_one(rollout_id, serial, reason, yes, "call_off", "is called off, and keeps what it runs")


@app.command("retry")
def retry(rollout_id: Id, serial: Serial, reason: Reason, yes: Yes = False) -> None:
    """Give one device one more try."""
    _on_one(rollout_id, serial, reason, yes, "retry", "is queued again for one more try")


def _on_one(rollout_id: int, serial: str, reason: str, yes: bool, word: str, what: str) -> None:
    from mellow_herald.cli.connection import connect
    from mellow_herald.core.refusal import Refused

    with connect() as herald:
        found = herald.rollouts.attempts(rollout_id, where=f'serial = "{serial}"', limit=1).items
        if not found:
            raise Refused("not-found", f"{serial} has no attempt in rollout {rollout_id}.", "See herald device show.")
        if not yes:
            typer.confirm(f"{serial} is {found[0].state}. It {what}; 1 device. Go on?", abort=True, err=True)
        after = getattr(herald.rollouts, word)(found[0].id, reason)
    print(f"{serial}: {after.state}" + (f", {after.waiting}" if after.waiting else ""))


def _act(rollout_id: int, word: str, reason: str, yes: bool, **more: str) -> None:
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.watching import effect_of, picture

    with connect() as herald:
        before = herald.rollouts.show(rollout_id)
        if not yes:
            without = sum(_count_off(herald, rollout_id, selector) for selector in more.values())
            typer.confirm(f"{effect_of(word, before, without)} Go on?", abort=True, err=True)
        after = getattr(herald.rollouts, word)(rollout_id, reason, **more)
    console().print(picture(after))


def _count_off(herald: Any, rollout_id: int, where: str) -> int:
    """How many called-off devices a selector picks."""
    counted, after = 0, None
    while True:
        page = herald.rollouts.attempts(rollout_id, state="called-off", where=where, limit=1000, after=after)
        counted, after = counted + len(page.items), page.next
        if after is None:
            return counted


@app.command("hold")
def hold(rollout_id: Id, reason: Reason, yes: Yes = False) -> None:
    """Give no further offers or clearances for now."""
    _act(rollout_id, "hold", reason, yes)


@app.command("resume")
def resume(
    rollout_id: Id,
    reason: Reason,
    leave_out: Annotated[
        str | None, typer.Option("--except", help="Leave the devices alone that this selector picks, from now on.")
    ] = None,
    yes: Yes = False,
) -> None:
    """Go on with a held or halted rollout; after a halt in a new round."""
    _act(rollout_id, "resume", reason, yes, **({} if leave_out is None else {"leave_out": leave_out}))


@app.command("halt")
def halt(rollout_id: Id, reason: Reason, yes: Yes = False) -> None:
    """Stop a rollout at once; what was not cleared is called off."""
    _act(rollout_id, "halt", reason, yes)


@app.command("cancel")
def cancel(rollout_id: Id, reason: Reason, yes: Yes = False) -> None:
    """End a rollout for good; refused while devices are at risk."""
    _act(rollout_id, "cancel", reason, yes)
