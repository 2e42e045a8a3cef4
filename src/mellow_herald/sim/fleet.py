"""Many simulated devices in one process."""

import asyncio
import sys
from pathlib import Path

import httpx

from mellow_herald.core.keys import public_from_pem
from mellow_herald.sim.device import SimDevice
from mellow_herald.sim.hardware import open_chip
from mellow_herald.sim.scenario import DeviceSpec, LoadedScenario
from mellow_herald.sim.service_time import ServiceTime
from mellow_herald.sim.uplink import Uplink

TIMEOUT = httpx.Timeout(30.0, connect=5.0)
LIMITS = httpx.Limits(max_connections=200, max_keepalive_connections=100)


def chip_path(folder: Path, serial: str) -> Path:
    """Where a device's flash is kept."""
    return folder / f"{serial}.flash"


async def run_fleet(loaded: LoadedScenario, url: str, folder: Path, *, log: bool = False) -> None:
    """Runs all devices of a scenario until cancelled; their flash is kept in ``folder``."""
    time = ServiceTime()
    images: dict[Path, bytes] = {}
    async with httpx.AsyncClient(base_url=url, timeout=TIMEOUT, limits=LIMITS, trust_env=False) as http:
        devices = [_make(loaded, spec, folder, http, time, images, log) for spec in loaded.scenario.devices]
        images.clear()
        async with asyncio.TaskGroup() as group:
            for device in devices:
                group.create_task(device.run())


def _make(
    loaded: LoadedScenario,
    spec: DeviceSpec,
    folder: Path,
    http: httpx.AsyncClient,
    time: ServiceTime,
    images: dict[Path, bytes],
    log: bool,
) -> SimDevice:
    scenario = loaded.scenario
    hardware, new = open_chip(chip_path(folder, spec.serial), scenario.slot_size)
    if new or not hardware.record.notes:
        if spec.image not in images:
            images[spec.image] = loaded.read(spec.image)
        hardware.install_at_factory(images[spec.image])
    return SimDevice(
        spec,
        hardware,
        Uplink(http, time),
        time,
        root=public_from_pem(loaded.read(scenario.root)),
        key_list=loaded.read(scenario.key_list),
        vendor_domain=scenario.vendor_domain,
        code=scenario.code,
        check_in_s=scenario.check_in_s,
        seed=scenario.seed,
        say=_print_line if log else _keep_quiet,
    )


def _print_line(serial: str, line: str) -> None:
    print(f"{serial}: {line}", file=sys.stderr, flush=True)


def _keep_quiet(serial: str, line: str) -> None:
    pass
