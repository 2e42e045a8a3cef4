"""What only one service may have at a time: a data folder, and a port."""

import fcntl
import json
import os
import socket
from datetime import UTC, datetime
from pathlib import Path
from typing import IO


class TakenError(RuntimeError):
    """Somebody else has it; the text says who, and what to do."""


def hold_folder(folder: Path) -> IO[str]:
    """Takes a data folder for as long as the file that is returned is open, or this process lives. The folder is made
    if it is new, and is nobody else's to read."""
    folder.mkdir(parents=True, exist_ok=True)
    # Others may pass through, to where PostgreSQL's own user has its files, but see nothing.
    folder.chmod(0o711 if os.geteuid() == 0 else 0o700)
    file = (folder / "lock").open("a+")
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        file.seek(0)
        raise TakenError(
            f"the data folder {folder} is in use by {_holder(file.read())}."
            " Stop that service, or choose another --data-dir."
        ) from None
    file.seek(0)
    file.truncate()
    file.write(json.dumps({"pid": os.getpid(), "since": f"{datetime.now(UTC):%Y-%m-%d %H:%M:%S}"}))
    file.flush()
    return file


def hold_port(port: int) -> socket.socket | None:
    """Keeps other services from a port until it is listened at, which is only when the database is there; until then
    the system lets several bind it. Abstract names end with the process."""
    if port == 0:
        return None
    mark = socket.socket(socket.AF_UNIX)
    try:
        mark.bind(f"\0mellow-herald port {port}")
    except OSError:
        mark.close()
        raise TakenError(f"port {port} is in use by another service. Choose another: --port {port + 1}") from None
    return mark


def _holder(text: str) -> str:
    try:
        said = json.loads(text)
        return f"process {said['pid']} since {said['since']} UTC"
    except (ValueError, KeyError, TypeError):
        return "another process"
