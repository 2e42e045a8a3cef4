"""What devices and people said, on its way to the terminal: text, and nothing but text.

All of it comes through the client's transport, so it is looked through there, once, whatever prints it afterwards.
"""

import json
import re
from collections.abc import Iterator
from typing import Any

import httpx

from mellow_herald.core.visible import OBEYED, visible

# What has lines of its own.
OF_LINES = frozenset({"notes", "log", "trusted"})
PROSE = ("text/markdown", "text/plain")
# As JSON writes it: raw, or by its number, or by a letter.
_IN_JSON = re.compile(rf"{OBEYED.pattern}|\\[bfnrt]|\\u(00[0189]|007f|061c|20[026]|feff)", re.IGNORECASE)


class VisibleTransport(httpx.BaseTransport):
    """Around another transport: what it answers in JSON or prose, and its events, have no character that a terminal
    obeys."""

    def __init__(self, inner: httpx.BaseTransport) -> None:
        self._inner = inner

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        response = self._inner.handle_request(request)
        kind = response.headers.get("content-type", "")
        if "json" in kind or kind.startswith(PROSE):
            said = response.read()
            body = _cleaned(said) if "json" in kind else visible(said.decode(errors="replace"), keep="\n").encode()
            headers = [(n, v) for n, v in response.headers.items() if n not in ("content-length", "content-encoding")]
            return httpx.Response(response.status_code, headers=headers, content=body, extensions=response.extensions)
        if kind.startswith("text/event-stream"):
            assert isinstance(response.stream, httpx.SyncByteStream)
            response.stream = _Events(response.stream)
        return response

    def close(self) -> None:
        self._inner.close()


class _Events(httpx.SyncByteStream):
    """Server-Sent Events, line by line."""

    def __init__(self, inner: httpx.SyncByteStream) -> None:
        self._inner = inner

    def __iter__(self) -> Iterator[bytes]:
        rest = b""
        for piece in self._inner:
            *lines, rest = (rest + piece).split(b"\n")
            if lines:
                yield b"".join(_event_line(line) + b"\n" for line in lines)
        yield rest

    def close(self) -> None:
        self._inner.close()


def _event_line(line: bytes) -> bytes:
    return b"data: " + _cleaned(line[5:]) if line.startswith(b"data:") else line


def _cleaned(body: bytes) -> bytes:
    text = body.decode(errors="replace")
    if not _IN_JSON.search(text):
        return body
    try:
        return json.dumps(_clean(json.loads(text), ""), ensure_ascii=False).encode()
    except ValueError:  # not JSON whatever it says of itself; who reads it will say so
        return visible(text, keep="\n").encode()


def _clean(value: Any, name: str) -> Any:
    if isinstance(value, str):
        return visible(value, keep="\n\t" if name in OF_LINES else "")
    if isinstance(value, dict):
        return {visible(key): _clean(one, key) for key, one in value.items()}
    if isinstance(value, list):
        return [_clean(one, name) for one in value]
    return value
