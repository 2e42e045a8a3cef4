"""What every answer carries, whatever it is: the service's time, and that nobody keeps it or takes it for what it is
not."""

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


def mark(headers: MutableHeaders, clock: Clock, *, ours: bool = True) -> None:
    """Puts the headers on."""
    for name, value in time_headers(clock).items():
        headers.setdefault(name, value)
    for name, value in NOT_KEPT.items():
        if ours or name != "cache-control":
            headers.setdefault(name, value)
