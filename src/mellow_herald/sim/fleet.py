"""Many simulated devices in one process."""

import asyncio
import gc
import json
import random
from collections.abc import Callable
from contextlib import AsyncExitStack, ExitStack, suppress
from datetime import timedelta
from pathlib import Path
from urllib.parse import urlsplit

from mellow_herald.core.component import Kind, kind_of
from mellow_herald.core.keys import public_from_pem
from mellow_herald.core.radio.loss import Loss
from mellow_herald.core.settings import canonical, read_settings
from mellow_herald.sim.bench import Bench
from mellow_herald.sim.certificates import serve_tls
from mellow_herald.sim.device import SimDevice
from mellow_herald.sim.flash import FileChip
from mellow_herald.sim.hardware import Hardware, Layout, PartLayout, make_chip, open_chip
from mellow_herald.sim.http import Connections, LostError
from mellow_herald.sim.making import Making, PlaceMaking
from mellow_herald.sim.radio.modem import Modem, make_unit
from mellow_herald.sim.radio.network import RadioNetwork
from mellow_herald.sim.radio.serving import serve_network
from mellow_herald.sim.scenario import BoardSpec, DeviceSpec, LoadedScenario, RadioSpec
from mellow_herald.sim.service_time import ServiceTime
from mellow_herald.sim.uplink import Calls, Uplink

STARTS_A_SECOND = 100
# Real seconds.
FOLLOWED_EVERY_S = 1.0
Say = Callable[[str, str], None]


def chip_path(folder: Path, serial: str) -> Path:
    """Where a device's flash is kept."""
    return folder / f"{serial}.flash"


class Supply:
    """A device's mains, as its flash feels them: fails during the operations numbered in ``cuts``, which are counted
    from the start of the process. Each cut happens once, whatever restarts."""

    def __init__(self, cuts: list[int]) -> None:
        self._cuts, self._done = sorted(cuts, reverse=True), 0

    def __call__(self) -> bool:
        self._done += 1
        if self._cuts and self._done >= self._cuts[-1]:
            self._cuts.pop()
            return False
        return True


class Fleet:
    """The devices of a scenario against one service; their flash is kept in ``folder``."""

    def __init__(self, loaded: LoadedScenario, url: str, folder: Path, say: Say, coap: str | None = None) -> None:
        self._loaded, self._folder, self._say = loaded, folder, say
        self._http = Connections(url)
        self._time = ServiceTime()
        self._coap = coap or f"coap://{urlsplit(url).hostname}:5683"
        region = loaded.radio_region
        # Only who has devices on narrow radio has a network for them.
        self.network = None if region is None else RadioNetwork(region, self._time, loaded.scenario.seed)
        self._files: dict[Path, bytes] = {}
        self._root = public_from_pem(loaded.read(loaded.scenario.root))
        self._key_list = loaded.read(loaded.scenario.key_list)
        self._tls_port: int | None = None
        self.devices: dict[str, SimDevice] = {}
        for spec in loaded.devices:
            self.devices[spec.serial] = self._make(spec)
        self._files.clear()

    async def run(self) -> None:
        """Runs them until cancelled."""
        tls = self._loaded.scenario.tls
        if any(spec.coap is not None for spec in self._loaded.devices):
            from mellow_herald.wire.oscore import pass_over_leftovers

            pass_over_leftovers(asyncio.get_running_loop())
        try:
            async with AsyncExitStack() as stack:
                if tls is not None:
                    files = (self._loaded.folder / path for path in (tls.certificate, tls.key, tls.trusted))
                    self._tls_port = await stack.enter_async_context(serve_tls(*files))
                group = await stack.enter_async_context(asyncio.TaskGroup())
                if self.network is not None:
                    group.create_task(self.network.run())
                    group.create_task(self._follow_time())
                for device in self.devices.values():
                    group.create_task(device.run())
        finally:
            self._http.close()

    async def _follow_time(self) -> None:
        """Devices on narrow radio call nobody who would tell the time again, which stands still while a service is away
        whose time runs fast: their network would go on ahead of it."""
        while True:
            with suppress(LostError):
                async with self._http.call("GET", "/health/live", []) as reply:
                    self._time.learn(reply.headers)
                    await reply.read()
            await asyncio.sleep(FOLLOWED_EVERY_S)

    def _make(self, spec: DeviceSpec) -> SimDevice:
        scenario, board = self._loaded.scenario, self._loaded.scenario.boards[spec.board]
        device: SimDevice
        making = Making(
            root=self._root,
            key_list=self._key_list,
            vendor_domain=scenario.vendor_domain,
            code=board.code,
            check_in_s=_interval(spec, board).total_seconds(),
            seed=scenario.seed,
            outages=tuple(self._loaded.outages_of(spec)),
            actions={name: part.action for name, part in board.parts.items() if part.action},
            places=self._places(board),
            start_within_s=len(self._loaded.devices) / STARTS_A_SECOND,
        )

        async def carry(size: int) -> bool:
            return await device.carry(size)

        chip = self._chip(spec, board)
        calls: Calls = Uplink(self._http, self._time, carry)
        if spec.radio is not None and self.network is not None:
            calls = modem = self._on_air(spec, spec.radio, chip, lambda: device.link_stands)
            modem.wake = lambda: device.told()
        elif spec.coap is not None:
            # Who has no such devices loads nothing of CoAP.
            from mellow_herald.sim.coap.modem import CoapModem

            calls = speaker = CoapModem(
                spec,
                Uplink(self._http, self._time, _by_wire),
                chip,
                self._time,
                self._coap,
                random.Random(f"{scenario.seed}/{spec.serial}/coap"),
                running=lambda: device.runs,
                stands_by=lambda: device.stands_by,
                reached=lambda: device.on_line,
                carry=carry,
            )
            speaker.wake = lambda: device.told()
        device = SimDevice(
            spec,
            chip,
            calls,
            self._time,
            making,
            say=self._say,
            carried=lambda: self._carried(spec.gateway),
            tls_port=lambda: self._tls_port,
        )
        return device

    def _on_air(self, spec: DeviceSpec, radio: RadioSpec, chip: Hardware, reached: Callable[[], bool]) -> Modem:
        """A device on narrow radio: made on a bench with a wire, then out of its reach."""
        assert self.network is not None
        unit = make_unit(spec, radio, self._loaded.scenario.seed)
        self.network.place(unit, Loss(radio.loss, radio.burst), radio.uplink_loss, reached)
        return Modem(spec, self.network, unit, Uplink(self._http, self._time, _by_wire), chip, self._time)

    def _places(self, board: BoardSpec) -> dict[str, PlaceMaking]:
        """What devices of a board know of their places."""
        read = self._file
        return {
            name: PlaceMaking(
                json.loads(read(part.schema_file)) if part.schema_file else None,
                read(part.key) if part.key else b"",
                read(part.trusted) if part.trusted else b"",
            )
            for name, part in board.parts.items()
            if part.schema_file or part.key or part.trusted
        }

    def _chip(self, spec: DeviceSpec, board: BoardSpec) -> Hardware:
        path = chip_path(self._folder, spec.serial)
        if not path.exists():
            recovery = self._file(board.recovery) if board.recovery else b""
            room = -(-len(recovery) // 4096) * 4096
            parts = {n: PartLayout(part.size, part.slots == 1, part.streamed) for n, part in board.parts.items()}
            layout = Layout(parts, room)
            images = {name: self._first(name, image) for name, image in spec.images.items()}
            # Made under another name: a chip is there whole, or not at all.
            unfinished = path.with_suffix(".making")
            unfinished.unlink(missing_ok=True)
            make_chip(FileChip(unfinished, layout.chip_size), layout, images, recovery)
            unfinished.rename(path)
        return open_chip(path, Supply(spec.power_cuts))

    def _first(self, name: str, path: Path) -> bytes:
        """What a part has from the beginning; settings in the form in which they are sealed."""
        data = self._file(path)
        return canonical(read_settings(data)) if kind_of(name) is Kind.SETTINGS else data

    def _file(self, path: Path) -> bytes:
        if path not in self._files:
            self._files[path] = self._loaded.read(path)
        return self._files[path]

    def _carried(self, gateway: str | None) -> bool:
        """Whether the gateways before a device carry its calls; one that is not simulated here always does."""
        seen = set()
        while gateway is not None and gateway not in seen and (before := self.devices.get(gateway)) is not None:
            if not before.on_line:
                return False
            seen.add(gateway)
            gateway = before.spec.gateway
        return True


def _interval(spec: DeviceSpec, board: BoardSpec) -> timedelta:
    """How often a device calls."""
    return spec.radio.every if spec.radio is not None else board.check_in


async def _by_wire(size: int) -> bool:
    return True


async def run_fleet(
    loaded: LoadedScenario,
    url: str,
    folder: Path,
    *,
    say: Say = lambda serial, line: None,
    radio_port: int | None = None,
    radio_token: str | None = None,
    coap: str | None = None,
) -> None:
    """Runs all devices of a scenario until cancelled, with a bench to lay hands on them, and the interface of their
    radio network at ``radio_port`` of loopback; those that speak CoAP do with the service at ``coap``."""
    folder.mkdir(parents=True, exist_ok=True)
    fleet = Fleet(loaded, url, folder, say, coap)
    # What was loaded and made by now stays, and is not to be looked through again and again.
    gc.collect()
    gc.freeze()
    with ExitStack() as stack:
        if fleet.network is not None and radio_port is not None:
            stack.enter_context(serve_network(fleet.network, "127.0.0.1", radio_port, radio_token))
        async with Bench(folder, fleet.devices):
            await fleet.run()
