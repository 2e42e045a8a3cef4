"""A device's calls to the service: the protocol, nothing of the device's own affairs."""

import asyncio
import json
import random
from collections.abc import AsyncIterator, Awaitable, Callable, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass
from typing import Any, Protocol
from urllib.parse import urlsplit

from mellow_herald.sim.http import ANSWER_S, Connections, LostError, Reply
from mellow_herald.sim.service_time import ServiceTime
from mellow_herald.wire.device import CheckinIn, EnrolmentIn, EnrolmentOut, OrderOut

API = "/device/v1"
TEMPORARY_REDIRECT = 307
FIRST_PAUSE, LONGEST_PAUSE = 1.0, 60.0


Carry = Callable[[int], Awaitable[bool]]


class RefusedCallError(Exception):
    """The service said no (4xx): trying the same again is of no use."""

    def __init__(self, status: int, kind: str, detail: str) -> None:
        super().__init__(detail)
        self.status, self.kind, self.detail = status, kind, detail


class NoAnswerError(Exception):
    """No answer, or one that asks for patience (``answered``); ``wait`` is real seconds if the service said so."""

    def __init__(self, wait: float | None = None, *, answered: bool = False) -> None:
        super().__init__("no answer")
        self.wait, self.answered = wait, answered


class Calls(Protocol):
    """What a device can ask of the service, by whatever link it has."""

    token: str | None

    async def enrol(self, asked: EnrolmentIn, /) -> EnrolmentOut: ...
    async def checkin(self, checkin: CheckinIn, wait_s: int = 0, /) -> OrderOut: ...
    async def report(self, reports: list[dict[str, Any]]) -> OrderOut: ...
    async def logs(self, lines: list[dict[str, Any]]) -> None: ...
    async def keys(self) -> bytes: ...
    async def manifest(self, digest: str) -> bytes: ...
    def image(self, uri: str, have: int) -> AsyncIterator[bytes]: ...


class Backoff:
    """Growing pauses with jitter, in real seconds."""

    def __init__(self, rng: random.Random) -> None:
        self._rng, self._tries = rng, 0

    def reset(self) -> None:
        """The call went through."""
        self._tries = 0

    async def pause(self, error: NoAnswerError) -> None:
        """Waits before the next try."""
        grown = min(LONGEST_PAUSE, FIRST_PAUSE * 2**self._tries)
        self._tries += 1
        # Not before it was asked to come again.
        await asyncio.sleep((error.wait or grown / 2) + grown / 2 * self._rng.uniform(0.0, 1.0))


@dataclass(frozen=True, slots=True)
class Said:
    """What the service answered."""

    status: int
    headers: dict[str, str]
    content: bytes


class Uplink:
    """The calls of one device, over connections that all devices of a process share. ``carry`` is its
    link: it takes the time for so many bytes, and says whether they arrived."""

    def __init__(self, http: Connections, time: ServiceTime, carry: Carry) -> None:
        self._http, self._time, self._carry = http, time, carry
        self.token: str | None = None

    async def enrol(self, said: EnrolmentIn) -> EnrolmentOut:
        """The first call."""
        response = await self._call("POST", "/enrolments", said.model_dump_json())
        return EnrolmentOut.model_validate_json(response.content)

    async def checkin(self, said: CheckinIn, wait_s: int = 0) -> OrderOut:
        """Says what the device runs; returns the order that stands, if any. With ``wait_s`` (real seconds) the service
        may hold the call open until there is one."""
        body = said.model_dump_json(exclude_none=True)
        return self._order(await self._call("POST", "/checkins", body, wait_s))

    async def report(self, reports: list[dict[str, Any]]) -> OrderOut:
        """Sends reports; returns the order that stands, if any."""
        response = await self._call("POST", "/reports", json.dumps({"reports": reports}))
        return self._order(response)

    async def logs(self, lines: list[dict[str, Any]]) -> None:
        """Sends log lines that were asked for."""
        await self._call("POST", "/logs", json.dumps({"lines": lines}))

    async def readings(self, body: bytes, *, packed: bool) -> int:
        """Sends readings, maybe packed by gzip; returns how many values were taken."""
        return int(json.loads((await self._call("POST", "/readings", body, packed=packed)).content)["taken"])

    async def announce_recording(self, number: int, said: dict[str, Any]) -> int:
        """Says what there is of a recording; returns from which byte on it is wanted."""
        answer = await self._call("POST", f"/recordings/{number}", json.dumps(said))
        return int(json.loads(answer.content)["have"])

    async def recording_part(self, number: int, at: int, part: bytes, total: int) -> tuple[int, bool]:
        """Sends bytes of a recording, from ``at`` on; returns from where to go on, and whether all are there."""
        span = ("content-range", f"bytes {at}-{at + len(part) - 1}/{total}")
        answer = json.loads((await self._call("PUT", f"/recordings/{number}", part, more=[span])).content)
        return int(answer["have"]), bool(answer["complete"])

    async def keys(self) -> bytes:
        """The key list in force."""
        return (await self._call("GET", "/keys")).content

    async def manifest(self, digest: str) -> bytes:
        """The signed envelope without payloads."""
        return (await self._call("GET", f"/manifests/{digest}")).content

    async def image(self, uri: str, have: int) -> AsyncIterator[bytes]:
        """The bytes of an image from offset ``have`` on."""
        digest = uri.rpartition("/")[2]
        headers = self._headers()
        if have:
            headers += [("range", f"bytes={have}-"), ("if-range", f'"{digest}"')]
        if not await self._carry(0):
            raise NoAnswerError
        try:
            async with self._image_at(f"{API}/{uri}", headers) as reply:
                if reply.status not in (200, 206):
                    self._check(Said(reply.status, reply.headers, await reply.read()))
                if have and reply.status != 206:
                    raise RefusedCallError(200, "no-range", "the service did not go on where the transfer broke off")
                async for piece in reply.pieces():
                    yield piece
        except LostError:
            raise NoAnswerError from None

    @asynccontextmanager
    async def _image_at(self, path: str, headers: list[tuple[str, str]]) -> AsyncIterator[Reply]:
        """The answer with an image's bytes: the service's own, or that of the object store which it sends a device to.
        There the token is nobody's business, and the address names these bytes and no others."""
        async with self._http.call("GET", path, headers) as reply:
            if reply.status != TEMPORARY_REDIRECT:
                yield reply
                return
            self._time.learn(reply.headers)
            await reply.read()
        place = urlsplit(reply.headers.get("location", ""))
        there = Connections(f"{place.scheme}://{place.netloc}")
        ranges = [(name, value) for name, value in headers if name == "range"]
        try:
            async with there.call("GET", f"{place.path}?{place.query}", ranges) as elsewhere:
                yield elsewhere
        finally:
            there.close()

    def _headers(self) -> list[tuple[str, str]]:
        return [("authorization", f"Bearer {self.token}")] if self.token else []

    async def _call(
        self,
        method: str,
        path: str,
        body: str | bytes = "",
        wait_s: int = 0,
        *,
        packed: bool = False,
        more: Sequence[tuple[str, str]] = (),
    ) -> Said:
        if not await self._carry(len(body)):
            raise NoAnswerError
        headers = [*self._headers(), ("content-type", "application/json"), *more]
        if packed:
            headers.append(("content-encoding", "gzip"))
        if wait_s:
            headers.append(("prefer", f"wait={wait_s}"))
        try:
            sent = body.encode() if isinstance(body, str) else body
            async with self._http.call(method, API + path, headers, sent, answer_s=ANSWER_S + wait_s) as reply:
                response = Said(reply.status, reply.headers, await reply.read())
        except LostError:
            raise NoAnswerError from None
        self._check(response)
        return response

    def _check(self, response: Said) -> None:
        self._time.learn(response.headers)
        if response.status < 300:
            return
        if response.status == 429 or response.status >= 500:
            said = response.headers.get("retry-after", "")
            raise NoAnswerError(float(said) if said.isdigit() else None, answered=True)
        try:
            problem = json.loads(response.content)
        except ValueError:
            problem = {}
        kind = str(problem.get("type", "")).rpartition(":")[2]
        raise RefusedCallError(response.status, kind, str(problem.get("detail", "")))

    def _order(self, response: Said) -> OrderOut:
        if response.status == 204:
            return OrderOut(next_checkin_s=int(response.headers.get("herald-next-checkin", "300")))
        return OrderOut.model_validate_json(response.content)
