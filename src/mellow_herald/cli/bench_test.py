"""The bench test: a device of any make goes through the device protocol's course."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from mellow_herald.cli.output import AsJson

if TYPE_CHECKING:
    from mellow_herald.bench_test.bench import Bench
    from mellow_herald.bench_test.station import Finding, Station
    from mellow_herald.core.firmware import Image


def bench_test(
    code: Annotated[str, typer.Option("--code", help="The enrolment code that the device will say; any word.")] = "",
    image: Annotated[
        list[Path] | None,
        typer.Option("--image", help="Firmware with a nameplate that works on the device; give three that differ."),
    ] = None,
    failing_image: Annotated[
        Path | None, typer.Option("--failing-image", help="Firmware that fails its self-test.")
    ] = None,
    domain: Annotated[str, typer.Option("--domain", help="The vendor domain that the device is built with.")] = "",
    folder: Annotated[
        Path, typer.Option("--folder", help="Where the root key of the bench is kept; made there at first.")
    ] = Path("bench-test"),
    host: Annotated[str, typer.Option("--host", help="The address to listen at.")] = "127.0.0.1",
    port: Annotated[int, typer.Option("--port", min=0, max=65535, help="The port; 0 for any.")] = 8420,
    time_scale: Annotated[
        float, typer.Option("--time-scale", min=1, max=1000, help="How many seconds pass for the device in one.")
    ] = 1.0,
    patience: Annotated[
        float,
        typer.Option("--patience", min=1, help="How long (s) is waited for each thing that it is to do."),
    ] = 120.0,
    hook: Annotated[
        str | None,
        typer.Option(
            "--hook",
            help="A program, called with power-cut, staging or lamp: cuts the power, or prints what is there. "
            "Without it, you are asked.",
        ),
    ] = None,
    only: Annotated[list[str] | None, typer.Option("--only", help="Only this station; may be repeated.")] = None,
    stations: Annotated[bool, typer.Option("--stations", help="List the stations, and do nothing.")] = False,
    html: Annotated[Path | None, typer.Option("--html", help="Write what was found as a page.")] = None,
    junit: Annotated[Path | None, typer.Option("--junit", help="Write it as JUnit XML.")] = None,
    as_json: AsJson = False,
) -> None:
    """Take a device of any make through the device protocol: plain updates, cuts, forgeries, halts, overload.

    It serves one device, in memory, and says what the device did right and wrong, each time with the protocol's
    sentence. Build the device with the root key in FOLDER (root.pub.pem), point it here, and start it. Exit code 1: it
    did something wrong.
    """
    import asyncio

    from mellow_herald.bench_test.course import COURSE
    from mellow_herald.core.refusal import Refused

    chosen = [one for one in COURSE if not only or one.name in only]
    if unknown := set(only or []) - {one.name for one in COURSE}:
        raise typer.BadParameter(f"there is no station {', '.join(sorted(unknown))}; see --stations")
    if stations:
        for one in COURSE:
            print(f"{one.name:<14} {one.title}")
        return
    missing = [name for name, value in (("--code", code), ("--domain", domain), ("--image", image)) if not value]
    if missing:
        raise typer.BadParameter(f"{', '.join(missing)} must be given")
    images = [_open(path) for path in image or []]
    if len({one.digest for one in images}) < 3:
        # One runs, one stands by as the way back, and one is new to the device.
        raise Refused("few-images", "the course needs three images that differ.", "Give --image with three builds.")
    failing = None if failing_image is None else _open(failing_image)
    bench = _bench(images, failing, (code, domain, folder), (time_scale, patience), hook)
    findings = asyncio.run(_run(bench, chosen, (host, port), folder, quiet=as_json))
    device = "a device" if bench.desk.enrolment is None else bench.desk.enrolment.serial
    _write(findings, device, html, junit, as_json=as_json)
    if any(one.wrong for one in findings):
        raise typer.Exit(1)


def _open(path: Path) -> "Image":
    from mellow_herald.client.images import open_firmware

    return open_firmware(path).image()


def _bench(
    images: "list[Image]",
    failing: "Image | None",
    made_with: tuple[str, str, Path],
    times: tuple[float, float],
    hook: str | None,
) -> "Bench":
    from mellow_herald.bench_test.bench import Bench, Hand
    from mellow_herald.bench_test.desk import Desk
    from mellow_herald.bench_test.releases import Keys, open_root

    code, domain, folder = made_with
    scale, patience = times
    keys = Keys(open_root(folder))
    (folder / "keys.cose").write_bytes(keys.key_list())
    return Bench(Desk(code, keys, scale), keys, domain, images, failing, Hand(hook), patience)


async def _run(
    bench: "Bench", chosen: "list[Station]", at: tuple[str, int], folder: Path, *, quiet: bool
) -> "list[Finding]":
    from mellow_herald.bench_test.running import go_through
    from mellow_herald.cli.output import console
    from mellow_herald.core.refusal import Refused

    try:
        port = await bench.desk.server.start(*at)
    except OSError as error:
        why = f"{at[0]}:{at[1]} cannot be listened at ({error.strerror})."
        raise Refused("no-port", why, "Choose another with --port, or 0 for any.") from None
    screen = console(error=quiet)
    screen.print(f"Serving at http://{at[0]}:{port}, with the root {folder / 'root.pub.pem'}. Start the device.")
    try:
        return await go_through(bench, chosen, lambda one: _tell(one, quiet=quiet))
    finally:
        await bench.desk.server.close()


def _tell(one: "Finding", *, quiet: bool) -> None:
    from rich.text import Text

    from mellow_herald.bench_test.report import MARKS
    from mellow_herald.bench_test.station import Outcome
    from mellow_herald.cli.looks import ROSE
    from mellow_herald.cli.output import console

    screen = console(error=quiet)
    style = {Outcome.RIGHT: "green", Outcome.WRONG: ROSE, Outcome.NOT_TRIED: "dim"}[one.outcome]
    head = (f"{MARKS[one.outcome]} {one.name:<14}", style)
    screen.print(Text.assemble(head, one.title, (f"  {one.seconds:.1f} s", "dim")))
    for words in one.wrong:
        screen.print(Text(f"    {words}", ROSE))
    if one.wrong:
        screen.print(Text(f"    The protocol says: {one.sentence}", "dim"))
    if one.outcome is Outcome.NOT_TRIED:
        screen.print(Text(f"    {one.seen[-1]}", "dim"))


def _write(findings: "list[Finding]", device: str, html: Path | None, junit: Path | None, *, as_json: bool) -> None:
    import json
    from dataclasses import asdict

    from mellow_herald.bench_test.report import as_html, as_junit, summary

    if html is not None:
        html.write_text(as_html(findings, device))
    if junit is not None:
        junit.write_text(as_junit(findings, device))
    if as_json:
        print(json.dumps([asdict(one) for one in findings], indent=1))
        return
    print(f"{device}: {summary(findings)}.")
