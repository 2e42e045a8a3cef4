"""Devices on narrow radio, and the sessions in which groups of them are sent a release."""

import csv
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from mellow_herald.cli.output import AsJson, Limit, note, print_json, table
from mellow_herald.core.refusal import Refused

if TYPE_CHECKING:
    from mellow_herald.wire.radio import RadioDeviceOut, RadioReport

app = typer.Typer(name="radio", help="Devices on narrow radio, and their sessions.", no_args_is_help=True)
Serial = Annotated[str, typer.Argument(metavar="SERIAL", help="The device.")]
Why = Annotated[str, typer.Option("--reason", help="Why, for the journal.")]
COLUMNS = ("serial", "eui", "region", "class", "lorawan", "interval", "ports", "packages", "most_fragment", "root_key")
PARTS = ("clock", "multicast", "fragments")


@app.command("network")
def network(as_json: AsJson = False) -> None:
    """Show the radio network that the service follows, and how many devices are on narrow radio."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        found = herald.radio.network()
    if as_json:
        print_json(found)
        return
    if found.url is None:
        print("The service follows no radio network. Start it with --radio URL.")
    elif found.trouble:
        print(f"{found.url}: {found.trouble}")
    else:
        heard = "not heard yet" if found.heard_at is None else f"heard at {found.heard_at:%H:%M:%S}"
        print(f"{found.url}: {found.region or 'region not known yet'}, {heard}")
    counts = ", ".join(f"{count} {name}" for name, count in sorted(found.devices.items())) or "no devices"
    print(f"On narrow radio: {counts}.")


@app.command("list")
def list_(as_json: AsJson = False, limit: Limit = 100) -> None:
    """List devices on narrow radio: whether they can take part in a session, and what they lost in their last."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        page = herald.radio.list(limit=limit)
    if as_json:
        print_json(page.items)
        return
    rows = [_row(one) for one in page.items]
    columns = ["serial", "eui", "radio", "region", "speaks every", "heard", "rssi", "clock set", "lost", "key"]
    total = f" of {page.total}" if page.next else ""
    table(f"{len(rows)}{total} devices on narrow radio", columns, rows, right=["rssi", "lost"])


def _row(one: "RadioDeviceOut") -> list[str]:
    key = "none" if not one.has_key else "proved" if one.key_proved_at else "on record"
    lost = "" if one.lost is None else f"{100 * one.lost:.1f} % in bursts of {one.burst or 1:.1f}"
    return [
        one.serial,
        one.eui,
        one.radio,
        one.region,
        _span(one.interval_s),
        "never" if one.heard_at is None else f"{one.heard_at:%m-%d %H:%M:%S}",
        "" if one.rssi is None else f"{one.rssi} dBm",
        "not yet" if one.clock_at is None else f"{one.clock_at:%m-%d %H:%M:%S}",
        lost,
        key,
    ]


def _span(seconds: float) -> str:
    if seconds < 120:
        return f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 7200 else f"{seconds / 3600:.1f} h"


@app.command("show")
def show(serial: Serial, as_json: AsJson = False) -> None:
    """Show what is on record of a device's radio; its root key is never shown."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        one = herald.radio.show(serial)
    if as_json:
        print_json(one)
        return
    columns = ["serial", "eui", "radio", "region", "speaks every", "heard", "rssi", "clock set", "lost", "key"]
    rows = [[name, value] for name, value in zip(columns, _row(one), strict=True)]
    rows += [
        ["class", one.device_class],
        ["LoRaWAN", one.lorawan],
        ["ports", ", ".join(f"{name} {getattr(one.ports, name)}" for name in PARTS)],
        ["packages", ", ".join(f"{name} {getattr(one.packages, name) or 'none'}" for name in PARTS)],
        ["largest fragment", "any" if one.most_fragment is None else f"{one.most_fragment} bytes"],
    ]
    table(f"Radio of {serial}", ["", ""], rows)


@app.command("set")
def set_(
    serial: Serial,
    eui: Annotated[str | None, typer.Option("--eui", help="Device EUI, 16 hex digits.")] = None,
    region: Annotated[str | None, typer.Option("--region", help="EU868 or US915.")] = None,
    device_class: Annotated[str | None, typer.Option("--class", help="B or C, during a session.")] = None,
    lorawan: Annotated[
        str | None, typer.Option("--lorawan", help="1.0 or 1.1: which root key its groups have.")
    ] = None,
    interval: Annotated[str | None, typer.Option("--interval", help="How often it speaks: 10m, 1h.")] = None,
    ports: Annotated[
        str | None, typer.Option("--ports", help="Of clock, groups, fragments: 202,200,201 is usual.")
    ] = None,
    packages: Annotated[
        str | None, typer.Option("--packages", help="Versions of the same three: 2,2,2; - for one it lacks.")
    ] = None,
    most_fragment: Annotated[
        int | None, typer.Option("--most-fragment", min=8, max=239, help="The largest fragment it takes, bytes.")
    ] = None,
    reason: Why = "radio facts corrected",
) -> None:
    """Record or correct what is known of a device's radio."""
    given = {
        "serial": serial,
        "eui": eui,
        "region": region,
        "class": device_class,
        "lorawan": lorawan,
        "interval": interval,
        "ports": ports,
        "packages": packages,
        "most_fragment": most_fragment,
    }
    if all(value is None for name, value in given.items() if name != "serial"):
        raise Refused("nothing-to-do", "say what to record.", "For example --eui 70b3d57ed0000101 --interval 10m.")
    _tell(_record([given], reason))


@app.command("key")
def key(
    serial: Serial,
    file: Annotated[
        Path | None, typer.Option("--file", help="A file with the key: 32 hex digits. Asked for without it.")
    ] = None,
    reason: Why = "root key recorded",
) -> None:
    """Record a device's root key: GenAppKey, or AppKey with LoRaWAN 1.1.

    It is kept encrypted and never shown; the next session proves it.
    """
    text = file.read_text() if file is not None else typer.prompt("Root key", hide_input=True, err=True)
    _tell(_record([{"serial": serial, "root_key": text.strip()}], reason))


@app.command("import")
def import_(
    file: Annotated[Path, typer.Argument(help="A CSV file: serial, and any of eui, region, root_key … by its header.")],
    check: Annotated[bool, typer.Option("--check", help="Only say what it would do.")] = False,
    reason: Why = "radio facts imported",
    as_json: AsJson = False,
) -> None:
    """Record radio facts and root keys of many devices from a CSV file with a header."""
    with file.open(newline="") as lines:
        reader = csv.DictReader(lines)
        names = reader.fieldnames or []
        if "serial" not in names or (odd := set(names) - set(COLUMNS)):
            wrong = f"{', '.join(sorted(odd))} is no column" if "serial" in names else "there is no column `serial`"
            raise Refused("bad-header", f"{file}: {wrong}.", f"Columns are {', '.join(COLUMNS)}.")
        entries = [{name: value.strip() or None for name, value in row.items() if value} for row in reader]
    if not entries:
        raise Refused("nothing-to-do", f"{file} has no line below its header.")
    report = _record(entries, reason, check=check)
    if as_json:
        print_json(report)
        raise typer.Exit(1 if report.refusals else 0)
    _tell(report, check=check)


def _record(rows: list[dict[str, Any]], reason: str, *, check: bool = False) -> "RadioReport":
    from mellow_herald.cli.connection import connect

    entries = [_entry(row) for row in rows]
    with connect() as herald:
        return herald.radio.record(entries, reason=reason, check=check)


def _entry(row: dict[str, Any]) -> Any:
    from mellow_herald.core.duration import parse_duration
    from mellow_herald.wire.radio import RadioEntry

    values = {name: value for name, value in row.items() if value is not None}
    if "class" in values:
        values["device_class"] = values.pop("class")
    if "interval" in values:
        values["interval_s"] = int(parse_duration(values.pop("interval")).total_seconds())
    for name in ("ports", "packages"):
        if name in values:
            values[name] = _three(name, str(values[name]))
    if "most_fragment" in values:
        values["most_fragment"] = int(values["most_fragment"])
    for name in ("eui", "root_key"):
        if name in values:
            values[name] = str(values[name]).lower().replace("-", "").replace(":", "")
    return RadioEntry.model_validate(values)


def _three(name: str, text: str) -> dict[str, int | None]:
    parts = [one.strip() for one in text.split(",")]
    if len(parts) != len(PARTS) or not all(one.isdigit() or (one == "-" and name == "packages") for one in parts):
        raise Refused("bad-values", f"{name}: {text!r} is not three numbers.", "Write clock, groups, fragments: 2,2,2.")
    return {part: None if one == "-" else int(one) for part, one in zip(PARTS, parts, strict=True)}


def _tell(report: "RadioReport", *, check: bool = False) -> None:
    would = "would be recorded" if check else "recorded"
    print(f"{len(report.changed)} {would}, {report.unchanged} as they were, {len(report.refusals)} refused.")
    for one in report.refusals:
        note(f"{one.serial}: {one.detail}")
    if report.refusals:
        raise typer.Exit(1)


@app.command("sessions")
def sessions(
    rollout: Annotated[int, typer.Argument(metavar="ROLLOUT", help="The rollout's number.")], as_json: AsJson = False
) -> None:
    """List the sessions of a rollout: when each begins or began, and what came of it."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        found = herald.radio.sessions(rollout)
    if as_json:
        print_json(found)
        return
    if not found:
        print("No session is planned: none of its devices on narrow radio has asked for the release yet.")
        return
    rows = [
        [
            str(one.id),
            "" if one.repair_of is None else f"repair of {one.repair_of}",
            one.outcome or one.state,
            f"{one.began_at or one.begins_at:%m-%d %H:%M:%S}",
            _span((one.ended_at - one.began_at).total_seconds())
            if one.ended_at and one.began_at
            else f"about {_span(one.length_s)}",
            f"{one.sent} of {one.to_send}",
            f"{one.complete} of {sum(one.counts.values())}",
            ", ".join(one.late[:4]) + (" …" if len(one.late) > 4 else ""),
            "" if not one.postponed else f"{one.postponed} times",
            one.trouble,
        ]
        for one in found
    ]
    columns = [
        "id",
        "",
        "state",
        "begins",
        "takes",
        "fragments",
        "complete",
        "not ready",
        "put off",
        "trouble",
    ]
    table(f"{len(found)} sessions of rollout {rollout}", columns, rows, right=["id"])


@app.command("session")
def session(
    session_id: Annotated[int, typer.Argument(metavar="SESSION", help="The session's number.")],
    watch: Annotated[bool, typer.Option("--watch", help="Follow it until it has ended.")] = False,
    as_json: AsJson = False,
) -> None:
    """Show a session, device by device: set-up, received, lost, made up for."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.radio_watch import draw_session, follow_session

    with connect() as herald:
        if as_json:
            print_json(herald.radio.session(session_id))
        elif watch:
            follow_session(herald, session_id)
        else:
            draw_session(herald.radio.session(session_id), herald.service_time)
