"""Seeing harm and undoing it: suspects, rollbacks, and the swap of one device's slots."""

from typing import TYPE_CHECKING, Annotated

import typer

from mellow_herald.cli.choices import Reason, Yes
from mellow_herald.cli.output import AsJson, console, print_json, table

if TYPE_CHECKING:
    from mellow_herald.wire.rollback import RollbackPreview
    from mellow_herald.wire.suspect import SuspectsOut

rollout_app = typer.Typer()
device_app = typer.Typer()
Id = Annotated[int, typer.Argument(metavar="ID", help="The rollout's number.")]


@rollout_app.command("suspects")
def suspects(
    rollout_id: Id,
    delivery: Annotated[
        bool, typer.Option("--delivery", help="Those that failed before they were exposed, not the harmed ones.")
    ] = False,
    excepted: Annotated[bool, typer.Option("--excepted", help="Count devices that were left out, too.")] = False,
    as_json: AsJson = False,
) -> None:
    """Show what failing devices have in common that healthy ones do not, each with a selector to paste."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.core.plan import BrakeKind

    with connect() as herald:
        found = herald.rollouts.suspects(rollout_id, kind=BrakeKind.DELIVERY if delivery else None, excepted=excepted)
    if as_json:
        print_json(found)
    else:
        print_suspects(found)


@rollout_app.command("readings")
def readings(
    rollout_id: Id,
    signal: Annotated[str, typer.Argument(metavar="SIGNAL", help="Which signal: battery.")],
    span: Annotated[str, typer.Option("--span", help="So long before and after each device's switch.")] = "1d",
    as_json: AsJson = False,
) -> None:
    """Show what the update did to a signal: each device before and after its switch, beside those not updated."""
    from mellow_herald.cli.before_after import print_change
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        told = herald.readings.before_and_after(rollout_id, signal, span=span)
    if as_json:
        print_json(told)
    else:
        print_change(told, plot=console().is_terminal)


def print_suspects(found: "SuspectsOut") -> None:
    """The suspects as a table, the strongest first."""
    out = console()
    out.print(f"{found.words} [dim]({found.kind.value})[/]")
    if found.candidate is not None:
        out.print(
            f"[dim]herald rollout resume {found.rollout} --except '{found.candidate.selector}'  (if you believe it)[/]"
        )
    if not found.suspects:
        return
    rows = [
        [
            one.words,
            f"{one.bad} of {one.devices}",
            f"{one.rate:.0%}",
            f"{one.other_bad} of {one.others}",
            f"{one.other_rate:.0%}",
            f"{100 * one.low:+.0f} … {100 * one.high:+.0f}",
            f"{one.q:.2g}",
            one.selector,
        ]
        for one in found.suspects
    ]
    columns = ["suspect", "bad", "rate", "others bad", "rate", "difference, points", "false at", "selector"]
    right = ["bad", "rate", "others bad", "difference, points", "false at"]
    table(f"At most {found.false_rate:.0%} of these are expected to be false", columns, rows, right=right)
    best = found.suspects[0].selector
    out.print(f"  herald rollout resume {found.rollout} --except '{best}'", style="dim", markup=False)


@rollout_app.command("rollback")
def rollback(
    rollout_id: Id,
    reason: Reason,
    ring: Annotated[int | None, typer.Option("--ring", min=1, help="Only the devices of this ring, from 1.")] = None,
    only_bad: Annotated[bool, typer.Option("--only-bad", help="Only devices that went bad or are at risk.")] = False,
    where: Annotated[str | None, typer.Option("--where", help="Only devices that this selector picks.")] = None,
    at_once: Annotated[int | None, typer.Option("--at-once", min=1, help="So many at once; all, by default.")] = None,
    yes: Yes = False,
    as_json: AsJson = False,
) -> None:
    """Bring devices of a halted or ended rollout back to what they came from; the ways are shown first."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.wire.plan import PlanPace
    from mellow_herald.wire.rollback import RollbackIn

    said = RollbackIn(
        reason=reason,
        ring=None if ring is None else ring - 1,
        only_bad=only_bad,
        where=where,
        pace=PlanPace(at_risk_at_once=at_once),
    )
    with connect() as herald:
        shown = herald.rollouts.preview_rollback(rollout_id, said)
        if not as_json:
            print_rollback(shown)
        if not yes:
            able = sum(way.devices for way in shown.ways if way.can)
            typer.confirm(f"Bring {able} devices back from {shown.release}?", abort=True, err=True)
        started = herald.rollouts.roll_back(rollout_id, said)
    if as_json:
        print_json(started)
    else:
        print(f"Rollout {started.id} brings them back.\n  herald rollout watch {started.id}")


def print_rollback(shown: "RollbackPreview") -> None:
    """How each device would go back, or why it cannot."""
    risk = f", {shown.at_risk} of them still at risk: their turn comes when that has ended" if shown.at_risk else ""
    console().print(f"[bold]Back from {shown.release}[/]: {shown.targeted} devices{risk}")
    rows = [
        [
            "" if way.can else "cannot",
            way.way,
            str(way.devices),
            way.words,
            ", ".join(way.first[:4]) + (" …" if way.devices > 4 else ""),
        ]
        for way in shown.ways
    ]
    table("Ways back", ["", "way", "devices", "that is", "first"], rows, right=["devices"])


@device_app.command("swap")
def swap(
    serial: Annotated[str, typer.Argument(metavar="SERIAL", help="The device's serial.")],
    reason: Reason,
    yes: Yes = False,
    follow: Annotated[bool, typer.Option("--follow/--no-follow", help="Watch it until it is over.")] = True,
) -> None:
    """Let a device switch to what stands in its other slot, back or forth: no download."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.watching import follow as follow_rollout

    with connect() as herald:
        device = herald.devices.show(serial)
        standby = device.standby.get("app")
        if not yes:
            other = standby.version if standby and standby.version else "what stands in the other slot"
            typer.confirm(f"{serial} runs {device.version}. Swap to {other}; 1 device?", abort=True, err=True)
        started = herald.devices.swap(serial, reason)
        ended = follow_rollout(herald, started.id) if follow else started
    if follow and not ended.states.get("confirmed"):  # type: ignore[call-overload]
        raise typer.Exit(1)
