"""The demo."""

from pathlib import Path
from typing import Annotated

import typer

from mellow_herald.cli.extras import require

WATCHED, UNWATCHED = 15.0, 60.0


def demo(
    once: Annotated[bool, typer.Option("--once", help="Play (four times as fast), print a summary, stop.")] = False,
    data_dir: Annotated[Path, typer.Option("--data-dir", help="Where everything is kept.")] = Path("data"),
    port: Annotated[int, typer.Option("--port", min=1, max=65535, help="The service's port.")] = 8410,
    devices: Annotated[int, typer.Option("--devices", min=40, max=2000, help="How many simulated devices.")] = 400,
    seed: Annotated[int, typer.Option("--seed", help="The same seed plays the same.")] = 7,
    speed: Annotated[
        float | None,
        typer.Option("--speed", min=1, max=120, help="Service seconds per real second: 15, and 60 if nobody watches."),
    ] = None,
) -> None:
    """Play the scenario: a bad release is halted and rolled back, and the next one goes through."""
    require("service", "sim")
    from mellow_herald.demo.play import Options, run

    run(Options(data_dir, port, devices, seed, speed or (UNWATCHED if once else WATCHED), once))
