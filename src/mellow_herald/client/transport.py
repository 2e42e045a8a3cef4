"""What both clients share: addresses, headers, and when a call is repeated."""

import os
from pathlib import Path
from typing import Any

import httpx

from mellow_herald import __version__
from mellow_herald.client.calls import API, Call

DEFAULT_URL = "http://127.0.0.1:8410"
EVENTS = f"{API}/events"
TRIES = 3
PAUSE = 0.3
# From this many bytes on, a release file is sent only after its envelope was found good.
ASK_FIRST = 1024 * 1024
TIMEOUT = httpx.Timeout(30.0, connect=5.0)
# Longer than the feed's ping, so that a dead connection is noticed.
STREAM_TIMEOUT = httpx.Timeout(5.0, read=40.0)
AGAIN = frozenset({429, 502, 503, 504})


def default_headers(token: str | None) -> dict[str, str]:
    """Headers of every call."""
    headers = {"user-agent": f"mellow-herald/{__version__}", "accept": "application/json"}
    if token:
        headers["authorization"] = f"Bearer {token}"
    return headers


def keyed(call: Call[Any]) -> dict[str, Any]:
    """The arguments of ``httpx``'s ``build_request`` for a call."""
    return {
        "method": call.method,
        "url": call.path,
        "params": call.params,
        "headers": call.headers,
        "content": call.body,
    }


def streamed(call: Call[Any], portions: Any, timeout_s: float | None) -> dict[str, Any]:
    """The same for a call whose body is a stream and whose answer may take its time (s)."""
    patient = {} if timeout_s is None else {"timeout": httpx.Timeout(timeout_s, connect=5.0)}
    return {**keyed(call), "content": portions, **patient}


def pause_before(attempt: int, response: httpx.Response | None = None) -> float:
    """Seconds to wait before try number ``attempt`` (from 2); ``Retry-After`` counts, up to 10 s."""
    said = response.headers.get("retry-after", "") if response is not None else ""
    if said.isdigit():
        return min(float(said), 10.0)
    return float(PAUSE * 2 ** (attempt - 2))


def credentials_file() -> Path:
    """Where ``herald sign-in`` keeps address and token."""
    home = os.environ.get("XDG_CONFIG_HOME") or "~/.config"
    return Path(os.environ.get("HERALD_CREDENTIALS") or Path(home).expanduser() / "mellow-herald" / "credentials.json")
