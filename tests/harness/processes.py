"""What tests that start real processes need: a port that nobody has, and a folder that every user can enter."""

import socket
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


def free_port() -> int:
    """A port of this machine that is free just now."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


@contextmanager
def open_folder() -> Iterator[Path]:
    """A folder that the user postgres can enter."""
    with tempfile.TemporaryDirectory(prefix="herald-flight-") as name:
        Path(name).chmod(0o755)
        yield Path(name)
