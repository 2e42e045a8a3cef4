"""What tests that start real processes need: a port that nobody has, and a folder that every user can enter."""

import random
import socket
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

# Below those that the system gives to whoever calls somebody: one of these stays free until it is listened at.
PORTS = range(12_000, 32_000)


def free_port() -> int:
    """A port of this machine that is free just now."""
    while True:
        port = random.SystemRandom().choice(PORTS)
        with socket.socket() as probe, suppress(OSError):
            probe.bind(("127.0.0.1", port))
            return port


@contextmanager
def open_folder() -> Iterator[Path]:
    """A folder that the user postgres can enter."""
    with tempfile.TemporaryDirectory(prefix="herald-flight-") as name:
        Path(name).chmod(0o755)
        yield Path(name)
