"""How much a large image costs in memory: peak RSS growth of client and service while 256 MB are published."""

import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

from bench.checkins import PASSWORD, free_port, running
from bench.figure import Figure

SIZE = 256 * 1024 * 1024
LIMIT = 64 * 1024 * 1024
# What the client does, in a process of its own: its peak before and after is what it took.
CLIENT = """
import json, resource, sys, time
from pathlib import Path
from mellow_herald.client import Herald
from mellow_herald.core.key_status import KeyStatus
from mellow_herald.core.keys import SigningKey, raw_public, sign_key_list
from mellow_herald.wire.board import BoardIn
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

url, password, image, small = sys.argv[1:]
root, key = Ed25519PrivateKey.generate(), Ed25519PrivateKey.generate()
peak = lambda: resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
with Herald(url) as herald:
    herald.people.sign_in("admin", password)
    token = herald.people.make_token().token
with Herald(url, token=token) as herald:
    keys = [SigningKey(raw_public(key), KeyStatus.ACTIVE, "bench")]
    herald.keys.publish(raw_public(root), sign_key_list(root, 1, keys))
    slots = [{"name": "app", "size": 2**20}, {"name": "files", "size": 2**30, "component": "assets"}]
    herald.boards.add(BoardIn(name="skep-g1", vendor_domain="thistledown.example", lines=["yard-gateway"], hw_revs=[1],
                              slots=slots))
    stated = {"line": "yard-gateway", "board": "skep-g1", "component": "assets", "floor": 1}
    herald.releases.publish(Path(small), key=key, version="1.0.0", stated={**stated, "version": "1.0.0"})
    print(json.dumps({"before": peak()}), flush=True)
    sys.stdin.readline()
    began = time.monotonic()
    herald.releases.publish(Path(image), key=key, version="2.0.0", stated={**stated, "version": "2.0.0"})
    print(json.dumps({"after": peak(), "seconds": time.monotonic() - began}), flush=True)
"""


def measure() -> list[Figure]:
    """One release of one image of 256 MB, after a small one has warmed both ends."""
    core = sorted(os.sched_getaffinity(0))[0]
    with tempfile.TemporaryDirectory(prefix="herald-bench-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        image, small = folder / "large.img", folder / "small.img"
        with image.open("wb") as file:
            for _ in range(SIZE >> 20):
                file.write(os.urandom(1 << 20))
        small.write_bytes(os.urandom(1 << 16))
        port = free_port()
        serve = ["-m", "mellow_herald.cli.main", "serve", "--data-dir", str(folder), "--port", str(port)]
        with running(serve, core, port) as service:
            url = f"http://127.0.0.1:{port}"
            client = subprocess.Popen(
                [sys.executable, "-c", CLIENT, url, PASSWORD, str(image), str(small)],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                text=True,
            )
            assert client.stdin is not None and client.stdout is not None
            before = json.loads(client.stdout.readline())["before"]
            service_before = peak_of(service.pid)
            client.stdin.write("\n")
            client.stdin.flush()
            said = json.loads(client.stdout.readline())
            client.wait(30)
            growth = {"client": said["after"] - before, "service": peak_of(service.pid) - service_before}
    return [
        Figure(
            f"publishing 256 MB: peak memory growth of the {end} ÷ 64 MB",
            grown / LIMIT,
            "<= 1",
            {"MB": grown / 2**20, "MB a second": SIZE / 2**20 / said["seconds"]},
        )
        for end, grown in growth.items()
    ]


def peak_of(pid: int) -> int:
    """The highest resident memory of a process so far, bytes."""
    for line in Path(f"/proc/{pid}/status").read_text().splitlines():
        if line.startswith("VmHWM:"):
            return int(line.split()[1]) * 1024
    raise RuntimeError("no such process")
