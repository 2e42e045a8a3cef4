"""The tree of gateways, alarms of neighbours, and the steps of a plan."""

import csv
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from mellow_herald.cli.device import app as app
from mellow_herald.cli.output import AsJson, Limit, console, note, print_json, table

if TYPE_CHECKING:
    from mellow_herald.wire.topology import StepsOut, TopologyNode

MOST_NAMED = 6


@app.command("tree")
def tree(
    behind: Annotated[str | None, typer.Argument(metavar="SERIAL", help="Only what is behind this device.")] = None,
    as_json: AsJson = False,
    limit: Limit = 500,
) -> None:
    """Show which device reaches the network through which, and who is cut off by a gateway that restarts."""
    from rich.tree import Tree

    from mellow_herald.cli.connection import connect

    with connect() as herald:
        found = herald.devices.tree(behind, limit=limit)
    if as_json:
        print_json(found)
        return
    for circle in found.circles:
        note(f"in a circle: {' → '.join([*circle, circle[0]])}")
    if not found.nodes:
        print("No device has a gateway. Say so with: herald device gateway SERIAL GATEWAY")
        return
    top: dict[str, Any] = {}
    for node in found.nodes:
        above = top.get(node.gateway or "")
        branch = Tree(_label(node, found.now)) if above is None else above.add(_label(node, found.now))
        if above is None:
            top[f"root {node.serial}"] = branch
        top[node.serial] = branch
    for name, branch in top.items():
        if name.startswith("root "):
            console().print(branch, soft_wrap=True)
    if found.total > len(found.nodes):
        note(f"The first {len(found.nodes)} of {found.total}; --limit shows more, SERIAL only what is behind it.")


def _label(node: "TopologyNode", now: Any) -> Any:
    from rich.text import Text

    from mellow_herald.cli.looks import ROSE, STONE, ago, styled

    head = Text(node.serial, "bold")
    if not node.known:
        return Text.assemble(head, ("  never enrolled", STONE))
    told = Text.assemble(head, f"  {node.board} {node.version or '?'}")
    if node.cut_off is not None:
        back = node.cut_off.expected_back
        told.append(
            f"  cut off by {node.cut_off.by}, expected back {f'{back:%H:%M:%S}' if back else 'is not known'}", STONE
        )
    else:
        heard = ago((now - node.seen_at).total_seconds()) if node.seen_at else "never"
        told.append(f"  {node.presence}, heard {heard}", "" if node.presence == "online" else STONE)
    if node.state is not None:
        told.append("  ")
        told.append_text(styled(node.state))
        told.append(f" in rollout {node.rollout_id}", "dim")
    if node.failed_part is not None:
        told.append(f"  {node.failed_part} failed", ROSE)
    if node.behind:
        away = f", restarts in about {node.restart_s:.0f} s" if node.restart_s is not None else ""
        told.append(f"  ({node.behind} behind it{away})", "dim")
    return told


@app.command("alarms")
def alarms(
    serial: Annotated[
        str | None, typer.Argument(metavar="SERIAL", help="Only those that it raised, or that are about it.")
    ] = None,
    rollout: Annotated[int | None, typer.Option("--rollout", help="Only those that this rollout explains.")] = None,
    unexplained: Annotated[bool, typer.Option("--unexplained", help="Only those that no update explains.")] = False,
    as_json: AsJson = False,
    limit: Limit = 50,
) -> None:
    """List alarms that devices raised, newest first, with the update that explains them, if one does."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        found = herald.devices.alarms(serial, rollout_id=rollout, explained=False if unexplained else None, limit=limit)
    if as_json:
        print_json(found)
        return
    rows = [
        [
            f"{one.at:%m-%d %H:%M:%S}",
            one.serial,
            one.kind,
            one.about,
            "nothing explains it" if one.rollout_id is None else f"the update of rollout {one.rollout_id}",
            one.detail,
        ]
        for one in found
    ]
    table(f"{len(found)} alarms", ["at", "from", "alarm", "about", "explained by", ""], rows)


def print_steps(found: "StepsOut") -> None:
    """The steps of a plan, in order."""
    out = console()
    from rich.markup import escape

    out.print(f"[bold]{escape(found.name)}[/]   {escape(found.release)}")
    order = ", then ".join(" and ".join(group) for group in found.parts)
    restart = "each device restarts" if found.restart else "no device restarts"
    out.print(f"On each device: {escape(order)}; {restart}.")
    for step in found.steps:
        more = f" and {step.devices - len(step.first)} more" if step.devices > len(step.first) else ""
        plural = "" if step.devices == 1 else "s"
        out.print(
            f"{step.number:>3}  [bold]{step.do}[/] {step.devices} device{plural}  [dim]ring {escape(step.ring)}[/]"
        )
        out.print(f"     when {'; '.join(step.waits_for)}")
        out.print(f"     {', '.join(step.first)}{more}", style="dim", soft_wrap=True)
        for cut in step.restarts:
            how_long = "for a time that is not known" if cut.seconds is None else f"for about {cut.seconds:.0f} s"
            inside = f", {cut.inside} of the rollout that are through by then" if cut.inside else ""
            names = ", ".join(cut.first[:MOST_NAMED]) + (" …" if cut.outside > MOST_NAMED else "")
            outside = f"{cut.outside} outside the rollout ({names})" if cut.outside else "none outside the rollout"
            out.print(
                f"     {cut.gateway} cuts off {outside}{inside}, {how_long}", style="herald.honey", soft_wrap=True
            )
    for known in found.notes:
        out.print(known, style="herald.honey", soft_wrap=True)


def write_steps(path: Path, found: "StepsOut") -> int:
    """Every device of every step as CSV; returns how many lines that are."""
    rows = 0
    with path.open("w", newline="") as file:
        writer = csv.writer(file)
        writer.writerow(["step", "ring", "do", "serial", "waits_for", "cuts_off"])
        for step in found.steps:
            cuts = {one.gateway: one for one in step.restarts}
            for serial in step.first:
                cut = cuts.get(serial)
                writer.writerow(
                    [
                        step.number,
                        step.ring,
                        step.do,
                        serial,
                        "; ".join(step.waits_for),
                        " ".join(cut.first) if cut else "",
                    ]
                )
                rows += 1
    return rows
