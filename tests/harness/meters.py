"""Meters that speak CoAP and others of their board that call by HTTP, beside a service as an engineer starts it."""

import subprocess
import tomllib
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from mellow_herald.client import Herald
from mellow_herald.core.keys import private_from_pem
from mellow_herald.demo import meters, scenario
from mellow_herald.demo.meters import Meter
from mellow_herald.wire.board import BoardIn
from mellow_herald.wire.fleet import CodeIn
from mellow_herald.wire.plan import PlanDocument
from tests.harness.flight import Flight
from tests.harness.processes import free_port

BOARD, LINE = "reed-r2", meters.LINE
OLD, NEW = meters.OLD, meters.NEW
BOARD_FILE = {
    "name": BOARD,
    "vendor_domain": scenario.VENDOR_DOMAIN,
    "lines": [LINE],
    "hw_revs": [1],
    "check_in": "2m",
    "slots": [{"name": "a", "size": 32768}, {"name": "b", "size": 32768}],
}


class Meters:
    """A flight whose service serves CoAP, and its meters: one without particulars calls by HTTP."""

    def __init__(self, folder: Path, field: Sequence[Meter], *, speed: int = 40) -> None:
        self.flight = Flight(folder, speed=speed)
        self.coap_port, self.meters = free_port(), list(field)
        self.coap = f"coap://127.0.0.1:{self.coap_port}"
        self.flash = folder / "meters"

    def serve(self) -> subprocess.Popen[bytes]:
        return self.flight.serve("--coap-port", str(self.coap_port))

    def prepare(self, herald: Herald) -> None:
        """Keys, board, two releases and a code for meters, and the scenario that they live in."""
        flight, place = self.flight, self.flight.place
        flight.prepare(herald, versions=())
        herald.boards.add(BoardIn.model_validate(BOARD_FILE))
        key = private_from_pem(place.signing_key.read_bytes())
        for version in (OLD, NEW):
            self.image(version).write_bytes(meters.make_image(version, 3, board=BOARD, size=20_000))
            herald.releases.publish(self.image(version), key=key)
        code = herald.codes.make(CodeIn(board=BOARD, line=LINE, uses=50)).code or ""
        head = {"root": "keys/root.pub.pem", "key_list": "keys/key-list.cose"}
        parts, image = "parts.app = { size = 32768 }", f"firmware/{self.image(OLD).name}"
        text = meters.scenario_text(head, BOARD, parts, code, image, self.meters, seed=3)
        (place.folder / "meters.toml").write_text(text)

    def image(self, version: str) -> Path:
        return self.flight.place.folder / "firmware" / f"meter-{version}.bin"

    def fly(self) -> subprocess.Popen[bytes]:
        """The meters."""
        where = ["--url", self.flight.url, "--coap", self.coap, "--data-dir", str(self.flash)]
        log = ["--log", str(self.flight.folder / "meters.log")]
        return self.flight.start("sim", "run", str(self.flight.place.folder / "meters.toml"), *where, *log)

    def plan(self, **coap: Any) -> PlanDocument:
        document = tomllib.loads(meters.plan_text(BOARD, NEW))
        document["coap"] = coap
        document["rings"][0] |= {"soak": "1m", "enough": 0.2}
        document["brake"] = {"firmware_limit": 0.9, "delivery_limit": 0.9}
        return PlanDocument.model_validate(document)
