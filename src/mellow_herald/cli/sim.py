"""Simulated devices."""

from pathlib import Path
from typing import Annotated

import typer

app = typer.Typer(name="sim", help="Simulated devices on the bench.", no_args_is_help=True)


@app.callback()
def sim() -> None:
    """Simulated devices on the bench."""


@app.command("run")
def run(
    scenario: Annotated[Path, typer.Argument(help="A scenario file (TOML).")],
    url: Annotated[str, typer.Option("--url", envvar="HERALD_URL", help="The service.")] = "http://127.0.0.1:8410",
    data_dir: Annotated[Path, typer.Option("--data-dir", help="Where the devices' flash is kept.")] = Path("data/sim"),
    log: Annotated[bool, typer.Option("--log", help="Print the devices' log lines.")] = False,
) -> None:
    """Run the devices of a scenario until stopped."""
    import asyncio
    import contextlib
    import signal

    from mellow_herald.sim.fleet import run_fleet
    from mellow_herald.sim.scenario import load_scenario

    loaded = load_scenario(scenario)

    async def main() -> None:
        task = asyncio.create_task(run_fleet(loaded, url, data_dir, log=log))
        for number in (signal.SIGINT, signal.SIGTERM):
            asyncio.get_running_loop().add_signal_handler(number, task.cancel)
        print(f"{len(loaded.scenario.devices)} simulated devices run against {url}", flush=True)
        with contextlib.suppress(asyncio.CancelledError):
            await task

    asyncio.run(main())
