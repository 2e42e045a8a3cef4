"""How long short commands take, from the start of their process to its end."""

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from bench.checkins import PASSWORD, free_port, running
from bench.figure import Figure

ROUNDS = 9
HERALD = (sys.executable, "-m", "mellow_herald.cli.main")


def measure() -> list[Figure]:
    """The median of each, beside a service that has nothing else to do."""
    with tempfile.TemporaryDirectory(prefix="herald-bench-") as name:
        folder, port = Path(name), free_port()
        folder.chmod(0o755)
        url = f"http://127.0.0.1:{port}"
        signed_in = {"HERALD_URL": url, "HERALD_CREDENTIALS": str(folder / "credentials.json")}
        environment = {**os.environ, **signed_in, "HERALD_PASSWORD": PASSWORD}
        with running(["-m", "mellow_herald.cli.main", "serve", "--data-dir", name, "--port", str(port)], None, port):
            subprocess.run([*HERALD, "sign-in", "--name", "admin"], env=environment, check=True, capture_output=True)
            helped, listed = (_seconds(words, environment) for words in (["--help"], ["device", "list"]))
            checked = _seconds(["rollout", "check", "examples/plans/everyone.toml"], environment)
    return [
        Figure("herald --help (s)", helped, "<= 0.2", {"ms": 1000 * helped}),
        Figure("herald device list (s)", listed, "<= 0.5", {"ms": 1000 * listed}),
        Figure("herald rollout check FILE (s)", checked, "<= 0.3", {"ms": 1000 * checked}),
    ]


def _seconds(words: list[str], environment: dict[str, str]) -> float:
    took = []
    for _ in range(ROUNDS):
        began = time.perf_counter()
        subprocess.run([*HERALD, *words], env=environment, check=True, capture_output=True)
        took.append(time.perf_counter() - began)
    return statistics.median(took)
