"""The second act: a yard is brought up to date from the leaves to the gateway, and scales get settings and a
certificate without a restart. What the service says is held against the flash again."""

import json
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from mellow_herald.client import Herald
from mellow_herald.core.digest import sha256_hex
from mellow_herald.demo import yard
from mellow_herald.demo.processes import DemoFailed, Processes
from mellow_herald.demo.scenario import (
    BOARD,
    GATEWAY,
    LINE,
    OUTSIDE,
    SENSOR_BOARD,
    SENSOR_LINE,
    SENSORS,
    WRONG_CLOCK_SITE,
    Place,
)
from mellow_herald.sim.fleet import chip_path
from mellow_herald.sim.hardware import running_image
from mellow_herald.wire.rollout import AttemptOut
from mellow_herald.wire.topology import AlarmOut

ACT_SECONDS, TELLING_SECONDS = 120.0, 60.0
GATEWAY_RELEASE = f"{yard.GATEWAY_BOARD}/{yard.GATEWAY_LINE}/{yard.GATEWAY_NEW}"
RELAY_RELEASE = f"{yard.RELAY_BOARD}/{yard.RELAY_LINE}/{yard.RELAY_NEW}"
SENSOR_RELEASE = f"{SENSOR_BOARD}/{SENSOR_LINE}/{yard.SENSOR_NEW}"
SETTINGS_RELEASE = f"{BOARD}/{LINE}/{yard.SETTINGS_VERSION}"
CERTIFICATE_RELEASE = f"{BOARD}/{LINE}/{yard.CERTIFICATE_VERSION}"


@dataclass(frozen=True, slots=True)
class Act:
    """Plays it with the processes of the first act. ``scales`` are those on the bench that get settings."""

    processes: Processes
    place: Place
    herald: Herald

    def publish(self) -> None:
        """Publishes what it needs."""
        run, folder, key = self.processes.run, self.place.folder, ("--key", str(self.place.signing_key))
        run("release", "publish", str(folder / f"{yard.GATEWAY_LINE}-{yard.GATEWAY_NEW}.toml"), *key)
        run("release", "publish", str(folder / f"{yard.RELAY_LINE}-{yard.RELAY_NEW}.toml"), *key)
        run("release", "publish", str(folder / "firmware" / f"{SENSOR_LINE}-{yard.SENSOR_NEW}.bin"), *key)
        stated = ("--board", BOARD, "--line", LINE, "--floor", "4")
        settings = ("--settings", f"main={folder}/places/night.json", "--base", f"{folder}/places/day.json")
        run("release", "publish", *settings, *stated, "--version", yard.SETTINGS_VERSION, *key)
        certificate = ("--certificate", f"uplink={folder}/places/uplink-new.pem")
        run("release", "publish", *certificate, *stated, "--version", yard.CERTIFICATE_VERSION, *key)

    def play(self) -> list[int]:
        """Starts and follows its rollouts; returns their ids: gateway, relay, sensors, settings, certificate."""
        run, folder = self.processes.run, self.place.folder
        by_hand = self._bench()[: yard.CHANGED_BY_HAND]
        for serial in by_hand:
            file = str(folder / "places" / "by-hand.json")
            run("sim", "put", serial, yard.SETTINGS, file, "--data-dir", str(self.place.flash))
        for serial in OUTSIDE:
            run("device", "pin", serial, "--reason", "on loan to the neighbours", show=serial == OUTSIDE[0])
        near = f"gateway = {yard.RELAY}"
        plans = {
            "gateway": (GATEWAY_RELEASE, f"serial = {GATEWAY}"),
            "relay": (RELAY_RELEASE, f"serial = {yard.RELAY}"),
            "sensors": (SENSOR_RELEASE, f"board = {SENSOR_BOARD} and {near}"),
            "settings": (SETTINGS_RELEASE, f"board = {BOARD} and has bench and runs = release"),
            "certificate": (CERTIFICATE_RELEASE, f"board = {BOARD} and site = {WRONG_CLOCK_SITE} and not has bench"),
        }
        for name, (release, target) in plans.items():
            yard.write_plan(folder / f"yard-{name}.toml", release, target)
        run("device", "tree", GATEWAY)
        run("rollout", "preview", str(folder / "yard-gateway.toml"), "--steps")
        run("rollout", "preview", str(folder / "yard-sensors.toml"), "--steps")
        ids = []
        # The outermost first: whoever is behind a gateway has begun before the gateway asks for its turn.
        for name in ("sensors", "relay", "gateway", "settings", "certificate"):
            plan = str(folder / f"yard-{name}.toml")
            made = run("rollout", "start", plan, "--yes", "--json", capture=True, show=name == "sensors")
            ids.append(int(json.loads(made)["id"]))
        sensors, relay, gateway, settings, certificate = ids
        self._wait(ids)
        self._wait_for_those_behind()
        run("device", "tree", GATEWAY)
        run("rollout", "attempts", str(relay))
        run("rollout", "failures", str(relay), "--logs")
        run("rollout", "failures", str(settings))
        run("rollout", "failures", str(certificate))
        run("device", "alarms", "--limit", "8")
        return [gateway, relay, sensors, settings, certificate]

    def _bench(self) -> list[str]:
        found = self.herald.devices.list(where=f"board = {BOARD} and has bench and runs = release", limit=100)
        return sorted(device.serial for device in found.items)

    def _wait(self, ids: list[int]) -> None:
        """Until all that is under way is decided; the tree is shown once while the gateway restarts."""
        deadline, shown = time.monotonic() + ACT_SECONDS, False
        while any(self.herald.rollouts.show(one).live for one in ids):
            self.processes.check()
            if not shown and self._gateway_is_away():
                self.processes.run("device", "tree", GATEWAY)
                shown = True
            if time.monotonic() > deadline:
                raise DemoFailed(f"rollouts {ids} are still under way after {ACT_SECONDS:.0f} s")
            time.sleep(0.1)
        if not shown:
            print("The gateway's restart was over before its tree could be shown; the alarms below tell of it.")

    def _wait_for_those_behind(self) -> None:
        """Until somebody who lost the gateway has told so: after a call that failed, a device waits with its next."""
        deadline = time.monotonic() + TELLING_SECONDS
        while not self._alarms("upstream-lost") and time.monotonic() < deadline:
            self.processes.check()
            time.sleep(0.2)

    def _gateway_is_away(self) -> bool:
        cuts = (node.cut_off for node in self.herald.devices.tree(GATEWAY).nodes)
        return any(cut is not None and cut.by == GATEWAY for cut in cuts)

    def wrong(self, ids: list[int]) -> list[str]:
        """What did not go as the story has it."""
        gateway, relay, sensors, settings, certificate = (self._attempts(one) for one in ids)
        return [
            *self._wrong_order(gateway, relay, sensors),
            *self._wrong_parts(relay, gateway),
            *self._wrong_settings(settings),
            *self._wrong_certificates(certificate),
            *self._wrong_alarms(),
        ]

    def _wrong_order(self, gateway: list[AttemptOut], relay: list[AttemptOut], sensors: list[AttemptOut]) -> list[str]:
        cleared = [max(one.clearance or 0 for one in group) for group in (sensors, relay, gateway)]
        found = [] if 0 < cleared[0] < cleared[1] < cleared[2] else [f"clearances went by {cleared}"]
        if len(sensors) != SENSORS or any(one.state != "confirmed" for one in sensors):
            found.append(f"sensors: {[(one.serial, one.state) for one in sensors]}")
        return found

    def _wrong_parts(self, relay: list[AttemptOut], gateway: list[AttemptOut]) -> list[str]:
        found = []
        parts = {part.name: (part.state.value, part.reason) for part in relay[0].parts}
        due = {"app": ("reverted", None), "probe-a": ("reverted", None), "probe-b": ("reverted", "stream-broken")}
        if parts != due:
            found.append(f"relay: its parts stand as {parts}")
        told = {part.name: part.state.value for part in gateway[0].parts}
        if told != {"app": "confirmed", "radio": "confirmed", yard.SETTINGS: "confirmed"}:
            found.append(f"gateway: its parts stand as {told}")
        firmware = self.place.folder / "firmware"
        for name in ("app", *yard.PROBES):
            former = firmware / f"{yard.RELAY_LINE}-{name}-{yard.RELAY_OLD}.bin"
            found += self._not_in_flash(yard.RELAY, name, former)
        found += self._not_in_flash(GATEWAY, "radio", firmware / f"{yard.GATEWAY_LINE}-radio-0.5.0.bin")
        found += self._not_in_flash(GATEWAY, yard.SETTINGS, self.place.folder / "places" / "uplink-new.json")
        return found

    def _wrong_settings(self, attempts: list[AttemptOut]) -> list[str]:
        found, by_hand = [], set(self._bench()[: yard.CHANGED_BY_HAND])
        for one in attempts:
            kept = one.serial in by_hand
            if (one.state.value, one.reason) != (("failed", "settings-changed") if kept else ("confirmed", None)):
                found.append(f"{one.serial}: settings {one.state} {one.reason}")
            name = "by-hand" if kept else "night"
            found += self._not_in_flash(one.serial, yard.SETTINGS, self.place.folder / "places" / f"{name}.json")
        return found if attempts else ["nobody got settings"]

    def _wrong_certificates(self, attempts: list[AttemptOut]) -> list[str]:
        # Who was off-line all the while was not served: that is no matter of the certificate.
        went_back = [one for one in attempts if one.state not in ("confirmed", "called-off")]
        found = []
        if [(one.state.value, one.reason) for one in went_back] != [("reverted", "no-contact")]:
            found.append(f"certificates: {[(one.serial, one.state, one.reason) for one in went_back]} went back")
        for one in attempts:
            name = "uplink-new" if one.state == "confirmed" else "uplink-old"
            found += self._not_in_flash(one.serial, yard.CERTIFICATE, self.place.folder / "places" / f"{name}.pem")
        return found

    def _wrong_alarms(self) -> list[str]:
        lost = self._alarms("upstream-lost")
        found = [] if lost else ["nobody noticed that the gateway was away"]
        if any(one.rollout_id is None for one in lost):
            found.append(f"alarms of the restart that nothing explains: {[one.serial for one in lost]}")
        if not any(one.rollout_id is None for one in self._alarms("battery-low")):
            found.append("the low battery is not told, or something explains it")
        return found

    def _alarms(self, kind: str) -> list[AlarmOut]:
        return [one for one in self.herald.devices.alarms(limit=500) if one.kind == kind]

    def _not_in_flash(self, serial: str, part: str, file: Path) -> list[str]:
        _, digest = running_image(chip_path(self.place.flash, serial), part)
        due = sha256_hex(file.read_bytes())
        return [] if digest == due else [f"{serial}: {part} in flash is {digest[:12]}, due {due[:12]}"]

    def _attempts(self, rollout_id: int) -> list[AttemptOut]:
        return self.herald.rollouts.attempts(rollout_id, limit=1000).items


def played(notes: dict[str, Any]) -> bool:
    """Whether it was played in this data folder before."""
    return bool(notes.get("second_act"))
