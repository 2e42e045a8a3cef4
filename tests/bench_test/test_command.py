"""``herald bench-test`` as it is typed, with a device in a process of its own."""

import json
import socket
import subprocess
import sys
from pathlib import Path
from xml.etree import ElementTree as Xml

import pytest

from tests.harness.example import EXAMPLES
from tests.harness.firmware import BOARD, DOMAIN, LINE, make_bytes
from tests.harness.flight import HERALD
from tests.harness.patience import PATIENCE_S, until
from tests.harness.processes import free_port

pytestmark = pytest.mark.system
VERSIONS = ("2.5.0", "2.6.0", "2.8.0")


def herald(*words: str | Path) -> subprocess.CompletedProcess[str]:
    asked = [*HERALD, "bench-test", *map(str, words)]
    return subprocess.run(asked, capture_output=True, text=True, timeout=PATIENCE_S, check=False)


def images(folder: Path, versions: tuple[str, ...] = VERSIONS) -> list[str | Path]:
    for version in versions:
        (folder / f"{version}.bin").write_bytes(make_bytes(version))
    return [word for version in versions for word in ("--image", folder / f"{version}.bin")]


def test_it_says_what_is_missing(tmp_path: Path) -> None:
    assert "overload-long" in herald("--stations").stdout
    assert "there is no station dance" in herald("--only", "dance").stderr
    said = herald("--code", "x").stderr
    assert "--domain, --image must be given" in " ".join(said.replace("│", " ").split())
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = str(taken.getsockname()[1])
        asked = ["--code", "x", "--domain", DOMAIN, *images(tmp_path), "--folder", tmp_path / "keys", "--port", port]
        refused = herald(*asked)
    assert refused.returncode == 1 and "cannot be listened at" in refused.stderr and "--port" in refused.stderr
    few = herald("--code", "x", "--domain", DOMAIN, *images(tmp_path, VERSIONS[:2]), "--folder", tmp_path / "keys")
    assert few.returncode == 1 and "three images that differ" in few.stderr


def test_a_device_goes_through_it_and_the_reports_say_so(tmp_path: Path) -> None:
    port, keys = free_port(), tmp_path / "keys"
    asked = [
        *["--code", "x", "--domain", DOMAIN, *images(tmp_path), "--folder", keys, "--port", port, "--time-scale", "20"],
        *["--only", "enrol", "--only", "update", "--only", "power", "--only", "self-test", "--json"],
        *["--html", tmp_path / "report.html", "--junit", tmp_path / "report.xml"],
    ]
    run = subprocess.Popen(
        [*HERALD, "bench-test", *map(str, asked)], stdout=subprocess.PIPE, stdin=subprocess.DEVNULL, text=True
    )
    until(lambda: (keys / "keys.cose").exists())
    (tmp_path / "first.bin").write_bytes(make_bytes("2.4.0"))
    options = {
        **{"url": f"http://127.0.0.1:{port}", "code": "x", "serial": "TA-bench", "board": BOARD, "line": LINE},
        **{"domain": DOMAIN, "root": keys / "root.pub.pem", "image": tmp_path / "first.bin", "version": "2.4.0"},
        **{"floor": 4, "folder": tmp_path / "flash"},
    }
    words = [str(word) for name, value in options.items() for word in (f"--{name}", value)]
    device = subprocess.Popen([sys.executable, str(EXAMPLES / "device.py"), *words])
    try:
        output, _ = run.communicate(timeout=PATIENCE_S)
    finally:
        device.terminate()
        device.wait(PATIENCE_S)
    assert run.returncode == 0
    found = {one["name"]: one for one in json.loads(output)}
    assert {name: one["outcome"] for name, one in found.items()} == {
        **{"enrol": "right", "update": "right", "power": "not tried", "self-test": "not tried"}
    }
    suite = Xml.parse(tmp_path / "report.xml").getroot()
    assert (suite.get("tests"), suite.get("failures"), suite.get("skipped")) == ("4", "0", "2")
    page = (tmp_path / "report.html").read_text()
    assert "Bench test of TA-bench" in page and found["update"]["sentence"] in page
