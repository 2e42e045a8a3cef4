"""Simulated devices, and hands on them."""

from pathlib import Path
from typing import Annotated, Any

import typer

from mellow_herald.cli.output import AsJson, table

app = typer.Typer(name="sim", help="Simulated devices on the bench.", no_args_is_help=True)

Serial = Annotated[str, typer.Argument(metavar="SERIAL", help="A device that runs in the sim.")]
Folder = Annotated[Path, typer.Option("--data-dir", envvar="HERALD_SIM", help="Where the devices' flash is kept.")]
HERE = Path("data/sim")


@app.callback()
def sim() -> None:
    """Simulated devices on the bench."""


@app.command("run")
def run(
    scenario: Annotated[Path, typer.Argument(help="A scenario file (TOML).")],
    url: Annotated[str, typer.Option("--url", envvar="HERALD_URL", help="The service.")] = "http://127.0.0.1:8410",
    data_dir: Folder = HERE,
    coap: Annotated[
        str | None,
        typer.Option(
            "--coap", envvar="HERALD_COAP", metavar="URL", help="Where those that speak CoAP find it; port 5683 there."
        ),
    ] = None,
    log: Annotated[
        Path | None, typer.Option("--log", help="Where the devices' log lines go: a file, or - for here.")
    ] = None,
) -> None:
    """Run the devices of a scenario until stopped."""
    if coap is not None and not coap.startswith("coap://"):
        raise typer.BadParameter("Write it like coap://127.0.0.1:5683.", param_hint="--coap")
    _run(scenario, url, data_dir, log, coap=coap)


@app.command("radio")
def radio(
    scenario: Annotated[Path, typer.Argument(help="A scenario file (TOML) with devices on narrow radio.")],
    url: Annotated[str, typer.Option("--url", envvar="HERALD_URL", help="The service.")] = "http://127.0.0.1:8410",
    port: Annotated[int, typer.Option("--port", min=1, max=65535, help="Where the radio network is served.")] = 8411,
    token: Annotated[
        str | None, typer.Option("--token", envvar="HERALD_RADIO_TOKEN", help="Serve only who has this token.")
    ] = None,
    data_dir: Folder = HERE,
    log: Annotated[
        Path | None, typer.Option("--log", help="Where the devices' log lines go: a file, or - for here.")
    ] = None,
) -> None:
    """Run a radio network of one yard and its devices until stopped; `herald serve --radio URL` follows it."""
    _run(scenario, url, data_dir, log, port, token)


def _run(
    scenario: Path,
    url: str,
    data_dir: Path,
    log: Path | None,
    radio_port: int | None = None,
    token: str | None = None,
    *,
    coap: str | None = None,
) -> None:
    import asyncio
    import contextlib
    import signal
    import sys

    import uvloop

    from mellow_herald.core.refusal import Refused
    from mellow_herald.sim.fleet import run_fleet
    from mellow_herald.sim.scenario import load_scenario

    loaded = load_scenario(scenario)
    if (loaded.radio_region is None) != (radio_port is None):
        has, mend = ("no", "herald sim run") if radio_port else ("some", "herald sim radio")
        raise Refused("other-scenario", f"{scenario} has {has} devices on narrow radio.", f"Use `{mend} {scenario}`.")
    with contextlib.ExitStack() as stack:
        target = None
        if log is not None:
            target = sys.stdout if str(log) == "-" else stack.enter_context(log.open("a", buffering=1))

        def say(serial: str, line: str) -> None:
            if target is not None:
                print(f"{serial}: {line}", file=target, flush=True)

        async def main() -> None:
            running = run_fleet(loaded, url, data_dir, say=say, radio_port=radio_port, radio_token=token, coap=coap)
            task = asyncio.create_task(running)
            for number in (signal.SIGINT, signal.SIGTERM):
                asyncio.get_running_loop().add_signal_handler(number, task.cancel)
            where = "" if radio_port is None else f", on the radio network at http://127.0.0.1:{radio_port}"
            print(f"{len(loaded.devices)} simulated devices run against {url}{where}", flush=True)
            with contextlib.suppress(asyncio.CancelledError):
                await task

        # A datagram that nobody takes makes the faster loop deaf for good at that socket.
        run = asyncio.run if any(one.coap is not None for one in loaded.devices) else uvloop.run
        run(main())


@app.command("list")
def list_(data_dir: Folder = HERE, as_json: AsJson = False) -> None:
    """Show the devices that run here, as they stand on the bench: lamp, slot, version."""
    import json

    devices = _ask(data_dir, do="list")["devices"]
    if as_json:
        print(json.dumps(devices, indent=2))
        return
    rows = [
        [
            one["serial"],
            one["board"],
            one["lamp"],
            one["version"],
            one["slot"],
            str(one["boots"]),
            one["speaks"],
            "stands" if one["on_line"] else "none",
        ]
        for one in devices
    ]
    columns = ["serial", "board", "lamp", "runs", "slot", "boots", "speaks", "link"]
    table(f"{len(devices)} devices on the bench", columns, rows, right=["boots"])


@app.command("flash")
def flash(
    serial: Serial, file: Annotated[Path, typer.Argument(help="A raw binary image.")], data_dir: Folder = HERE
) -> None:
    """Flash an image by cable, past every check, and reset: what an engineer does to a device on the bench."""
    print(_ask(data_dir, do="flash", serial=serial, file=str(file.resolve()))["said"])


@app.command("put")
def put(
    serial: Serial,
    name: Annotated[str, typer.Argument(metavar="PLACE", help="For example settings/main or file/sounds.")],
    file: Annotated[Path, typer.Argument(help="What is to stand there.")],
    data_dir: Folder = HERE,
) -> None:
    """Put a file, settings or a certificate at its place by hand: what a colleague does to a device on the bench."""
    print(_ask(data_dir, do="put", serial=serial, name=name, file=str(file.resolve()))["said"])


@app.command("reset")
def reset(serial: Serial, data_dir: Folder = HERE) -> None:
    """Press the reset button."""
    print(_ask(data_dir, do="reset", serial=serial)["said"])


@app.command("unplug")
def unplug(
    serial: Serial,
    back: Annotated[bool, typer.Option("--back", help="Give the power back.")] = False,
    data_dir: Folder = HERE,
) -> None:
    """Take a device's power away, until it is given back."""
    print(_ask(data_dir, do="plug" if back else "unplug", serial=serial)["said"])


@app.command("press")
def press(serial: Serial, data_dir: Folder = HERE) -> None:
    """Press the owner's button: yes, update now."""
    print(_ask(data_dir, do="press", serial=serial)["said"])


@app.command("cut")
def cut(
    serial: Serial,
    length: Annotated[str, typer.Option("--for", help="For how long, in service time: 90s, 10m, 2h.")] = "10m",
    data_dir: Folder = HERE,
) -> None:
    """Cut a device's link."""
    from mellow_herald.core.duration import parse_duration

    parse_duration(length)
    print(_ask(data_dir, **{"do": "cut", "serial": serial, "for": length})["said"])


@app.command("fault")
def fault(
    out: Annotated[Path, typer.Argument(metavar="OUT", help="The file to write; put its bytes anywhere in the image.")],
    do: Annotated[
        str,
        typer.Option(
            "--do", help="crash-at-boot, hang, fail-self-test, leak, wipe-settings, no-updater, fail-action …"
        ),
    ],
    when: Annotated[
        str, typer.Option("--when", help="Which devices show it: a selector over their facts.")
    ] = "has serial",
    chance: Annotated[int, typer.Option("--chance", min=1, max=1000, help="How often, per mille.")] = 1000,
) -> None:
    """Make a fault for a simulated image: what its firmware gets wrong, on which devices. Real ones look at none."""
    from mellow_herald.core.behaviour import Behaviour, Fault, encode_behaviour
    from mellow_herald.core.refusal import Refused
    from mellow_herald.core.selector import parse_selector

    if do not in list(Fault):
        raise Refused("unknown-fault", f"there is no fault {do!r}.", f"There are {', '.join(Fault)}.")
    parse_selector(when)
    out.write_bytes(encode_behaviour([Behaviour(when, Fault(do), chance)]))
    print(f"{do} where {when}, {chance} per mille: {out.stat().st_size} bytes in {out}. Put them into the image:")
    print(f"  cat firmware.bin {out} > faulty.bin")


def _ask(data_dir: Path, **asked: Any) -> dict[str, Any]:
    from mellow_herald.sim.bench import ask

    return ask(data_dir, **asked)
