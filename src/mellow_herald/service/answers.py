"""What every answer carries, whatever it is: the service's time, and that nobody keeps it or takes it for what it is
not."""

import time
from datetime import datetime

from starlette.datastructures import MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from mellow_herald.service.clock import Clock

# The console's own files say for themselves how long they may be kept.
NOT_KEPT = {"cache-control": "no-store", "x-content-type-options": "nosniff"}
OURS = ("/api/", "/device/", "/health/", "/metrics")


class Answers:
    """Around the whole application."""

    def __init__(self, app: ASGIApp, clock: Clock) -> None:
        self._app, self._clock = app, clock

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Serves one call."""
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        ours = scope["path"].startswith(OURS)

        async def sending(message: Message) -> None:
            if message["type"] == "http.response.start":
                mark(MutableHeaders(scope=message), self._clock, ours=ours)
            await send(message)

        await self._app(scope, receive, sending)


def time_headers(clock: Clock) -> dict[str, str]:
    """Service time, and how fast it runs where that is not as fast as real time: devices go by both."""
    headers = {"herald-time": clock.now().isoformat()}
    if clock.scale != 1:
        headers["herald-time-scale"] = f"{clock.scale:g}"
    return headers


class TimeHeaders:
    """The time, and the headers of an answer to a device that is told nothing, both looked at anew every millisecond:
    to ask for the time costs more than all else in such an answer."""

    FOR_S = 0.001

    def __init__(self, clock: Clock) -> None:
        self._clock, self._read = clock, float("-inf")
        self._now: datetime
        self.headers: list[tuple[bytes, bytes]] = []

    def now(self) -> datetime:
        """Service time; ``headers`` tell it, too."""
        read = time.perf_counter()
        if read - self._read > self.FOR_S:
            self._read, self._now = read, self._clock.now()
            told = {**time_headers(self._clock), **NOT_KEPT}
            self.headers = [(name.encode(), value.encode()) for name, value in told.items()]
        return self._now


def mark(headers: MutableHeaders, clock: Clock, *, ours: bool = True) -> None:
    """Puts the headers on."""
    for name, value in time_headers(clock).items():
        headers.setdefault(name, value)
    for name, value in NOT_KEPT.items():
        if ours or name != "cache-control":
            headers.setdefault(name, value)
