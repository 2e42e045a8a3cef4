"""Service, simulated devices and client library as processes of their own, as an engineer starts them."""

import os
import subprocess
import sys
import time
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path

from mellow_herald.client import Herald, HeraldError
from mellow_herald.demo import scenario
from mellow_herald.demo.provision import provision
from mellow_herald.demo.scenario import Place
from tests.harness.patience import PATIENCE_S, until
from tests.harness.premade import lay_out
from tests.harness.processes import free_port

HERALD = [sys.executable, "-m", "mellow_herald.cli.main"]
DEVICES, SPEED = 12, int(os.environ.get("HERALD_TEST_SPEED", "40"))


class Flight:
    """The processes of one flight: ``devices`` scales and the other ``OTHERS``, ``speed`` seconds a second; what is in
    ``environment`` is the service's alone. The service has a PostgreSQL of its own, unless it is given one."""

    def __init__(
        self,
        folder: Path,
        devices: int = DEVICES,
        speed: int = SPEED,
        environment: Mapping[str, str] | None = None,
        database_url: str | None = None,
    ) -> None:
        self.folder, self.port, self.database_url = folder, free_port(), database_url
        self.devices, self.speed, self.environment = devices, speed, dict(environment or {})
        self.data = folder / "data"
        self.url = f"http://127.0.0.1:{self.port}"
        self.place = Place(folder / "demo")
        self.processes: list[subprocess.Popen[bytes]] = []

    @property
    def device_url(self) -> str:
        """Where devices find the service."""
        return self.url

    def start(self, *arguments: str) -> subprocess.Popen[bytes]:
        own = self.environment if arguments[0] == "serve" else {}
        environment = {**os.environ, "HERALD_ADMIN_PASSWORD": "only-for-tests", **own}
        log = (self.folder / f"{arguments[0]}.log").open("ab")
        command = [*HERALD, *arguments]
        process = subprocess.Popen(command, env=environment, stdout=log, stderr=log, start_new_session=True)
        self.processes.append(process)
        return process

    def serve(self, *more: str) -> subprocess.Popen[bytes]:
        where = ["--data-dir", str(self.data), "--port", str(self.port)]
        database = ["--database-url", self.database_url] if self.database_url else []
        if self.database_url is None and not (self.data / "postgres").exists():
            lay_out(self.data)
        process = self.start("serve", *where, *database, "--time-scale", str(self.speed), *more)
        self.wait_ready(process, self.url)
        return process

    def wait_ready(self, process: subprocess.Popen[bytes], url: str) -> None:
        """Until a service that was started is ready at ``url``."""
        # Three workers, a new cluster and a first compilation of everything, beside other tests: that takes its time.
        deadline = time.monotonic() + PATIENCE_S
        with Herald(url) as herald:
            while time.monotonic() < deadline:
                assert process.poll() is None, (self.folder / "serve.log").read_text()
                with suppress(HeraldError):
                    herald.ready()
                    return
                time.sleep(0.1)
        raise AssertionError("the service did not get ready")

    def signed_in(self) -> Herald:
        with Herald(self.url) as herald:
            herald.people.sign_in("admin", "only-for-tests")
            token = herald.people.make_token().token
        return Herald(self.url, token=token)

    def prepare(self, herald: Herald, versions: tuple[str, ...] = (scenario.OLD, scenario.FIXED)) -> None:
        """Keys, board, releases and a code, by the client library."""
        place = self.place
        scenario.write_files(place, seed=3, devices=self.devices)
        provision(herald, place, devices=self.devices, others=OTHERS, seed=3, versions=versions)

    def fly(self) -> subprocess.Popen[bytes]:
        """The simulated devices, which have power when this returns: what is wrong with their scenario is told here."""
        where = ["--url", self.device_url, "--data-dir", str(self.place.flash)]
        process = self.start("sim", "run", str(self.place.scenario), *where)

        def powered() -> bool:
            assert process.poll() is None, (self.folder / "sim.log").read_text()
            return self.place.flash.is_dir() and any(self.place.flash.iterdir())

        until(powered)
        return process

    def wait_online(self, herald: Herald, devices: int) -> None:
        """Until every device has called; where the machine is slow, they are late again and again, and not all at
        once are ever on time."""

        def there() -> bool:
            presence = herald.overview().presence
            return sum(presence.values()) - presence.get("never-seen", 0) == devices + OTHERS

        until(there, about=lambda: herald.overview().presence)

    def stop(self) -> None:
        for process in reversed(self.processes):
            if process.poll() is None:
                process.terminate()
        for process in self.processes:
            process.wait(PATIENCE_S)


# The lab's unit, the gateway, the relay and the sensors behind it are there too.
OTHERS = 3 + scenario.SENSORS + len(scenario.OUTSIDE)
SCALES = f"board = {scenario.BOARD} and serial != {scenario.LAB_UNIT}"
