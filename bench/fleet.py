"""Five thousand simulated devices in one process on one core, and a hundred thousand devices imported."""

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from bench.checkins import PASSWORD, free_port, running
from bench.figure import Figure
from bench.uploads import peak_of
from mellow_herald.client import Herald
from mellow_herald.core.key_status import KeyStatus
from mellow_herald.core.keys import SigningKey, public_to_pem, raw_public, sign_key_list
from mellow_herald.core.nameplate import Nameplate, encode_nameplate
from mellow_herald.wire.board import BoardIn
from mellow_herald.wire.fleet import CodeIn

# Watched for whole intervals: they came on-line close together, and call in waves.
DEVICES, CHECK_IN_S, WATCHED_S = 5000, 60, 120.0
ROWS = 100_000
MOST = 0.3 * (1 << 30)
BOARD = {
    "name": "comb-s1",
    "vendor_domain": "thistledown.example",
    "lines": ["hive-scale"],
    "hw_revs": [1],
    "slots": [{"name": "a", "size": 65536}, {"name": "b", "size": 65536}],
    "check_in": f"{CHECK_IN_S}s",
}
SCENARIO = """
vendor_domain = "thistledown.example"
root = "root.pem"
key_list = "list.cose"
[boards.comb-s1]
code = "{code}"
check_in = "{check_in}s"
parts.app = {{ size = 65536 }}
[[devices]]
serial = "TA-{{n:05}}"
count = {devices}
board = "comb-s1"
line = "hive-scale"
images = {{ app = "old.bin" }}
"""


def measure() -> list[Figure]:
    """The import first, into an empty service; then the devices, with the service on the other core."""
    cores = sorted(os.sched_getaffinity(0))
    with tempfile.TemporaryDirectory(prefix="herald-bench-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        port = free_port()
        url = f"http://127.0.0.1:{port}"
        serve = ["-m", "mellow_herald.cli.main", "serve", "--data-dir", str(folder / "data"), "--port", str(port)]
        with running(serve, cores[0], port):
            with Herald(url) as herald:
                herald.people.sign_in("admin", PASSWORD)
                token = herald.people.make_token().token
            with Herald(url, token=token) as herald:
                herald.boards.add(BoardIn.model_validate(BOARD))
                imported = _import(herald)
                simulated = _simulate(herald, url, folder, cores[-1])
    return [imported, *simulated]


def _import(herald: Herald) -> Figure:
    def lines() -> Iterator[bytes]:
        yield b"serial,board,line,hw_rev,label.site,label.yard\n"
        for start in range(0, ROWS, 1000):
            rows = (f"TB-{n:06},comb-s1,hive-scale,1,fernhollow,north\n" for n in range(start, start + 1000))
            yield "".join(rows).encode()

    began = time.monotonic()
    report = herald.devices.import_from(lines())
    seconds = time.monotonic() - began
    if report.added != ROWS:
        raise RuntimeError(f"{report.added} of {ROWS} rows were taken")
    return Figure("import of 100,000 devices ÷ 60 s", seconds / 60, "<= 1", {"seconds": seconds})


def _simulate(herald: Herald, url: str, folder: Path, core: int) -> list[Figure]:
    root, key = Ed25519PrivateKey.generate(), Ed25519PrivateKey.generate()
    (folder / "root.pem").write_bytes(public_to_pem(raw_public(root)))
    keys = [SigningKey(raw_public(key), KeyStatus.ACTIVE, "bench")]
    (folder / "list.cose").write_bytes(sign_key_list(root, 1, keys))
    plate = encode_nameplate(Nameplate("hive-scale", "comb-s1", "app", "2.4.0", 4))
    (folder / "old.bin").write_bytes(plate + b"\x5a\xa5" * 8000)
    code = herald.codes.make(CodeIn(board="comb-s1", line="hive-scale", uses=DEVICES)).code
    scenario = folder / "fleet.toml"
    scenario.write_text(SCENARIO.format(code=code, check_in=CHECK_IN_S, devices=DEVICES))
    command = [sys.executable, "-m", "mellow_herald.cli.main", "sim", "run", str(scenario), "--url", url]
    process = subprocess.Popen(
        [*command, "--data-dir", str(folder / "flash")],
        stdout=subprocess.DEVNULL,
        preexec_fn=lambda: os.sched_setaffinity(0, {core}),
    )
    try:
        where = 'serial ~ "TA-*" and presence = online'
        deadline = time.monotonic() + 300
        while (online := herald.devices.list(where=where, limit=1).total or 0) < DEVICES:
            if process.poll() is not None or time.monotonic() > deadline:
                raise RuntimeError(f"only {online} of {DEVICES} simulated devices came on-line")
            time.sleep(1)
        used, (began, calls) = _cpu_of(process.pid), _checkins(herald)
        time.sleep(WATCHED_S)
        busy = (_cpu_of(process.pid) - used) / WATCHED_S
        ended, more = _checkins(herald)
        rate = (more - calls) / (ended - began)
        still = herald.devices.list(where=where, limit=1).total or 0
        if still < DEVICES:
            raise RuntimeError(f"{DEVICES - still} devices fell behind their interval")
        peak = peak_of(process.pid)
    finally:
        process.terminate()
        process.wait(30)
    expected = DEVICES / CHECK_IN_S
    return [
        Figure("5,000 simulated devices in one process: memory ÷ 0.3 GiB", peak / MOST, "<= 1", {"MB": peak / 2**20}),
        Figure(
            "5,000 simulated devices at 60 s on one core: check-ins ÷ those due",
            rate / expected,
            ">= 0.98",
            {"check-ins a second": rate, "% of the core": 100 * busy},
        ),
    ]


def _checkins(herald: Herald) -> tuple[float, float]:
    """All calls that simulated devices made so far, by the numbers that they count themselves, and when that was: the
    middle of reading them."""
    before = time.monotonic()
    total = sum(device.seq or 0 for device in herald.devices.each(where='serial ~ "TA-*"'))
    return (before + time.monotonic()) / 2, float(total)


def _cpu_of(pid: int) -> float:
    """Seconds of CPU that a process has used."""
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")
