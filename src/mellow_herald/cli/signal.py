"""Signals: what devices can send, and listening to them."""

import time
from datetime import datetime
from typing import TYPE_CHECKING, Annotated

import typer

from mellow_herald.cli.output import AsJson, print_json, size, table
from mellow_herald.core.refusal import Refused

if TYPE_CHECKING:
    from mellow_herald.wire.readings import ListeningIn, ListeningOut, ListeningPreview

app = typer.Typer(name="signal", help="What devices can send as readings, and listening to it.", no_args_is_help=True)
SPARKS = "▁▂▃▄▅▆▇█"
WATCH_S = 2.0
Where = Annotated[str, typer.Option("--where", help="Which devices, as a selector: 'rollout = 4 and ring = pilot'.")]


@app.callback()
def signal() -> None:
    """What devices can send as readings, and listening to it."""


@app.command("list")
def list_(
    board: Annotated[str | None, typer.Option("--board", help="Of this board only.")] = None, as_json: AsJson = False
) -> None:
    """List signals: which are declared, asked for, and arrive, from how many devices."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        found = herald.signals.list(board)
    if as_json:
        print_json(found)
        return
    rows = [
        [
            one.board,
            one.name,
            one.kind.value if one.declared else f"{one.kind.value}, undeclared",
            one.unit,
            "" if one.usual is None else f"{one.usual[0]:g} … {one.usual[1]:g}",
            str(one.bytes),
            str(one.asked),
            str(one.sent),
            str(one.lately),
            "" if one.last_at is None else f"{one.last_at:%m-%d %H:%M:%S}",
            one.description,
        ]
        for one in found
    ]
    columns = ["board", "signal", "kind", "unit", "usual", "bytes", "asked", "sent by", "lately", "newest", ""]
    table(f"{len(rows)} signals", columns, rows)
    if not rows:
        print("A board file declares them under [[signals]]; see docs/readings.md.")


@app.command("listen")
def listen(
    where: Where,
    signals: Annotated[str, typer.Option("--signals", help="Which, separated by commas: temperature,weight.")],
    every: Annotated[str | None, typer.Option("--every", help="At which period: 10s, 5m.")] = None,
    until: Annotated[
        str, typer.Option("--until", help="For how long (2h), or until when (2026-05-02T08:00:00Z).")
    ] = "1h",
    at_full_rate: Annotated[
        bool, typer.Option("--at-full-rate", help="As fast as the devices can, instead of --every.")
    ] = False,
    dry: Annotated[bool, typer.Option("--dry-run", help="Say what it would cost, and ask nobody.")] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask.")] = False,
) -> None:
    """Ask devices to send readings. Says what that costs each of them a day, and asks before it begins."""
    from mellow_herald.cli.connection import connect

    asked = _asked(where, signals, every, until, at_full_rate=at_full_rate)
    with connect() as herald:
        foreseen = herald.signals.preview(asked)
        _print_costs(foreseen)
        if foreseen.refused:
            raise Refused("over-budget", "this cannot be asked for.", " ".join(foreseen.refused))
        if foreseen.not_asked:
            print(f"{foreseen.not_asked} more are on narrow radio or speak CoAP: they are not asked.")
        if not foreseen.devices:
            print("No device is picked now. One that comes to be is asked, too: this is read again each minute.")
        if dry:
            return
        if not yes:
            typer.confirm(f"Ask {foreseen.devices} devices?", abort=True)
        begun = herald.signals.listen(asked)
    print(
        f"listening {begun.id}: {', '.join(begun.signals)} every {begun.period_s:g} s until"
        f" {begun.until:%Y-%m-%d %H:%M:%S}. Devices learn it at their next check-in."
    )
    print(f"See what arrives with `herald signal watch {begun.id}`; end it with `herald signal stop {begun.id}`.")


def _asked(where: str, signals: str, every: str | None, until: str, *, at_full_rate: bool) -> "ListeningIn":
    from mellow_herald.wire.readings import ListeningIn

    moment, lasts = None, None
    try:
        moment = datetime.fromisoformat(until)
    except ValueError:
        lasts = until
    names = [name.strip() for name in signals.split(",") if name.strip()]
    if every is None and not at_full_rate:
        raise Refused("no-period", "at which period?", "Say --every 10s, or --at-full-rate.")
    return ListeningIn.model_validate(
        {
            "where": where,
            "signals": names,
            "every": every,
            "at_full_rate": at_full_rate,
            "until": moment,
            "lasts": lasts,
        }
    )


def _print_costs(foreseen: "ListeningPreview") -> None:
    rows = [
        [
            one.board,
            str(one.devices),
            size(one.bytes_a_day),
            size(one.with_others),
            size(one.at_most),
            ", ".join(one.undeclared),
        ]
        for one in foreseen.costs
    ]
    columns = ["board", "devices", "each a day", "with all else", "allowed", "not declared"]
    table(f"{foreseen.devices} devices, {size(foreseen.disk_a_day)} of disk a day", columns, rows)


@app.command("listenings")
def listenings(
    over: Annotated[bool, typer.Option("--over", help="Those that are over, too.")] = False, as_json: AsJson = False
) -> None:
    """List who is listened to, by whom, until when."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        found = herald.signals.listenings(over=over)
    if as_json:
        print_json(found)
        return
    columns = ["", "devices", "which", "signals", "every", "until", "by", ""]
    table(f"{len(found)} listenings", columns, [_row(one) for one in found])


def _row(one: "ListeningOut") -> list[str]:
    state = {"going-on": "", "over": "over", "ended": f"ended by {one.ended_by}"}[one.state]
    return [
        str(one.id),
        str(one.devices),
        one.where,
        ", ".join(one.signals),
        f"{one.period_s:g} s",
        f"{one.until:%m-%d %H:%M:%S}",
        one.made_by,
        one.trouble or state,
    ]


@app.command("stop")
def stop(
    number: Annotated[int, typer.Argument(help="The listening's number.")],
    reason: Annotated[str, typer.Option("--reason", help="Why, for the journal.")] = "heard enough",
) -> None:
    """End a listening."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        herald.signals.stop(number, reason)
    print(f"listening {number} is over. Devices are told at their next check-in.")


@app.command("watch")
def watch(
    number: Annotated[int, typer.Argument(help="The listening's number.")],
    once: Annotated[bool, typer.Option("--once", help="Print it once, and do not follow.")] = False,
) -> None:
    """Follow what arrives of a listening: the newest value of each device, its age, and the course of an hour."""
    from rich.console import Console
    from rich.live import Live
    from rich.table import Table

    from mellow_herald.cli.connection import connect

    with connect() as herald:

        def drawn() -> Table:
            one = herald.signals.listening(number)
            where = one.where
            shown = Table(title=f"listening {number}: {where} · {one.devices} devices asked · {one.state}")
            for column in ("device", "signal", "now", "unit", "age", "the last hour"):
                shown.add_column(column)
            for name in one.signals:
                latest = {told.serial: told for told in herald.readings.latest(where, signal=name)}
                series = herald.readings.series(name, where=where, points=40)
                for each in series.series:
                    told = latest.get(each.key)
                    spark = _spark([point.mean for point in each.points if point.mean is not None])
                    value = "nothing yet" if told is None else told.text or f"{told.value:g}"
                    age = "" if told is None else _age(told.age_s)
                    shown.add_row(each.key, name, value, series.unit, age, spark)
            return shown

        console = Console()
        if once or not console.is_terminal:
            console.print(drawn())
            return
        with Live(drawn(), console=console, screen=False) as live:
            while True:
                time.sleep(WATCH_S)
                live.update(drawn())


def _spark(values: list[float]) -> str:
    if not values:
        return ""
    low, high = min(values), max(values)
    span = (high - low) or 1.0
    return "".join(SPARKS[round((value - low) / span * (len(SPARKS) - 1))] for value in values)


def _age(seconds: float) -> str:
    for unit, length in (("d", 86_400), ("h", 3600), ("min", 60)):
        if seconds >= length:
            return f"{seconds / length:.0f} {unit}"
    return f"{max(0, seconds):.0f} s"
