"""The stand-in's HTTP side: docs/radio-network.md, as a real network's connector would speak it."""

import asyncio
import hmac
import json
import threading
from collections.abc import Callable, Coroutine, Iterator
from contextlib import contextmanager
from datetime import datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, urlsplit

from mellow_herald.core.radio.air import CHANNELS
from mellow_herald.sim.radio.network import RadioNetwork, RefusedBySenderError

PREFIX = "/radio/v1"
LARGEST_BODY = 16_384


@contextmanager
def serve_network(network: RadioNetwork, host: str, port: int, token: str | None = None) -> Iterator[int]:
    """Serves a network's interface while it lasts; yields the port."""
    loop = asyncio.get_running_loop()

    def ask(work: Coroutine[Any, Any, Any]) -> Any:
        return asyncio.run_coroutine_threadsafe(work, loop).result()

    class Handler(_Handler):
        calls = _Calls(network, ask)
        wanted = token

    server = ThreadingHTTPServer((host, port), Handler)
    server.daemon_threads = True
    thread = threading.Thread(target=server.serve_forever, args=(0.1,), daemon=True)
    thread.start()
    try:
        yield server.server_address[1]
    finally:
        threading.Thread(target=server.shutdown, daemon=True).start()
        server.server_close()


class _Calls:
    """What can be asked of a network, whose affairs are those of one event loop."""

    def __init__(self, network: RadioNetwork, ask: Callable[[Coroutine[Any, Any, Any]], Any]) -> None:
        self._network, self._ask = network, ask

    def answer(self, method: str, path: list[str], query: dict[str, str], body: dict[str, Any]) -> Any:
        """The answer to a call, as JSON."""
        match method, path:
            case "GET", ["network"]:
                return self._ask(self._show())
            case "GET", ["uplinks"]:
                return self._ask(self._uplinks(query))
            case "PUT", ["downlinks", eui]:
                return self._ask(self._put(eui, int(body["port"]), bytes.fromhex(body["payload"])))
            case "DELETE", ["downlinks", eui]:
                return self._ask(self._put(eui, 0, b""))
            case "POST", ["transmissions"]:
                return self._ask(self._send(body))
            case "DELETE", ["transmissions"]:
                return self._ask(self._withdraw())
        raise RefusedBySenderError(404, "not-found", "There is no such call. docs/radio-network.md lists them.")

    async def _show(self) -> dict[str, Any]:
        network, channel = self._network, CHANNELS[self._network.region]
        return {
            "region": network.region,
            "frequency": channel.frequency,
            "duty": channel.duty,
            "time": None if network.now is None else network.now.isoformat(),
            "run": network.run_name,
            "receive_delay": network.receive_delay_s,
        }

    async def _uplinks(self, query: dict[str, str]) -> dict[str, Any]:
        # A number of another run is none of this one's.
        after = int(query.get("after", "0")) if query.get("run") == self._network.run_name else 0
        heard = await self._network.uplinks_after(after, float(query.get("wait", "0")))
        rows = [
            {
                "number": one.number,
                "eui": one.eui,
                "port": one.port,
                "payload": one.payload.hex(),
                "at": one.at.isoformat(),
                "data_rate": one.data_rate,
                "rssi": one.rssi,
            }
            for one in heard
        ]
        return {"run": self._network.run_name, "uplinks": rows}

    async def _put(self, eui: str, port: int, payload: bytes) -> dict[str, Any]:
        self._network.put_downlink(eui, port, payload)
        return {"waiting": bool(payload)}

    async def _send(self, body: dict[str, Any]) -> dict[str, Any]:
        not_before = None if body.get("not_before") is None else datetime.fromisoformat(body["not_before"])
        payloads = [bytes.fromhex(one) for one in body["payloads"]]
        frequency, rate = int(body["frequency"]), int(body["data_rate"])
        frames = self._network.put_frames(payloads, frequency, rate, not_before)
        return {"number": frames[-1].number, "begins_at": frames[-1].not_before.isoformat()}

    async def _withdraw(self) -> dict[str, Any]:
        return {"withdrawn": self._network.withdraw()}


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    calls: _Calls
    wanted: str | None

    def do_GET(self) -> None:
        self._serve()

    def do_PUT(self) -> None:
        self._serve()

    def do_POST(self) -> None:
        self._serve()

    def do_DELETE(self) -> None:
        self._serve()

    def _serve(self) -> None:
        try:
            body = self._body()
            self._check_token()
            parts = urlsplit(self.path)
            if not parts.path.startswith(PREFIX + "/"):
                raise RefusedBySenderError(404, "not-found", "There is no such call.")
            query = {name: values[-1] for name, values in parse_qs(parts.query).items()}
            path = parts.path.removeprefix(PREFIX + "/").split("/")
            self._answer(200, self.calls.answer(self.command, path, query, body))
        except RefusedBySenderError as refused:
            self._refuse(refused.status, refused.kind, refused.detail)
        except (KeyError, ValueError, TypeError) as error:
            self._refuse(422, "bad-values", f"The call cannot be read: {error!r}.")

    def _body(self) -> dict[str, Any]:
        length = int(self.headers.get("content-length") or 0)
        if length > LARGEST_BODY:
            self.close_connection = True
            raise RefusedBySenderError(413, "too-large", f"A body has at most {LARGEST_BODY} bytes.")
        data = self.rfile.read(length)
        body = json.loads(data) if data else {}
        if not isinstance(body, dict):
            raise ValueError("a JSON object is expected")
        return body

    def _check_token(self) -> None:
        given = self.headers.get("authorization", "")
        if self.wanted is not None and not hmac.compare_digest(given.encode(), f"Bearer {self.wanted}".encode()):
            raise RefusedBySenderError(401, "bad-token", "The token is missing or wrong.")

    def _refuse(self, status: int, kind: str, detail: str) -> None:
        problem = {"type": f"urn:problem-type:{kind}", "title": kind, "status": status, "detail": detail}
        self._answer(status, problem, "application/problem+json")

    def _answer(self, status: int, body: Any, kind: str = "application/json") -> None:
        data = json.dumps(body).encode()
        self.send_response(status)
        self.send_header("content-type", kind)
        self.send_header("content-length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    def log_message(self, format: str, *args: Any) -> None:
        """Nobody reads along."""
