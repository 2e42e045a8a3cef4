"""The third act: sixty sensors on narrow radio are sent a release at once, and those that fell short in a repair."""

import time
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from mellow_herald.client import Herald
from mellow_herald.core.digest import sha256_hex
from mellow_herald.core.duration import parse_duration
from mellow_herald.demo import meadow
from mellow_herald.demo.processes import DemoFailed, Processes
from mellow_herald.demo.scenario import Place
from mellow_herald.sim.fleet import chip_path
from mellow_herald.sim.hardware import running_image
from mellow_herald.sim.radio.modem import make_unit
from mellow_herald.sim.scenario import load_scenario
from mellow_herald.wire.radio import RadioSessionOut

HEARD_SECONDS = 90.0


def publish_meadow(processes: Processes, place: Place, seed: int) -> None:
    """Writes board file, firmware and plan of the meadow; adds its board, and the release that its sensors run."""
    meadow.write_files(place.folder, seed)
    processes.run("board", "add", str(place.folder / f"{meadow.BOARD}.toml"))
    image = str(place.folder / "firmware" / f"meadow-{meadow.OLD}.bin")
    key = ("--key", str(place.signing_key))
    processes.run("release", "publish", image, *key, "--notes", "runs in the field", show=False)


def write_meadow(place: Place, seed: int, code: str) -> None:
    """Writes the scenario of the meadow."""
    head = {
        "root": str(place.root_key.with_suffix(".pub.pem").relative_to(place.folder)),
        "key_list": str(place.key_list.relative_to(place.folder)),
    }
    image = f"firmware/meadow-{meadow.OLD}.bin"
    text = meadow.scenario_text(head, meadow.BOARD, meadow.PARTS, code, image, meadow.sensors(seed), seed)
    (place.folder / "meadow.toml").write_text(text)


@dataclass(slots=True)
class MeadowAct:
    """Plays it with the processes of the first act; the radio network is at ``port`` of loopback. ``back_at``: when the
    sensors that are away are there again (service time)."""

    processes: Processes
    place: Place
    herald: Herald
    port: int
    url: str
    back_at: datetime | None = None

    @property
    def flash(self) -> Path:
        """Where the sensors' flash is kept."""
        return self.place.folder / "meadow"

    def start_devices(self) -> None:
        """Starts the radio network and its sensors."""
        where = ("--port", str(self.port), "--data-dir", str(self.flash), "--log", "-", "--url", self.url)
        self.processes.start("radio", "sim", "radio", str(self.place.folder / "meadow.toml"), *where)

    def start(self) -> int:
        """Publishes the release, shows what a session would be, and starts it; returns the rollout's id."""
        run, folder = self.processes.run, self.place.folder
        self._wait_heard()
        image = str(folder / "firmware" / f"meadow-{meadow.NEW}.bin")
        run("release", "publish", image, "--key", str(self.place.signing_key), "--notes", "counts bees by their hum")
        plan = str(folder / "sensors.toml")
        run("rollout", "preview", plan)
        for number in meadow.NO_KEY:
            key = self._write_key(number)
            run("radio", "key", meadow.serial(number), "--file", str(key), "--reason", "from the maker's list")
        self.back_at = self.herald.overview().now + parse_duration(meadow.AWAY_FOR)
        for number in meadow.AWAY:
            cut = ("sim", "cut", meadow.serial(number), "--for", meadow.AWAY_FOR, "--data-dir", str(self.flash))
            run(*cut, show=number == meadow.AWAY[0])
        run("rollout", "start", plan, "--yes", show=True, capture=True)
        return next(one.id for one in self.herald.rollouts.list(limit=5).items if one.name.endswith("to the meadow"))

    def finish(self, rollout_id: int) -> list[str]:
        """Waits until all are decided and shows the sessions; returns what did not go as the story has it."""
        run = self.processes.run
        run("rollout", "watch", str(rollout_id))
        sessions = self.herald.radio.sessions(rollout_id)
        run("radio", "sessions", str(rollout_id))
        run("radio", "session", str(sessions[0].id))
        run("rollout", "failures", str(rollout_id), "--logs")
        return [*self._wrong_attempts(rollout_id), *self._wrong_sessions(sessions)]

    def _wrong_attempts(self, rollout_id: int) -> list[str]:
        found, worn = [], meadow.serial(meadow.WORN)
        attempts = self.herald.rollouts.attempts(rollout_id, limit=1000).items
        if len(attempts) != meadow.SENSORS:
            found.append(f"{len(attempts)} sensors of the meadow were served, not {meadow.SENSORS}")
        new = sha256_hex((self.place.folder / "firmware" / f"meadow-{meadow.NEW}.bin").read_bytes())
        for one in attempts:
            due = ("reverted", "self-test-failed") if one.serial == worn else ("confirmed", None)
            if (one.state.value, one.reason) != due:
                found.append(f"{one.serial}: {one.state} {one.reason}")
            _, digest = running_image(chip_path(self.flash, one.serial))
            if (digest == new) != (one.serial != worn):
                found.append(f"{one.serial}: {digest[:12] if digest else 'nothing'} in flash")
        return found

    def _wrong_sessions(self, sessions: list[RadioSessionOut]) -> list[str]:
        late, away = set(sessions[0].late), {meadow.serial(number) for number in meadow.AWAY}
        began_at = sessions[0].began_at
        if began_at is not None and self.back_at is not None and began_at >= self.back_at:
            print("  the first session began so late, on this machine, that those who were away could take part")
            return []
        found = [] if away <= late else [f"late were {sorted(late)}, and not {sorted(away)}"]
        # On a slow machine the first may run out of time: what follows is the whole once more then, no repair.
        if len(sessions) < 2:
            found.append("no other session followed the first")
        return found

    def _wait_heard(self) -> None:
        deadline = time.monotonic() + HEARD_SECONDS
        while sum(one.heard_at is not None for one in self.herald.radio.each()) < meadow.SENSORS:
            self.processes.check()
            if time.monotonic() > deadline:
                raise DemoFailed("not all sensors of the meadow were heard")
            time.sleep(0.3)

    def _write_key(self, number: int) -> Path:
        """The maker's list has every sensor's root key."""
        loaded = load_scenario(self.place.folder / "meadow.toml")
        spec = next(one for one in loaded.devices if one.serial == meadow.serial(number))
        assert spec.radio is not None
        path = self.place.folder / "keys" / f"{spec.serial}.root"
        path.touch(0o600)
        path.write_text(make_unit(spec, spec.radio, loaded.scenario.seed).root.hex() + "\n")
        return path
