"""What a supervisor is told (sd_notify(3)): that the service is ready, that it lives, that it stops. Nothing where none
asks for it: the address to write to is in ``NOTIFY_SOCKET``."""

import contextlib
import os
import socket
import time


class Supervisor:
    """The one that started us, if it wants to know."""

    def __init__(self) -> None:
        # Not for those that we start: PostgreSQL would tell of itself.
        self._address = os.environ.pop("NOTIFY_SOCKET", "")
        # Half as often as it gives up on us, as the manual has it.
        self._every = int(os.environ.get("WATCHDOG_USEC", "0")) / 2e6
        self._told = 0.0

    def ready(self) -> None:
        """Callers are served from now on."""
        self._tell("READY=1")

    def stops(self) -> None:
        """It was asked to stop, and does."""
        self._tell("STOPPING=1")

    def lives(self) -> None:
        """Call it often; it is passed on as often as it is wanted."""
        if self._every and time.monotonic() - self._told >= self._every:
            self._told = time.monotonic()
            self._tell("WATCHDOG=1")

    def _tell(self, word: str) -> None:
        if not self._address:
            return
        # An address that begins with @ is an abstract one.
        address = "\0" + self._address[1:] if self._address.startswith("@") else self._address
        # One that has gone away is no reason to end.
        with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as out, contextlib.suppress(OSError):
            out.sendto(word.encode(), address)
