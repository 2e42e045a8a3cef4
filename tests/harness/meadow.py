"""Sensors on narrow radio behind a simulated network, beside a flight of scales."""

import subprocess
import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from mellow_herald.client import Herald
from mellow_herald.core.keys import private_from_pem
from mellow_herald.demo import meadow, scenario
from mellow_herald.wire.board import BoardIn
from mellow_herald.wire.fleet import CodeIn
from mellow_herald.wire.plan import PlanDocument
from tests.harness.flight import Flight
from tests.harness.processes import free_port

BOARD, LINE = "reed-r1", "forage-sensor"
OLD, NEW = "0.9.1", "1.0.0"
BOARD_FILE = {
    "name": BOARD,
    "vendor_domain": scenario.VENDOR_DOMAIN,
    "lines": [LINE],
    "hw_revs": [1],
    "check_in": "2m",
    "slots": [{"name": "a", "size": 16384}, {"name": "b", "size": 16384}],
}


class Meadow:
    """A flight whose service follows a radio network. ``sensors`` are their radios' particulars by serial; two slots,
    small images, and a word every minute."""

    def __init__(self, folder: Path, sensors: Mapping[str, Mapping[str, Any]], *, size: int = 2600) -> None:
        self.flight = Flight(folder, speed=40)
        self.radio_port, self.sensors, self.size = free_port(), dict(sensors), size
        self.url = f"http://127.0.0.1:{self.radio_port}"
        self.flash = folder / "meadow"

    def serve(self) -> subprocess.Popen[bytes]:
        return self.flight.serve("--radio", self.url)

    def prepare(self, herald: Herald) -> None:
        """Keys, board, two releases and a code for sensors, and the scenario that they live in."""
        flight, place = self.flight, self.flight.place
        flight.prepare(herald, versions=())
        herald.boards.add(BoardIn.model_validate(BOARD_FILE))
        key = private_from_pem(place.signing_key.read_bytes())
        for version in (OLD, NEW):
            image = meadow.make_image(version, 3, board=BOARD, size=self.size)
            self.image(version).write_bytes(image)
            herald.releases.publish(self.image(version), key=key)
        code = herald.codes.make(CodeIn(board=BOARD, line=LINE, uses=50)).code or ""
        sensors = [
            meadow.Sensor(serial, radio={"every": "1m", "loss": 0.06, "burst": 2, **radio}, worn="worn" in radio)
            for serial, radio in self.sensors.items()
        ]
        for one in sensors:
            one.radio.pop("worn", None)
        head = {"root": "keys/root.pub.pem", "key_list": "keys/key-list.cose"}
        parts = "parts.app = { size = 16384 }"
        text = meadow.scenario_text(head, BOARD, parts, code, f"firmware/{self.image(OLD).name}", sensors, seed=3)
        (place.folder / "meadow.toml").write_text(text)

    def image(self, version: str) -> Path:
        return self.flight.place.folder / "firmware" / f"meadow-{version}.bin"

    def fly(self) -> subprocess.Popen[bytes]:
        """The network and its devices."""
        where = ["--url", self.flight.url, "--port", str(self.radio_port), "--data-dir", str(self.flash)]
        log = ["--log", str(self.flight.folder / "meadow-devices.log")]
        return self.flight.start("sim", "radio", str(self.flight.place.folder / "meadow.toml"), *where, *log)

    def plan(self, **radio: Any) -> PlanDocument:
        document = tomllib.loads(meadow.plan_text(BOARD, NEW))
        document["radio"] = {"data_rate": 4, "redundancy": 30, **radio}
        document["rings"][0]["soak"] = "2m"
        document["rings"][0]["enough"] = 0.2
        document["brake"]["firmware_limit"] = 0.9
        document["brake"]["delivery_limit"] = 0.9
        document["numbers"]["retries"] = 0
        return PlanDocument.model_validate(document)
