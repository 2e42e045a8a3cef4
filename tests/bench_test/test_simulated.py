"""The simulated device goes through the course, as it is started on the command line."""

import subprocess
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from mellow_herald.bench_test.station import Outcome
from mellow_herald.core.behaviour import Behaviour, Fault, encode_behaviour
from tests.bench_test.bench import CODE, go
from tests.bench_test.test_course import wrong
from tests.harness.firmware import BOARD, DOMAIN, LINE, make_bytes
from tests.harness.flight import HERALD
from tests.harness.patience import PATIENCE_S

pytestmark = pytest.mark.system
SERIAL = "TA-bench"
SCENARIO = f"""
vendor_domain = "{DOMAIN}"
root = "keys/root.pub.pem"
key_list = "keys/keys.cose"
[boards.{BOARD}]
code = "{CODE}"
check_in = "10s"
parts.app = {{ size = 65536 }}
[[devices]]
serial = "{SERIAL}"
board = "{BOARD}"
line = "{LINE}"
images = {{ app = "first.bin" }}
link = {{ kind = "wifi", bytes_per_s = 40000, wait_s = 2 }}
"""


def test_the_simulated_device_does_all_of_it_right(tmp_path: Path) -> None:
    (tmp_path / "first.bin").write_bytes(make_bytes("2.4.0"))
    (tmp_path / "scenario.toml").write_text(SCENARIO)
    data = ["--data-dir", str(tmp_path / "flash")]

    def sim(*words: str) -> str:
        asked = [*HERALD, "sim", *words, *data]
        return subprocess.run(asked, capture_output=True, text=True, check=True, timeout=PATIENCE_S).stdout

    def start(url: str, root: Path) -> Callable[[], None]:
        process = subprocess.Popen([*HERALD, "sim", "run", str(tmp_path / "scenario.toml"), "--url", url, *data])

        def stop() -> None:
            process.terminate()
            process.wait(PATIENCE_S)

        return stop

    def do(word: str) -> str:
        match word:
            case "power-cut":
                sim("unplug", SERIAL)
                time.sleep(0.2)
                return sim("unplug", SERIAL, "--back") and ""
            case "lamp":
                return next(line for line in ("update stopped", "running") if line in sim("list"))
        return "none"  # its slots are all that it has

    failing = make_bytes("2.7.0") + encode_behaviour([Behaviour(f"board = {BOARD}", Fault.FAIL_SELF_TEST)])
    findings = go(tmp_path, start, do=do, failing=failing)
    assert wrong(findings) == {}
    assert {name: one.seen for name, one in findings.items() if one.outcome is not Outcome.RIGHT} == {}
