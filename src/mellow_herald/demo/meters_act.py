"""Beside the third act: twelve meters take their release by the standard's update object, half of them fetching it."""

import time
from dataclasses import dataclass
from pathlib import Path

from mellow_herald.client import Herald
from mellow_herald.core.digest import sha256_hex
from mellow_herald.demo import meters
from mellow_herald.demo.processes import DemoFailed, Processes
from mellow_herald.demo.scenario import Place
from mellow_herald.sim.fleet import chip_path
from mellow_herald.sim.hardware import running_image

HEARD_SECONDS = 60.0


def publish_meters(processes: Processes, place: Place, seed: int) -> None:
    """Writes board file, firmware and plan of the meters; adds their board, and the release that they run."""
    meters.write_files(place.folder, seed)
    processes.run("board", "add", str(place.folder / f"{meters.BOARD}.toml"))
    image = str(place.folder / "firmware" / f"meter-{meters.OLD}.bin")
    key = ("--key", str(place.signing_key))
    processes.run("release", "publish", image, *key, "--notes", "runs in the field", show=False)


def write_meters(place: Place, seed: int, code: str) -> None:
    """Writes the scenario of the meters."""
    head = {
        "root": str(place.root_key.with_suffix(".pub.pem").relative_to(place.folder)),
        "key_list": str(place.key_list.relative_to(place.folder)),
    }
    image = f"firmware/meter-{meters.OLD}.bin"
    text = meters.scenario_text(head, meters.BOARD, meters.PARTS, code, image, meters.meters(), seed)
    (place.folder / "water.toml").write_text(text)


@dataclass(frozen=True, slots=True)
class MetersAct:
    """Plays it with the processes of the first act; CoAP is served at ``coap``."""

    processes: Processes
    place: Place
    herald: Herald
    coap: str
    url: str

    @property
    def flash(self) -> Path:
        """Where the meters' flash is kept."""
        return self.place.folder / "water"

    def start_devices(self) -> None:
        """Starts the meters."""
        where = ("--coap", self.coap, "--data-dir", str(self.flash), "--log", "-", "--url", self.url)
        self.processes.start("meters", "sim", "run", str(self.place.folder / "water.toml"), *where)

    def start(self) -> int:
        """Publishes the release and starts it; returns the rollout's id."""
        run, folder = self.processes.run, self.place.folder
        self._wait_registered()
        image = str(folder / "firmware" / f"meter-{meters.NEW}.bin")
        run("release", "publish", image, "--key", str(self.place.signing_key), "--notes", "reads the meter at night")
        run("coap", "list")
        run("rollout", "start", str(folder / "meters.toml"), "--yes", show=True, capture=True)
        return next(one.id for one in self.herald.rollouts.list(limit=5).items if one.name.endswith("to the meters"))

    def finish(self, rollout_id: int) -> list[str]:
        """Waits until all are decided and shows how they were given it; returns what did not go as the story has it."""
        run = self.processes.run
        run("rollout", "watch", str(rollout_id))
        run("coap", "list")
        run("coap", "show", meters.serial(meters.WORN))
        found, worn = [], meters.serial(meters.WORN)
        attempts = self.herald.rollouts.attempts(rollout_id, limit=1000).items
        if len(attempts) != meters.METERS:
            found.append(f"{len(attempts)} meters were served, not {meters.METERS}")
        new = sha256_hex((self.place.folder / "firmware" / f"meter-{meters.NEW}.bin").read_bytes())
        for one in attempts:
            due = ("reverted", "fell-back") if one.serial == worn else ("confirmed", None)
            if (one.state.value, one.reason) != due:
                found.append(f"{one.serial}: {one.state} {one.reason}")
            _, digest = running_image(chip_path(self.flash, one.serial))
            if (digest == new) != (one.serial != worn):
                found.append(f"{one.serial}: {digest[:12] if digest else 'nothing'} in flash")
        return found

    def _wait_registered(self) -> None:
        deadline = time.monotonic() + HEARD_SECONDS
        while self.herald.coap.service().registered < meters.METERS:
            self.processes.check()
            if time.monotonic() > deadline:
                raise DemoFailed("not all meters registered")
            time.sleep(0.3)
