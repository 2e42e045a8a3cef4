"""What both clients share: addresses, headers, and when a call is repeated."""

import asyncio
import os
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, ParamSpec, TypeVar

import httpx

from mellow_herald import __version__
from mellow_herald.client.calls import API, Call
from mellow_herald.client.errors import WaitedTooLongError

Arguments = ParamSpec("Arguments")
Result = TypeVar("Result")
DEFAULT_URL = "http://127.0.0.1:8410"
EVENTS = f"{API}/events"
TRIES = 3
PAUSE = 0.3
# From this many bytes on, a release file is sent only after its envelope was found good.
ASK_FIRST = 1024 * 1024
TIMEOUT = httpx.Timeout(30.0, connect=5.0)
# Longer than the feed's ping, so that a dead connection is noticed.
STREAM_READ_S = 40.0
STREAM_TIMEOUT = httpx.Timeout(5.0, read=STREAM_READ_S)
AGAIN = frozenset({429, 502, 503, 504})


def default_headers(token: str | None) -> dict[str, str]:
    """Headers of every call."""
    headers = {"user-agent": f"mellow-herald/{__version__}", "accept": "application/json"}
    if token:
        headers["authorization"] = f"Bearer {token}"
    return headers


def keyed(call: Call[object]) -> dict[str, Any]:
    """The arguments of ``httpx``'s ``build_request`` for a call."""
    return {
        "method": call.method,
        "url": call.path,
        "params": call.params,
        "headers": call.headers,
        "content": call.body,
    }


def streamed(call: Call[object], portions: Any, timeout_s: float | None) -> dict[str, Any]:
    """The same for a call whose body is a stream and whose answer may take its time (s)."""
    patient = {} if timeout_s is None else {"timeout": httpx.Timeout(timeout_s, connect=5.0)}
    return {**keyed(call), "content": portions, **patient}


class Patience:
    """How long a stream is followed: ``timeout`` seconds, None for ever."""

    def __init__(self, timeout: float | None, doing: str) -> None:
        self._doing, self._timeout = doing, timeout
        self._until = None if timeout is None else time.monotonic() + timeout

    def check(self) -> None:
        """Raises ``WaitedTooLongError`` once the time is over."""
        if self._until is not None and time.monotonic() >= self._until:
            raise WaitedTooLongError(f"it has not come to pass within {self._timeout:g} s", self._doing)

    @property
    def timeouts(self) -> httpx.Timeout:
        """How long one line of the stream is waited for."""
        if self._until is None:
            return STREAM_TIMEOUT
        left = max(0.05, self._until - time.monotonic())
        return httpx.Timeout(5.0, read=min(STREAM_READ_S, left))


def pause_before(attempt: int, response: httpx.Response | None = None) -> float:
    """Seconds to wait before try number ``attempt`` (from 2); ``Retry-After`` counts, up to 10 s."""
    asked = response.headers.get("retry-after", "") if response is not None else ""
    if asked.isdigit():
        return min(float(asked), 10.0)
    return float(PAUSE * 2 ** (attempt - 2))


async def pause_async(seconds: float) -> None:
    """Waits, and lets others go on."""
    await asyncio.sleep(seconds)


def pause(seconds: float) -> None:
    """Waits."""
    time.sleep(seconds)


async def in_thread(work: Callable[Arguments, Result], *args: Arguments.args, **kwargs: Arguments.kwargs) -> Result:
    """Does what takes its time, a disk's or the processor's, beside everything else."""
    return await asyncio.to_thread(work, *args, **kwargs)


def here(work: Callable[Arguments, Result], *args: Arguments.args, **kwargs: Arguments.kwargs) -> Result:
    """Does it at once: where nothing is awaited, nobody else waits."""
    return work(*args, **kwargs)


def credentials_file() -> Path:
    """Where ``herald sign-in`` keeps address and token."""
    home = os.environ.get("XDG_CONFIG_HOME") or "~/.config"
    return Path(os.environ.get("HERALD_CREDENTIALS") or Path(home).expanduser() / "mellow-herald" / "credentials.json")
