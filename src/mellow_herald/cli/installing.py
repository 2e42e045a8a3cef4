"""One device at once, with both ends side by side: what the service says, and what the device says itself."""

import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from mellow_herald.cli import choices
from mellow_herald.cli.device import app as app
from mellow_herald.cli.output import byte_progress, console, note

if TYPE_CHECKING:
    from mellow_herald.client import Herald

REFRESH_SECONDS = 0.4
SHOWN = 16
BENCH_VERSION = "0.0.0-bench"
OVER = frozenset({"finished", "cancelled", "halted"})


@app.command("install")
def install(
    serial: str,
    files: Annotated[
        list[Path] | None,
        typer.Argument(metavar="FILE", help="A local build for a bench device: sealed here, never a release."),
    ] = None,
    release: Annotated[
        str | None, typer.Option("--release", help="board/line/version, or the release's number.")
    ] = None,
    file: choices.File = None,
    settings: choices.Settings = None,
    certificate: choices.Certificate = None,
    base: choices.Base = None,
    key: choices.Key = None,
    again: Annotated[bool, typer.Option("--again", help="It runs it already and is to get it once more.")] = False,
    older: Annotated[bool, typer.Option("--older", help="A version below the one it runs is meant.")] = False,
    over_unknown_build: Annotated[
        bool, typer.Option("--over-unknown-build", help="A build that no release has may be overwritten.")
    ] = False,
    over_bench_build: Annotated[
        bool, typer.Option("--over-bench-build", help="The bench build that it runs may be overwritten by a release.")
    ] = False,
    reason: Annotated[str | None, typer.Option("--reason", help="Why; it goes to the journal.")] = None,
    line: choices.Line = None,
    board: choices.Board = None,
    version: choices.Version = None,
    floor: choices.Floor = None,
    cut_off_for_good: choices.CutOff = False,
    as_is: choices.AsIs = False,
    keeps_secret: choices.KeepsSecret = "",
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask.")] = False,
    watch: Annotated[bool, typer.Option("--watch/--no-watch", help="Follow it to its end.")] = True,
) -> None:
    """Bring a release (--release) to one device at once; or to a bench device a local build (FILE), or a file, settings
    or a certificate (--file PLACE=PATH …); watch both ends.

    A build is sealed on this machine and kept as a scratch image: no version is used up, and the same one may come
    again and again. The device is shown as running a bench build, and no rollout overwrites it unasked.
    """
    from mellow_herald.cli.connection import connect
    from mellow_herald.core.refusal import Refused

    placed = choices.placed_of(file, settings, certificate, base)
    if bool(files or placed) == (release is not None):
        raise Refused(
            "nothing-named",
            "say what to install: a release, a build, or what is for a place.",
            "herald device install SERIAL --release board/line/version, or … SERIAL FILE --key KEY, or … SERIAL --file "
            "PLACE=PATH --key KEY.",
        )
    with connect() as herald:
        began = time.monotonic()
        device = herald.devices.show(serial)
        # Whatever stands on a bench device may be overwritten by the next build.
        for obstacle in device.obstacles if release is not None else []:
            note(f"  {serial}: {obstacle}")
        way = "it can go back without a download" if device.way_back else "there is no way back without a download"
        runs = device.version or "nothing that is known"
        if release is not None:
            found = herald.releases.find(release)
            if not yes:
                typer.confirm(f"Bring {found.name} to {serial}, which runs {runs} ({way} today)?", abort=True, err=True)
            before = _newest_line(herald, serial)
            started = herald.devices.install(
                serial,
                found.name,
                again=again,
                older=older,
                over_unknown_build=over_unknown_build,
                over_bench_build=over_bench_build,
                reason=reason or "tried on one device",
            )
        else:
            values = choices.stated(line=line, board=board, version=version, floor=floor)
            if not files:
                # For one device, nothing but the place has to be said.
                own = {"line": device.line, "board": device.board, "version": BENCH_VERSION, "floor": device.floor or 0}
                values = {**own, **values}
            allowed = choices.allow(cut_off=cut_off_for_good, as_is=as_is, keeps_secret=keeps_secret)
            sealed = _sealed(herald, files or [], placed, key, allowed, values)
            if not yes and not device.on_bench:
                typer.confirm(f"{serial} is no bench device yet. Mark it as one?", abort=True, err=True)
                herald.devices.label([serial], on_bench=True, reason=f"to try {sealed.manifest.version} on it")
            before = _newest_line(herald, serial)
            with byte_progress("sending", sealed.length) as progress:
                started = herald.devices.install_build(
                    serial,
                    sealed,
                    again=again,
                    allowed=allowed,
                    reason=reason or "tried on the bench",
                    progress=progress,
                )
        print(f"rollout {started.id}: {started.name}")
        if not watch:
            return
        state = _follow(herald, started.id, serial, before)
    if state != "confirmed":
        raise typer.Exit(1)
    print(f"{serial} confirmed it {time.monotonic() - began:.0f} s after the command began.")


def _sealed(
    herald: "Herald", files: list[Path], placed: list[Any], key: Path | None, allowed: Any, values: dict[str, Any]
) -> Any:
    """The build, sealed here; a release file is taken as it is."""
    from mellow_herald.cli.checks import print_checks
    from mellow_herald.client.sealing import is_release_file, open_release_file

    if len(files) == 1 and not placed and is_release_file(files[0]):
        return open_release_file(files[0])
    sealed = herald.releases.seal(files, key=choices.open_key(key), allowed=allowed, stated=values, placed=placed)
    print_checks(sealed.checks, quiet=True, error=True)
    return sealed


def _newest_line(herald: "Herald", serial: str) -> int:
    """The number of the last line that a device has told of."""
    return max((line.id for line in herald.devices.log(serial, limit=1)), default=0)


def _follow(herald: "Herald", rollout_id: int, serial: str, after: int) -> str:
    """Shows both ends until the rollout is over, of the device all lines ``after`` that of this number: a quick one has
    told of its first before the service has answered. Returns the attempt's last state."""
    from rich.live import Live

    if not sys.stdout.isatty():
        return _tell(herald, rollout_id, serial, after)
    with Live(console=console(), refresh_per_second=4) as live:
        while True:
            over = herald.rollouts.show(rollout_id).state in OVER
            both = _read(herald, rollout_id, serial, after)
            live.update(_picture(serial, *both))
            if over:
                return both[0].state if both[0] else "passed-over"
            time.sleep(REFRESH_SECONDS)


def _read(herald: "Herald", rollout_id: int, serial: str, after: int) -> tuple[Any, list[Any], list[Any]]:
    attempts = herald.rollouts.attempts(rollout_id).items
    told = list(reversed(herald.rollouts.timeline(attempts[0].id))) if attempts else []
    return (attempts[0] if attempts else None), told, herald.devices.log(serial, after=after, limit=500)


def _tell(herald: "Herald", rollout_id: int, serial: str, after: int) -> str:
    """Plain lines, service and device in the order of time."""
    told, heard, waiting = 0, after, None
    while True:
        over = herald.rollouts.show(rollout_id).state in OVER
        attempt, entries, lines = _read(herald, rollout_id, serial, after)
        fresh = [(entry.at, f"service  {_entry(entry).plain}") for entry in entries[told:]]
        fresh += [(line.at, f"device   {line.text}") for line in lines if line.id > heard]
        told, heard = len(entries), max((line.id for line in lines), default=heard)
        for at, text in sorted(fresh, key=lambda one: one[0]):
            print(f"{at:%H:%M:%S}  {text}", flush=True)
        if attempt is not None and attempt.waiting and attempt.waiting != waiting and not over:
            waiting = attempt.waiting
            print(f"          waits for {_waiting(attempt)}", flush=True)
        if over:
            return attempt.state if attempt else "passed-over"
        time.sleep(REFRESH_SECONDS)


def _picture(serial: str, attempt: Any, told: list[Any], lines: list[Any]) -> Any:
    from rich import box
    from rich.table import Table
    from rich.text import Text

    from mellow_herald.cli.looks import styled

    table = Table(box=box.SIMPLE_HEAD, expand=True, pad_edge=False)
    table.add_column("what the service says", ratio=1, overflow="fold")
    table.add_column(f"what {serial} says", ratio=1, overflow="fold")
    left, right = told[-SHOWN:], lines[-SHOWN:]
    for row in range(max(len(left), len(right))):
        service = Text.assemble((f"{left[row].at:%H:%M:%S}  ", "dim"), _entry(left[row])) if row < len(left) else Text()
        device = Text.assemble((f"{right[row].at:%H:%M:%S}  ", "dim"), right[row].text) if row < len(right) else Text()
        table.add_row(service, device)
    state: Any = (
        Text("its turn has not come", "dim") if attempt is None else styled(attempt.state, attempt.reason or "")
    )
    waits = f"   waits for {_waiting(attempt)}" if attempt is not None and attempt.waiting else ""
    table.caption = Text.assemble(state, (waits, "dim"))
    table.caption_justify = "left"
    return table


def _waiting(attempt: Any) -> str:
    until = f", expected {attempt.waiting_until:%H:%M:%S}" if attempt.waiting_until else ""
    return f"{attempt.waiting}{until}"


def _entry(entry: Any) -> Any:
    from rich.text import Text

    from mellow_herald.cli.device import particulars
    from mellow_herald.cli.looks import styled

    text = styled(entry.state) if entry.state else Text(entry.what)
    more = particulars(entry)
    return Text.assemble(text, f"  {more}" if more else "")
