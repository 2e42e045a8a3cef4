"""What people say about rollouts: a second person's approval, and what was heard outside."""

from typing import TYPE_CHECKING, Annotated

import typer

from mellow_herald.cli.output import AsJson, console, note, print_json, table

if TYPE_CHECKING:
    from mellow_herald.wire.say import EvidenceListOut, EvidenceOut, ToApprove

app = typer.Typer()
evidence_app = typer.Typer(name="evidence", help="What was heard outside: calls, alarms.", no_args_is_help=True)
Id = Annotated[int, typer.Argument(metavar="ID", help="The rollout's number.")]
Number = Annotated[int, typer.Argument(metavar="NUMBER", help="The number of the evidence, as `list` shows it.")]
Reason = Annotated[str, typer.Option("--reason", prompt=True, help="Why; it goes to the journal.")]
Yes = Annotated[bool, typer.Option("--yes", help="Do not ask.")]


@app.command("approve")
def approve(
    rollout_id: Id,
    reason: Annotated[str | None, typer.Option("--reason", help="Why; it goes to the journal. Asked for.")] = None,
    look: Annotated[bool, typer.Option("--look", help="Only show what there is to see.")] = False,
    yes: Yes = False,
    as_json: AsJson = False,
) -> None:
    """See what there is, and approve of the ring that asks for a second person's yes."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.watching import picture

    with connect() as herald:
        seen = herald.approvals.show(rollout_id)
        if as_json and look:
            print_json(seen)
            return
        if not as_json:
            _print_to_approve(rollout_id, seen)
        if look:
            return
        if not seen.may:
            note(f"herald: {seen.why_not}")
            raise typer.Exit(1)
        if reason is None:
            reason = typer.prompt("Reason", err=True)
        if not yes:
            typer.confirm(f"Approve of ring {seen.name} for {seen.devices} devices?", abort=True, err=True)
        after = herald.approvals.approve(rollout_id, reason, ring=seen.ring)
    if as_json:
        print_json(after)
    else:
        console().print(picture(after))


@evidence_app.command("add")
def add(
    rollout_id: Id,
    kind: Annotated[str, typer.Option("--kind", help="What it is: support-call, alarm, …")],
    text: Annotated[str, typer.Option("--text", help="What was said.")],
    serial: Annotated[str | None, typer.Option("--serial", help="Of which device, where that is known.")] = None,
    as_json: AsJson = False,
) -> None:
    """File something heard outside. A named device that has the release counts as bad; without, the next ring waits."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        filed = herald.evidence.file(rollout_id, kind, text, serial=serial)
    _told(filed, as_json)


@evidence_app.command("list")
def list_evidence(rollout_id: Id, as_json: AsJson = False) -> None:
    """List what was heard outside about a rollout, the newest first, and how much beside the control."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        found = herald.evidence.list(rollout_id)
    if as_json:
        print_json(found)
    else:
        _print_evidence(found)


@evidence_app.command("acknowledge")
def acknowledge(
    rollout_id: Id,
    number: Number,
    reason: Reason,
    unrelated: Annotated[bool, typer.Option("--unrelated", help="It has nothing to do with the release.")] = False,
    as_json: AsJson = False,
) -> None:
    """Say that you have looked at what names no device: it holds no ring any more."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        _told(herald.evidence.acknowledge(rollout_id, number, reason, unrelated=unrelated), as_json)


@evidence_app.command("withdraw")
def withdraw(rollout_id: Id, number: Number, reason: Reason, as_json: AsJson = False) -> None:
    """Take back what was wrong: it stays on record, and counts no more."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        _told(herald.evidence.withdraw(rollout_id, number, reason), as_json)


def _told(one: "EvidenceOut", as_json: bool) -> None:
    if as_json:
        print_json(one)
        return
    about = f" about {one.serial}" if one.serial else ""
    print(f"Evidence {one.id}, {one.kind}{about}: {_became(one)}.")


def _became(one: "EvidenceOut") -> str:
    """What became of it, in words."""
    if one.withdrawn_by:
        return f"withdrawn by {one.withdrawn_by}: {one.withdrawn_why}"
    if one.acknowledged_by:
        return f"acknowledged by {one.acknowledged_by}{', unrelated' if one.unrelated else ''}: {one.acknowledged_why}"
    if one.counts:
        return "counts as bad"
    return "the next ring waits until it is acknowledged" if one.waits else "the device had not the release then"


def _print_evidence(found: "EvidenceListOut") -> None:
    from rich.text import Text

    out = console()
    rows = [
        [
            str(one.id),
            f"{one.at:%d %b %H:%M}",
            one.kind,
            one.serial or "",
            one.text,
            one.filed_by,
            Text(_became(one), "herald.rose" if one.counts else "herald.honey" if one.waits else ""),
        ]
        for one in found.items
    ]
    if rows:
        columns = ["no", "when", "kind", "device", "text", "from", "what became of it"]
        table("Heard outside", columns, rows, right=["no"])
    out.print(Text(found.words))


def _print_to_approve(rollout_id: int, seen: "ToApprove") -> None:
    from rich.text import Text

    out = console()
    asks = f"ring {seen.name} ({seen.devices} devices): {seen.asks_why}" if seen.ring is not None else "no ring asks"
    out.print(Text(f"Rollout {rollout_id}, {asks}", "bold"))
    out.print(Text(f"  {seen.hurt} of {seen.exposed} exposed devices went bad"))
    for words in [*seen.brakes, seen.control, seen.budget, *seen.compared, *seen.rehearsed]:
        if words:
            out.print(Text(f"  {words}"))
    _print_evidence(seen.evidence)
    for one in seen.approvals:
        void = f" (void: {one.void_why})" if one.void_why else ""
        out.print(Text(f"  ring {one.ring + 1} approved {one.at:%d %b %H:%M} by {one.by}: {one.reason}{void}", "dim"))
