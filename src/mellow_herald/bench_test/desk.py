"""A service for one device, in the memory of the run: it does what a station of the course tells it to."""

import asyncio
import base64
import json
import time
from collections.abc import Awaitable, Callable
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime
from hashlib import sha256
from typing import Any

from pydantic import ValidationError

from mellow_herald.bench_test.http import Request, Response, Server
from mellow_herald.bench_test.releases import Keys, Release
from mellow_herald.core.attempt import State
from mellow_herald.core.order import Order
from mellow_herald.wire.device import CheckinIn, EnrolmentIn, ReportIn, ReportsIn
from mellow_herald.wire.problem import MEDIA_TYPE, TYPE_PREFIX

API = "/device/v1/"
CHECK_IN_S, CLEARANCE_S = 10, 600
LONGEST_WAIT_S = 60
TOKEN = "bench-test-token"
# What a station puts before the desk's own answer; None lets that be given.
Before = Callable[[Request], Awaitable[Response | None]]


@dataclass(slots=True)
class Call:
    """A call that was made, and when (real seconds, of the run's clock)."""

    at: float
    request: Request
    checkin: CheckinIn | None = None
    reports: list[ReportIn] = field(default_factory=list)

    @property
    def what(self) -> str:
        """Its first path element: ``checkins``, ``images`` …"""
        return self.request.path.removeprefix(API).partition("/")[0]


@dataclass(slots=True)
class Attempt:
    """What the device was told last."""

    number: int
    release: Release
    try_number: int = 1
    order: Order | None = Order.FETCH
    clears: bool = True
    clearance: int | None = None
    cleared_at: float | None = None
    clearance_s: int = CLEARANCE_S
    states: list[str] = field(default_factory=list)
    reasons: list[str] = field(default_factory=list)


class Desk:
    """Answers the device. ``scale`` is how many service seconds pass in a real one; ``wrong`` gathers what is against
    the protocol whatever the station, in sentences."""

    def __init__(self, code: str, keys: Keys, scale: float) -> None:
        self.code, self.keys, self.scale = code, keys, scale
        self.calls: list[Call] = []
        self.wrong: list[str] = []
        self.attempt: Attempt | None = None
        self.before: Before | None = None
        self.enrolment: EnrolmentIn | None = None
        self.server = Server(self._answer)
        self._numbers, self._clearances = 0, 0
        self._last = (0, 0)

    # What stations use ----------------------------------------------------------------------------------------------

    def offer(self, release: Release, *, clears: bool = True) -> Attempt:
        """From now on the device is told to fetch a release; ``clears``: and to switch, once it has."""
        self._numbers += 1
        self.attempt = Attempt(self._numbers, release, clears=clears)
        return self.attempt

    def tell(self, attempt: Attempt, order: Order | None) -> None:
        """Another order stands."""
        attempt.order = order

    @property
    def last_checkin(self) -> CheckinIn | None:
        """The newest check-in."""
        return next((call.checkin for call in reversed(self.calls) if call.checkin is not None), None)

    @property
    def runs(self) -> str:
        """The digest of what runs, as the newest check-in says."""
        app = None if self.last_checkin is None else self.last_checkin.running.get("app")
        return "" if app is None else app.digest

    @property
    def stands_by(self) -> str:
        """The digest of what stands by, as the newest check-in says."""
        app = None if self.last_checkin is None else self.last_checkin.standby.get("app")
        return "" if app is None else app.digest

    # Calls ----------------------------------------------------------------------------------------------------------

    async def _answer(self, request: Request) -> Response:
        call = Call(time.monotonic(), request)
        if not request.path.startswith(API):
            return problem(404, "not-found", "There is nothing at this address.")
        self._read(call)
        self.calls.append(call)
        before = None if self.before is None else await self.before(request)
        response = before or await self._respond(call)
        response.headers.setdefault("Herald-Time", datetime.now(UTC).isoformat())
        response.headers.setdefault("Herald-Time-Scale", str(self.scale))
        return response

    def _read(self, call: Call) -> None:
        """Reads what was said, and notes what cannot be."""
        try:
            match call.what:
                case "checkins":
                    call.checkin = CheckinIn.model_validate_json(call.request.body)
                    self._in_order((call.checkin.boots, call.checkin.seq))
                case "reports":
                    call.reports = ReportsIn.model_validate_json(call.request.body).reports
        except ValidationError as error:
            self._note(error, f"{call.request.method} {call.what}")
        if call.what != "enrolments" and call.request.headers.get("authorization") != f"Bearer {TOKEN}":
            self.wrong.append(f"{call.request.method} {call.what} came without the token that it was given")

    def _note(self, error: ValidationError, what: str) -> None:
        first = error.errors()[0]
        place = ".".join(str(part) for part in first["loc"])
        self.wrong.append(f"{what}: {place}: {first['msg']}")

    def _in_order(self, said: tuple[int, int]) -> None:
        if said < self._last:
            before = f"boots {self._last[0]}, seq {self._last[1]}"
            self.wrong.append(f"a check-in said boots {said[0]}, seq {said[1]}, after one with {before}")
        self._last = max(self._last, said)

    async def _respond(self, call: Call) -> Response:
        match call.request.method, call.what:
            case "POST", "enrolments":
                return self._enrol(call.request)
            case "POST", "checkins":
                return await self._checked_in(call)
            case "POST", "reports":
                for report in call.reports:
                    self._take(report)
                return self._order(call)
            case "POST", "logs" | "readings":
                return Response(204)
            case "GET", "keys":
                return self._tagged(self.keys.key_list(), str(self.keys.number), "application/cose")
            case "GET", "manifests":
                return self._manifest(call.request)
            case "GET", "images":
                return self._image(call.request)
        return problem(404, "not-found", "There is nothing at this address.")

    def _enrol(self, request: Request) -> Response:
        try:
            said = EnrolmentIn.model_validate_json(request.body)
        except ValidationError as error:
            self._note(error, "POST enrolments")
            return problem(422, "bad-values", str(error.errors()[0]["msg"]))
        if said.code != self.code:
            return problem(403, "bad-code", "The enrolment code is not the one of this bench test.")
        if self.enrolment is not None and self.enrolment.nonce != said.nonce:
            self.wrong.append("it enrolled once more with another nonce; the same one gives the same token")
        self.enrolment = said
        return Response.of_json(201, {"device_id": 1, "token": TOKEN, "admission": "admitted"}, {})

    async def _checked_in(self, call: Call) -> Response:
        deadline = time.monotonic() + _preferred_wait(call.request.headers.get("prefer", ""))
        while (response := self._order(call)).status == 204 and (left := deadline - time.monotonic()) > 0:
            if not await self._more(call, left):
                break
        return response

    async def _more(self, call: Call, left: float) -> bool:
        """Waits for news while a call is held; False where a newer call lets it go."""
        await asyncio.sleep(min(left, 0.05))
        return not any(later.at > call.at for later in self.calls[-3:])

    def _order(self, call: Call) -> Response:
        attempt = self.attempt
        order = None if attempt is None else self._next(attempt, call.checkin)
        if attempt is None or order is None:
            return Response(204, {"Herald-Next-Checkin": str(CHECK_IN_S)})
        said: dict[str, Any] = {
            "order": order.value,
            "attempt": attempt.number,
            "try": attempt.try_number,
            "manifest": attempt.release.manifest,
            "trial_s": 30,
            "next_checkin_s": CHECK_IN_S,
        }
        if order is Order.SWITCH:
            said |= {
                "to": {"app": attempt.release.digest},
                "clearance": {"number": attempt.clearance, "seconds": attempt.clearance_s},
            }
        return Response.of_json(200, said, {})

    def _next(self, attempt: Attempt, checkin: CheckinIn | None) -> Order | None:
        """The order that stands, as the service's own would."""
        if attempt.order is not Order.FETCH or "failed" in attempt.states:
            return None if "failed" in attempt.states and attempt.order is Order.FETCH else attempt.order
        if attempt.cleared_at is not None and {"installing", "confirmed", "reverted"} & set(attempt.states):
            return None
        if "staged" not in attempt.states:
            return Order.FETCH
        if checkin is None or not checkin.ready or not attempt.clears:
            return Order.STAY
        self._clearances += 1
        attempt.clearance, attempt.cleared_at = self._clearances, time.monotonic()
        return Order.SWITCH

    def _take(self, report: ReportIn) -> None:
        attempt = self.attempt
        if report.attempt > self._numbers:
            self.wrong.append(f"it reported about attempt {report.attempt}, which no order named")
        if attempt is None or report.attempt != attempt.number:
            return  # of an earlier station, come late
        attempt.states.append(report.state.value)
        if report.reason is not None:
            attempt.reasons.append(report.reason)
        if report.state is State.INSTALLING:
            self._by_leave(attempt, report)
        if report.state is State.CONFIRMED and report.digests.get("app") != attempt.release.digest:
            self.wrong.append(f"it confirmed {report.digests.get('app')}, and the order's target is another")

    def _by_leave(self, attempt: Attempt, report: ReportIn) -> None:
        if attempt.cleared_at is None:
            self.wrong.append("it reported installing without a clearance")
        elif report.clearance != attempt.clearance:
            given = f"it was given number {attempt.clearance}"
            self.wrong.append(f"it reported installing with clearance {report.clearance}; {given}")
        elif (time.monotonic() - attempt.cleared_at) * self.scale > attempt.clearance_s + 5 * self.scale:
            self.wrong.append("it reported installing when its clearance had run out")

    def _manifest(self, request: Request) -> Response:
        attempt, digest = self.attempt, request.path.rpartition("/")[2]
        if attempt is None or digest != attempt.release.manifest or attempt.order is Order.ABANDON:
            return problem(403, "not-your-attempt", "No live attempt of this device names this manifest.")
        return self._tagged(attempt.release.envelope, digest, "application/suit-envelope+cose")

    def _image(self, request: Request) -> Response:
        attempt, digest = self.attempt, request.path.rpartition("/")[2]
        if attempt is None or digest != attempt.release.digest or attempt.order is Order.ABANDON:
            return problem(403, "not-your-attempt", "No live attempt of this device names this image.")
        return ranged(request, attempt.release.content, digest)

    def _tagged(self, body: bytes, tag: str, kind: str) -> Response:
        return Response(200, {"ETag": f'"{tag}"', "Content-Type": kind}, body)


def problem(status: int, kind: str, detail: str, **headers: str) -> Response:
    """A problem (RFC 9457)."""
    body = {"type": TYPE_PREFIX + kind, "title": kind, "status": status, "detail": detail}
    made = Response.of_json(status, body, {name.replace("_", "-"): value for name, value in headers.items()})
    made.headers["Content-Type"] = MEDIA_TYPE
    return made


def ranged(request: Request, content: bytes, tag: str) -> Response:
    """Bytes, whole or the one range that was asked for."""
    headers = {
        "ETag": f'"{tag}"',
        "Accept-Ranges": "bytes",
        "Content-Type": "application/octet-stream",
        "Repr-Digest": f"sha-256=:{base64.b64encode(sha256(content).digest()).decode()}:",
    }
    first, last = wanted_range(request, len(content))
    if first is None or request.headers.get("if-range", f'"{tag}"') != f'"{tag}"':
        return Response(200, headers, content)
    if first >= len(content):
        return problem(416, "no-such-range", f"The image has {len(content)} bytes.")
    headers["Content-Range"] = f"bytes {first}-{last}/{len(content)}"
    return Response(206, headers, content[first : last + 1])


def wanted_range(request: Request, size: int) -> tuple[int | None, int]:
    """The first range that a request asks for: first and last byte; None for the whole."""
    unit, _, spans = request.headers.get("range", "").partition("=")
    begin, _, end = spans.partition(",")[0].strip().partition("-")
    whole = all(one.isdecimal() or not one for one in (begin, end))
    if unit != "bytes" or not whole or not (begin or end):
        return None, size - 1
    if not begin:
        return max(0, size - int(end)), size - 1
    return int(begin), min(int(end) if end else size - 1, size - 1)


def nonce_of(request: Request) -> str:
    """The nonce of an enrolment; nothing where it cannot be read, which is noted elsewhere."""
    with suppress(ValueError, AttributeError):
        return str(json.loads(request.body).get("nonce"))
    return ""


def _preferred_wait(header: str) -> int:
    name, _, value = header.partition(";")[0].partition("=")
    return min(int(value), LONGEST_WAIT_S) if name.strip().lower() == "wait" and value.strip().isdigit() else 0
