"""Devices."""

from typing import TYPE_CHECKING, Annotated, Any

import typer

from mellow_herald.cli import harm
from mellow_herald.cli.choices import Yes
from mellow_herald.cli.output import AsJson, Limit, console, print_json, table

if TYPE_CHECKING:
    from mellow_herald.wire.fleet import DeviceOut, DeviceReleases

app = typer.Typer(name="device", help="The fleet.", no_args_is_help=True)
app.registered_commands += harm.device_app.registered_commands
Where = Annotated[str | None, typer.Option("--where", help='A selector, e.g. "board = comb-s1 and site = fernhollow".')]
Reason = Annotated[str, typer.Option("--reason", help="Why; it goes to the journal.")]
Serials = Annotated[list[str] | None, typer.Argument(metavar="SERIAL", help="Devices by their serial.")]


RUNS = {
    "bench-build": "bench build",
    "unknown-build": "unknown build",
    "recovery": "recovery image",
    "unreadable": "cannot read what it runs",
    None: "nothing known",
}


@app.command("list")
def list_devices(
    where: Where = None,
    order: Annotated[
        str | None, typer.Option("--by", help="In which order: serial, hw_rev, version, -seen, label.site …")
    ] = None,
    exact: Annotated[
        bool, typer.Option("--exact", help="Count exactly how many there are in a very large fleet, too.")
    ] = False,
    as_json: AsJson = False,
    limit: Limit = 50,
) -> None:
    """List devices with what they run and how old that knowledge is."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.looks import ago, styled

    with connect() as herald:
        page = herald.devices.list(where=where, limit=limit, order=order, exact=exact)
        now = herald.service_time
    if as_json:
        print_json(page.items)
        return
    rows = [
        [
            d.serial,
            d.board,
            str(d.hw_rev),
            d.labels.get("site", ""),
            d.presence,
            ago((now - d.seen_at).total_seconds()) if d.seen_at else "never",
            " ".join(
                filter(
                    None,
                    [
                        d.version or "?",
                        RUNS.get(d.runs, "") if d.version else "",
                        f"version-differs ({d.says_version})" if d.version_differs else "",
                    ],
                )
            ),
            styled(d.attempt.state, d.attempt.reason or "") if d.attempt else "",
        ]
        for d in page.items
    ]
    columns = ["serial", "board", "rev", "site", "presence", "heard", "runs", "newest attempt"]
    count = f"about {page.total:,}" if page.about else page.total
    table(f"{len(page.items)} of {count} devices", columns, rows, right=["rev"])


@app.command("show")
def show(
    serial: str,
    releases: Annotated[
        bool, typer.Option("--releases", help="Which releases it could take, or why not; and what it took so far.")
    ] = False,
    as_json: AsJson = False,
) -> None:
    """Show everything known of one device, with its timeline; or which releases it could take."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        if releases:
            found = herald.devices.releases(serial)
            if as_json:
                print_json(found)
            else:
                _print_releases(serial, found)
            return
        device = herald.devices.show(serial)
        now = herald.service_time
    if as_json:
        print_json(device)
    else:
        _print(device, now)


def _decide(to: Any, asked: str, serials: list[str] | None, where: str | None, reason: str, yes: bool) -> None:
    from mellow_herald.cli.connection import connect
    from mellow_herald.core.refusal import Refused

    if bool(serials) == bool(where):
        raise Refused("no-devices", "say which devices.", "Name their serials, or pick them with --where.")
    with connect() as herald:
        if not yes:
            count = herald.devices.list(where=where, limit=1, exact=True).total if where else len(serials or [])
            typer.confirm(f"{asked} {count} devices?", abort=True, err=True)
        done = herald.devices.decide(to, serials or [], where=where, reason=reason)
    print(f"{to}: {len(done)}{': ' + ', '.join(done) if 0 < len(done) <= 20 else ''}")


@app.command("admit")
def admit(serials: Serials = None, where: Where = None, reason: Reason = "known to us", yes: Yes = False) -> None:
    """Admit devices that ask, or that were refused."""
    _decide("admitted", "Admit", serials, where, reason, yes)


@app.command("refuse")
def refuse(serials: Serials = None, where: Where = None, reason: Reason = "not known to us", yes: Yes = False) -> None:
    """Refuse devices that ask."""
    _decide("refused", "Refuse", serials, where, reason, yes)


@app.command("retire")
def retire(
    reason: Annotated[str, typer.Option("--reason", prompt=True, help="Why; it goes to the journal.")],
    serials: Serials = None,
    where: Where = None,
    yes: Yes = False,
) -> None:
    """Retire devices: their tokens end at once, their history stays."""
    _decide("retired", "Retire", serials, where, reason, yes)


@app.command("pin")
def pin(
    reason: Annotated[str, typer.Option("--reason", prompt=True, help="Why; it goes to the journal.")],
    serials: Serials = None,
    where: Where = None,
    valid_for: Annotated[str, typer.Option("--for", help="For so long, e.g. 14d.")] = "14d",
    off: Annotated[bool, typer.Option("--off", help="Take the pin off.")] = False,
) -> None:
    """Pin devices to what they run: rollouts that begin later pass them over. Or take the pin off."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        done = herald.devices.pin(serials or [], where=where, valid_for=None if off else valid_for, reason=reason)
    what = "let go" if off else f"pinned for {valid_for}"
    print(f"{what}: {len(done)}{': ' + ', '.join(done) if 0 < len(done) <= 20 else ''}")


@app.command("label")
def label(
    words: Annotated[
        list[str],
        typer.Argument(
            metavar="[SERIAL]... KEY=VALUE...", help="Devices by serial; KEY=VALUE puts a label on, KEY= takes it off."
        ),
    ],
    where: Where = None,
    reason: Annotated[str, typer.Option("--reason", help="Why; it goes to the journal.")] = "",
    yes: Yes = False,
) -> None:
    """Put labels on devices, or take them off."""
    from mellow_herald.cli.choices import labels_of
    from mellow_herald.cli.connection import connect
    from mellow_herald.core.refusal import Refused

    serials = [word for word in words if "=" not in word]
    labels = {key: value or None for key, value in labels_of([word for word in words if "=" in word]).items()}
    if bool(serials) == bool(where):
        raise Refused("no-devices", "say which devices.", "Name their serials, or pick them with --where.")
    if not labels:
        raise Refused(
            "no-labels", f"{words[-1]!r} is no label.", "Write for example site=fernhollow; site= takes it off."
        )
    with connect() as herald:
        if where and not yes:
            count = herald.devices.list(where=where, limit=1, exact=True).total
            typer.confirm(f"Change labels of {count} devices?", abort=True, err=True)
        done = herald.devices.label(serials, labels, where=where, reason=reason)
        _print_left(herald, serials, done)
        if len(done) == 1:
            now = herald.devices.show(done[0]).labels
            print(f"{done[0]}: {'  '.join(f'{key} = {value}' for key, value in sorted(now.items())) or 'no labels'}")
            return
    print(f"labelled: {len(done)}{': ' + ', '.join(done) if 0 < len(done) <= 20 else ''}")


@app.command("mark")
def mark(
    bench: Annotated[
        bool, typer.Option("--bench/--no-bench", help="A bench device: local builds may be brought to it.")
    ],
    serials: Serials = None,
    where: Where = None,
    reason: Annotated[str, typer.Option("--reason", help="Why; it goes to the journal.")] = "",
    yes: Yes = False,
) -> None:
    """Mark devices as bench devices, on which local builds are tried; or no longer."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.core.refusal import Refused

    if bool(serials) == bool(where):
        raise Refused("no-devices", "say which devices.", "Name their serials, or pick them with --where.")
    with connect() as herald:
        if where and not yes:
            count = herald.devices.list(where=where, limit=1, exact=True).total
            typer.confirm(f"Mark {count} devices?", abort=True, err=True)
        done = herald.devices.label(serials or [], where=where, on_bench=bench, reason=reason)
        _print_left(herald, serials or [], done)
    what = "bench devices" if bench else "no bench devices any more"
    print(f"{what}: {len(done)}{': ' + ', '.join(done) if 0 < len(done) <= 20 else ''}")


def _print_left(herald: Any, serials: list[str], done: list[str]) -> None:
    """Names the serials that no device has; it is an error if nothing was done."""
    from mellow_herald.cli.output import note as tell
    from mellow_herald.core.refusal import Refused

    unknown = [serial for serial in serials if serial not in done]
    if unknown and not done:
        raise Refused("not-found", f"there is no device {', '.join(unknown)}.", "See `herald device list`.")
    if unknown:
        tell(f"no such device: {', '.join(unknown)}")


@app.command("gateway")
def gateway(
    serial: str, before: Annotated[str, typer.Argument(metavar="GATEWAY", help="A serial; empty takes it off.")]
) -> None:
    """Say through which gateway a device reaches the network."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        herald.devices.edit(serial, gateway=before)
    print(f"{serial}: {'behind ' + before if before else 'behind no gateway'}.")


@app.command("note")
def note(
    serial: str, text: Annotated[str, typer.Argument(help="What to remember of it; empty takes the note off.")]
) -> None:
    """Write a note on a device."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        herald.devices.edit(serial, note=text)
    print(f"{serial}: noted.")


@app.command("allow-enrolment")
def allow_enrolment(
    serial: str, reason: Annotated[str, typer.Option("--reason", prompt=True, help="Why; it goes to the journal.")]
) -> None:
    """Let a device that lost its token enrol once more."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        herald.devices.allow_enrolment(serial, reason)
    print(f"{serial} may enrol once more, with an enrolment code.")


def _print_releases(serial: str, found: "DeviceReleases") -> None:
    from rich.text import Text

    from mellow_herald.cli.looks import styled

    rows = [
        [
            one.version,
            one.line,
            one.state,
            Text("could take", "herald.sage") if one.could_take else Text(one.reason or "", "herald.stone"),
            "" if one.could_take else f"it {one.why}" if not one.runs_it else "it runs these very bytes",
            "" if one.runs_it else one.mend,
        ]
        for one in found.releases
    ]
    table(f"Releases for the board of {serial}", ["version", "line", "state", "", "why not", "what can be done"], rows)
    history = [
        [
            f"{one.at:%Y-%m-%d %H:%M}",
            str(one.rollout_id),
            one.release + (" (bench build)" if one.scratch else ""),
            one.from_version or "?",
            styled(one.state, one.reason or ""),
            one.rollout,
        ]
        for one in found.history
    ]
    columns = ["at", "rollout", "release", "ran before", "", "brought by"]
    table("What it was brought, newest first (service time)", columns, history, right=["rollout"])


def _print(device: Any, now: Any) -> None:
    from rich.table import Table
    from rich.text import Text

    from mellow_herald.cli.looks import ago, styled

    out = console()
    heard = ago((now - device.seen_at).total_seconds()) if device.seen_at else "never"
    out.print(f"[bold]{device.serial}[/]  {device.board} revision {device.hw_rev}, line {device.line}")
    grid = Table.grid(padding=(0, 2))
    labels = "  ".join(f"{key} = {value}" for key, value in sorted(device.labels.items()))
    due = f", next check-in expected {device.next_checkin_at:%H:%M:%S}" if device.next_checkin_at else ""
    flags = {True: "yes", False: "no"}
    condition = "  ".join(
        f"{key} {flags[value] if isinstance(value, bool) else value}" for key, value in sorted(device.condition.items())
    )
    rows = [
        ("presence", f"{device.presence}, heard {heard}{due}, every {device.interval_s or '?'} s"),
        ("admission", device.admission + (", a bench device" if device.on_bench else "")),
        ("labels", labels or "none"),
        *([("note", device.note)] if device.note else []),
        *([("gateway", device.gateway)] if device.gateway else []),
        *([("behind it", ", ".join(device.behind))] if device.behind else []),
        *([("cut off", _cut_off(device.cut_off))] if device.cut_off else []),
        *([("pinned", _pin(device))] if device.pinned_until and device.pinned_until > now else []),
        *([("marked", _marks(device))] if device.rescued_at or device.cloned_at else []),
        ("update", _update(device)),
        *([("waits for", _waits(device))] if device.waiting else []),
        ("condition", condition),
        ("readings", "  ".join(f"{name} {value:g}" for name, value in sorted(device.readings.items())) or "none"),
        ("settings", (device.settings_digest or "")[:16]),
    ]
    for name, value in rows:
        grid.add_row(Text(name, "dim"), Text(value) if isinstance(value, str) else value)
    out.print(grid)
    _print_components(device)
    _print_parts(device)
    _print_alarms(device)
    entries = [
        [
            f"{e.at:%m-%d %H:%M:%S}",
            e.said_by,
            str(e.rollout_id or ""),
            styled(e.state) if e.state else e.what,
            particulars(e),
        ]
        for e in device.timeline
    ]
    table("Timeline, newest first (service time)", ["at", "said by", "rollout", "state", ""], entries)


def _print_components(device: Any) -> None:
    from rich.text import Text

    from mellow_herald.core.board import slot_words

    rows = []
    for name in sorted(device.running.keys() | device.standby.keys(), key=lambda one: (one != "app", one)):
        running, standby = device.running.get(name) or {}, device.standby.get(name) or {}
        build = RUNS.get(device.runs, "") if name == "app" else ""
        says = device.says_version if name == "app" and device.version_differs else None
        runs = device.version if says else running.get("version")
        version = Text.assemble(
            runs or "?",
            (f"  {build}" if build else "", "herald.rose"),
            (f"  version-differs: it says {says}" if says else "", "herald.honey"),
        )
        rows.append(
            [
                name,
                version,
                running.get("slot", ""),
                str(running.get("floor", "")),
                running.get("digest", "")[:16],
                f"{standby['version'] or '?'} in {slot_words(standby['slot'])}" if standby else "empty",
                standby.get("digest", "")[:16],
            ]
        )
    columns = ["component", "runs", "slot", "floor", "digest", "standby", "digest "]
    table("Components", columns, rows, right=["floor"])


def _print_parts(device: Any) -> None:
    from mellow_herald.cli.looks import styled

    rows = [
        [
            part.name,
            styled(part.state, part.reason or ""),
            f"{part.percent} %" if part.percent is not None else "",
            part.from_version or "–",
            part.to_version or "–",
            (part.from_digest or "–")[:12],
            (part.digest or "–")[:12],
            part.detail,
        ]
        for part in device.parts
    ]
    if rows:
        columns = ["part", "state", "", "from", "to", "was", "is", ""]
        table("Parts in its newest attempt", columns, rows)


def _print_alarms(device: Any) -> None:
    rows = [
        [
            f"{one.at:%m-%d %H:%M:%S}",
            one.serial,
            one.kind,
            one.about,
            "nothing" if one.rollout_id is None else f"update, rollout {one.rollout_id}",
            one.detail,
        ]
        for one in device.alarms
    ]
    if rows:
        table("Alarms, newest first", ["at", "from", "alarm", "about", "explained by", ""], rows)


def _cut_off(cut: Any) -> str:
    back = f"{cut.expected_back:%H:%M:%S}" if cut.expected_back else "at a time that is not known"
    return f"by {cut.by}, which restarts since {cut.since:%H:%M:%S}; expected back {back}"


def _update(device: Any) -> str:
    if device.obstacles:
        return "no: " + "; ".join(device.obstacles)
    if device.standby_failed:
        why = f"its other slot holds what went bad ({device.standby_failed})"
        return f"can be updated; no way back without a download: {why}"
    return f"can be updated; {'can go back' if device.way_back else 'no way back'} without a download"


def _waits(device: "DeviceOut") -> str:
    return (device.waiting or "") + (f", expected {device.waiting_until:%H:%M:%S}" if device.waiting_until else "")


def _marks(device: Any) -> str:
    marks = {"rescued": device.rescued_at, "two devices use its token": device.cloned_at}
    return "; ".join(f"{word}, noticed {at:%Y-%m-%d %H:%M}" for word, at in marks.items() if at)


def _pin(device: Any) -> str:
    return f"until {device.pinned_until:%Y-%m-%d %H:%M} by {device.pinned_by}: {device.pinned_why}"


def particulars(entry: Any) -> str:
    """Component, reason, step, tests and detail of a timeline entry in one line."""
    parts = [entry.component or "", entry.reason or "", entry.step or ""]
    if entry.percent is not None:
        parts.append(f"{entry.percent} %")
    failed = [test["name"] for test in entry.tests if not test["passed"]]
    if entry.tests:
        parts.append(f"failed {', '.join(failed)}" if failed else f"{len(entry.tests)} self-tests passed")
    return "  ".join(part for part in [*parts, entry.detail] if part)
