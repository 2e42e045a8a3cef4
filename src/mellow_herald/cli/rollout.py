"""Rollouts."""

from collections.abc import Iterator
from pathlib import Path
from typing import Annotated, Any

import typer

from mellow_herald.cli import comparing, harm, planning, rehearsing, say
from mellow_herald.cli.output import AsJson, Limit, Where, console, note, print_json, table

app = typer.Typer(name="rollout", help="Releases brought to devices, ring by ring.", no_args_is_help=True)
app.registered_commands += planning.app.registered_commands + harm.rollout_app.registered_commands
app.registered_commands += rehearsing.app.registered_commands
app.registered_commands += say.app.registered_commands
app.registered_commands += comparing.app.registered_commands
app.add_typer(say.evidence_app)
Id = Annotated[int, typer.Argument(metavar="ID", help="The rollout's number.")]
Reason = Annotated[str, typer.Option("--reason", prompt=True, help="Why; it goes to the journal.")]
Yes = Annotated[bool, typer.Option("--yes", help="Do not ask.")]
LeftOut = Annotated[
    str | None, typer.Argument(metavar="[SELECTOR]", help="Which devices; by default those in a ring's way.")
]
Serial = Annotated[str, typer.Argument(metavar="SERIAL", help="The device's serial.")]


@app.command("list")
def list_rollouts(as_json: AsJson = False, limit: Limit = 20) -> None:
    """List rollouts, newest first."""
    from rich.text import Text

    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.looks import styled
    from mellow_herald.cli.watching import brings, styled_state

    with connect() as herald:
        page = herald.rollouts.list(limit=min(limit, 200))
    if as_json:
        print_json(page.items)
        return
    rows = [
        [
            str(r.id),
            r.name,
            brings(r),
            styled_state(r),
            str(r.targeted),
            str(sum(r.passed_over.values())),
            Text(str(r.ever_bad), "herald.rose" if r.ever_bad else ""),
            Text("  ").join(styled(state, str(n)) for state, n in r.states.items()),
            f"{r.created_at:%Y-%m-%d %H:%M}",
        ]
        for r in page.items
    ]
    columns = ["id", "name", "release", "state, outcome", "targeted", "passed over", "ever bad", "attempts", "created"]
    table("Rollouts", columns, rows, right=["id", "targeted", "passed over", "ever bad"])


@app.command("show")
def show(rollout_id: Id, as_json: AsJson = False) -> None:
    """Show a rollout: rings, counts, and what went wrong."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.watching import picture

    with connect() as herald:
        rollout, brakes = herald.rollouts.show(rollout_id), herald.rollouts.brakes(rollout_id)
        bad = herald.rollouts.attempts(rollout_id, ever_bad=True, limit=20).items if rollout.ever_bad else []
    if as_json:
        print_json({**rollout.model_dump(mode="json"), "brakes": brakes.model_dump(mode="json")})
        return
    console().print(picture(rollout, brakes=brakes))
    if bad:
        _print_bad(rollout_id, bad)


def _print_bad(rollout_id: int, bad: list[Any]) -> None:
    from mellow_herald.cli.looks import styled

    rows = [
        [a.serial, str(a.hw_rev), a.first_bad_why or "", str(a.first_bad_try or ""), styled(a.state), a.reason or ""]
        for a in bad
    ]
    columns = ["serial", "rev", "first went bad by", "in try", "now", "reason"]
    table(f"Went wrong (herald rollout failures {rollout_id} tells more)", columns, rows)


@app.command("failures")
def failures(
    rollout_id: Id,
    where: Where = None,
    reason: Annotated[str | None, typer.Option("--reason", help="Only devices that first went bad by this.")] = None,
    logs: Annotated[bool, typer.Option("--logs", help="All lines of the devices' logs, not the last few.")] = False,
    as_json: AsJson = False,
    limit: Limit = 50,
) -> None:
    """Show every try that went bad, whatever came of it later: why, on which device, and what its log says."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.failing import print_failures

    with connect() as herald:
        page = herald.rollouts.failures(rollout_id, reason=reason, where=where, logs=logs, limit=limit)
    if as_json:
        print_json(page.items)
        return
    print_failures(rollout_id, page.items, all_lines=logs)
    if page.next is not None:
        note(f"Only the first {limit} devices; --limit shows more.")


@app.command("attempts")
def attempts(
    rollout_id: Id,
    where: Where = None,
    state: Annotated[str | None, typer.Option("--state", help="Only attempts in this state.")] = None,
    ring: Annotated[int | None, typer.Option("--ring", min=1, help="Only attempts of this ring, from 1.")] = None,
    waiting_for: Annotated[str | None, typer.Option("--waiting-for", help="Only those that wait for this.")] = None,
    ever_bad: Annotated[bool, typer.Option("--ever-bad", help="Only those that ever went bad.")] = False,
    as_json: AsJson = False,
    limit: Limit = 50,
) -> None:
    """List a rollout's attempts, those that ever went bad first: state, reason or what is waited for, parts."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.looks import styled

    position = None if ring is None else ring - 1
    items: list[Any] = []
    with connect() as herald:
        for bad in (True,) if ever_bad else (True, False):
            if len(items) < limit:
                items += herald.rollouts.attempts(
                    rollout_id,
                    state=state,
                    ring=position,
                    waiting_for=waiting_for,
                    ever_bad=bad,
                    where=where,
                    limit=limit - len(items),
                ).items
    if as_json:
        print_json(items)
        return
    rows = [
        [
            str(a.id),
            a.serial,
            str(a.ring + 1),
            styled(a.state, f"{a.percent} %" if a.percent is not None else ""),
            _why(a),
            f"{a.waiting_until:%H:%M}" if a.waiting_until else "",
            f"{a.try_number}/{a.tries}",
            ", ".join(
                f"{part.name} {part.state.value}{f' ({part.reason})' if part.reason else ''}" for part in a.parts
            ),
        ]
        for a in items
    ]
    columns = ["id", "serial", "ring", "state", "reason, or waits for", "until", "try", "parts"]
    table(f"Attempts of rollout {rollout_id}", columns, rows, right=["id", "ring"])


def _part(part: Any) -> str:
    return f"{part.name} {part.state.value}{f' ({part.reason})' if part.reason else ''}"


def _why(attempt: Any) -> str:
    """Why an attempt is as it is, or what it waits for; and what went wrong before, where it no longer shows."""
    told = [attempt.reason or attempt.waiting or ""]
    if attempt.first_bad_why and attempt.first_bad_why != attempt.reason:
        told.append(f"was {attempt.first_bad_why} in try {attempt.first_bad_try or '?'}")
    if attempt.unasked_at:
        told.append("switched without clearance")
    if attempt.settings == "changed":
        told.append("settings changed")
    if attempt.left_out:
        told.append("left out")
    return ", ".join(part for part in told if part)


@app.command("watch")
def watch(
    rollout_id: Id,
    until: Annotated[
        str | None,
        typer.Option("--until", help="end, confirmed (somebody confirmed it), or ring:NAME (that ring is done)."),
    ] = None,
) -> None:
    """Follow a rollout live. Exit code 4 if it is halted, 1 if it ends without what was waited for, and with --until 5
    if it stands still before that."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.watching import END, Until, follow

    with connect() as herald:
        wanted = END if until is None else Until.parse(until, herald.rollouts.show(rollout_id))
        shown = follow(herald, rollout_id, wanted)
    if shown.state == "halted":
        raise typer.Exit(4)
    if shown.stands_still and not wanted.met(shown):
        note(f"herald: rollout {rollout_id}: {shown.stands_still}.")
        raise typer.Exit(5)
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
    """Let the ring open that awaits go, or the ring go on that stands still."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.watching import picture

    with connect() as herald:
        before = herald.rollouts.show(rollout_id)
        waiting = next(
            (r for r in before.rings if r.state == "awaiting-go" or (r.stands_why and r.state != "done")), None
        )
        if waiting is not None and not yes:
            what = f"Ring {waiting.position + 1} ({waiting.name}) opens for {waiting.planned} devices"
            if waiting.stands_why:
                what = f"Ring {waiting.position + 1} ({waiting.name}) goes on all the same, though {waiting.stands_why}"
            typer.confirm(f"{what}. Go?", abort=True, err=True)
        after = herald.rollouts.go(rollout_id, reason)
    console().print(picture(after))


@app.command("edit")
def edit(
    rollout_id: Id,
    reason: Reason,
    plan: Annotated[
        Path | None,
        typer.Option("--plan", help="A plan file: its pace, calendar, wait_at_most, and rings that are not open yet."),
    ] = None,
    downloading: Annotated[int | None, typer.Option("--downloading", min=1, help="So many download at once.")] = None,
    at_risk: Annotated[int | None, typer.Option("--at-risk", min=1, help="So many are at risk at once.")] = None,
    enough: Annotated[
        float | None,
        typer.Option("--enough", min=0, max=1, help="The share (0-1) of the open ring's devices that must be good."),
    ] = None,
    wait_at_most: Annotated[
        str | None, typer.Option("--wait-at-most", help="After so long of waiting a device holds no ring, e.g. 6h.")
    ] = None,
    harm_at_most: Annotated[
        int | None, typer.Option("--harm-at-most", min=1, help="So many devices may be hurt, by its harm budget.")
    ] = None,
    last_day: Annotated[str | None, typer.Option("--last-day", help="YYYY-MM-DD, or none: nobody after it.")] = None,
    yes: Yes = False,
) -> None:
    """Change pace, calendar, wait_at_most, harm budget, the open ring's enough, or rings to come, of a rollout."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.watching import picture
    from mellow_herald.wire.rollout import PlanEdit

    if not (plan or downloading or at_risk or wait_at_most or harm_at_most or last_day) and enough is None:
        raise typer.BadParameter("say what is to change: --plan, or one of the other options")
    document = planning.read_plan(plan) if plan is not None else None
    with connect() as herald:
        before = herald.rollouts.show(rollout_id)
        if document is not None:
            planning.check_edit(before.plan, document)
        wished = {"downloading_at_once": downloading, "at_risk_at_once": at_risk}
        pace = (document or before.plan).pace.model_copy(update={k: v for k, v in wished.items() if v is not None})
        rings = document.rings if document else None
        if enough is not None:
            rings = [
                ring.model_copy(update={"enough": enough}) if before.rings[n].state in ("open", "soaking") else ring
                for n, ring in enumerate(rings or before.plan.rings)
            ]
        calendar = document.calendar if document else None
        if last_day is not None:
            day = None if last_day == "none" else last_day
            calendar = type(before.plan.calendar).model_validate(
                {**(calendar or before.plan.calendar).model_dump(), "last_day": day}
            )
        waits = wait_at_most or (document.numbers.wait_at_most if document else None)
        most = harm_at_most or (document.harm.at_most if document and document.harm else None)
        asked = PlanEdit(
            pace=pace, rings=rings, calendar=calendar, wait_at_most=waits, harm_at_most=most, reason=reason
        )
        if not yes:
            planning.print_edit(rollout_id, herald.rollouts.preview_edit(rollout_id, asked))
            typer.confirm("Change its plan?", abort=True, err=True)
        after = herald.rollouts.edit(rollout_id, asked, revision=before.revision)
    console().print(picture(after))


@app.command("call-off")
def call_off(rollout_id: Id, serial: Serial, reason: Reason, yes: Yes = False) -> None:
    """Stop one device's attempt before it switches."""
    _on_one(rollout_id, serial, reason, yes, "call_off", "is called off, and keeps what it runs")


@app.command("retry")
def retry(
    rollout_id: Id,
    reason: Reason,
    serial: Annotated[str | None, typer.Argument(metavar="[SERIAL]", help="The device's serial.")] = None,
    all_bad: Annotated[bool, typer.Option("--all-bad", help="Every bad device, but for those left out.")] = False,
    ring: Annotated[int | None, typer.Option("--ring", min=1, help="With --all-bad: of this ring, from 1.")] = None,
    yes: Yes = False,
) -> None:
    """Give one device, or all bad ones, one more try."""
    if (serial is None) != all_bad:
        raise typer.BadParameter("say which device by its SERIAL, or --all-bad")
    if serial is not None:
        _on_one(rollout_id, serial, reason, yes, "retry", "is queued again for one more try")
        return
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.watching import picture
    from mellow_herald.core.attempt import BAD

    position = None if ring is None else ring - 1
    with connect() as herald:
        before = herald.rollouts.show(rollout_id)
        if not yes:
            rings = [one for one in before.rings if position in (None, one.position)]
            bad = sum(n for one in rings for state, n in one.states.items() if state in BAD)
            typer.confirm(f"{bad} devices are bad; those not left out are queued again. Go on?", abort=True, err=True)
        after = herald.rollouts.retry_bad(rollout_id, reason, ring=position)
    console().print(picture(after))


@app.command("leave-out")
def leave_out(rollout_id: Id, reason: Reason, where: LeftOut = None, yes: Yes = False) -> None:
    """Go on without the devices that a selector picks, or without those that keep a ring from going on."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.watching import picture

    with connect() as herald:
        before = herald.rollouts.show(rollout_id)
        if not yes:
            what = next((c.devices for c in before.choices if c.do == "leave-out"), 0)
            if where is not None:
                what = sum(1 for _ in _picked(herald, rollout_id, where))
            typer.confirm(f"{what} devices are left out, and keep what they run. Go on?", abort=True, err=True)
        after = herald.rollouts.leave_out(rollout_id, reason, where=where)
    console().print(picture(after))


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
    return sum(1 for _ in _picked(herald, rollout_id, where, state="called-off"))


def _picked(herald: Any, rollout_id: int, where: str, **more: str) -> Iterator[Any]:
    """The attempts whose devices a selector picks."""
    after = None
    while True:
        page = herald.rollouts.attempts(rollout_id, where=where, limit=1000, after=after, **more)
        yield from page.items
        after = page.next
        if after is None:
            return


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
