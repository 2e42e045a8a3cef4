"""The calls of the device protocol as plain routes: every microsecond here is paid by every check-in."""

import asyncio
import random
import time
from collections.abc import Awaitable, Callable, Iterable
from datetime import datetime
from typing import Any

from pydantic import BaseModel, ValidationError
from starlette.requests import ClientDisconnect, Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from mellow_herald.core.digest import is_digest
from mellow_herald.core.limits import LARGEST_INTEGER
from mellow_herald.core.manifest import join_envelope
from mellow_herald.core.pauses import Pauses
from mellow_herald.core.rhythm import SPREAD
from mellow_herald.service.answers import NOT_KEPT, TimeHeaders, mark, time_headers
from mellow_herald.service.calls.enrolment import enrol
from mellow_herald.service.calls.glance import Glance, glance_at
from mellow_herald.service.calls.images import has_it, serve_image
from mellow_herald.service.calls.intake import Intake
from mellow_herald.service.calls.logs import take_lines
from mellow_herald.service.calls.packages import MOST_BYTES, serve_package
from mellow_herald.service.calls.reported import read_reports
from mellow_herald.service.clock import Clock
from mellow_herald.service.context import Context
from mellow_herald.service.figures import HELD, Figures
from mellow_herald.service.problems import ProblemError, fault, problem_for, too_many
from mellow_herald.service.readings.recordings import announce, take_part
from mellow_herald.service.readings.taking import ReadingsIntake, read_message
from mellow_herald.service.releases.package import Packages
from mellow_herald.service.room import Room
from mellow_herald.service.tasks import woken
from mellow_herald.service.waiting import preferred_wait
from mellow_herald.store import keys, releases
from mellow_herald.wire.device import CheckinIn, EnrolmentIn, LogsIn, OrderOut
from mellow_herald.wire.recordings import RecordingSaid
from mellow_herald.wire.release import ENVELOPE_MEDIA_TYPE

PREFIX = "/device/v1"
CHECKINS = f"{PREFIX}/checkins"
BODY_LIMIT = 512 * 1024
KEY_LIST_MEDIA_TYPE = "application/cose"
ENROL_AT_ONCE, ENROL_QUEUE = 4, 500
SOONEST_AGAIN_S = 0.5
Endpoint = Callable[[Request], Awaitable[Response]]


class HotPaths:
    """Around the whole application: takes the calls that make up nearly all of the traffic past the framework's own
    layers, which cost as much as the work."""

    def __init__(self, app: ASGIApp, devices: "DeviceApi", clock: Clock, figures: Figures) -> None:
        self._app, self._devices, self._clock, self._figures = app, devices, clock, figures
        self._endpoints = devices.hot_paths()
        self._answering_at = TimeHeaders(clock)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Serves one call."""
        endpoint = self._endpoints.get(scope["path"]) if scope["type"] == "http" else None
        if endpoint is None or scope["method"] != "POST":
            await self._app(scope, receive, send)
            return
        began, route = time.perf_counter(), scope["path"]
        try:
            if route == CHECKINS:
                first = await receive()
                interval_s = self._devices.unchanged(scope["headers"], first, self._answering_at.now())
                if interval_s is not None:
                    await self._say_nothing(send, interval_s)
                    self._figures.note(route, 204, time.perf_counter() - began)
                    return
                receive = _again(first, receive)
            response = await endpoint(Request(scope, receive))
        except Exception as error:
            response = fault(error, route)
        if HELD in scope:  # a look at the answer's headers costs more
            route += HELD
        self._figures.note(route, response.status_code, time.perf_counter() - began)
        if response.status_code >= 400:  # the others have it: a look at all headers costs more than any one of them
            mark(response.headers, self._clock)
        await response(scope, receive, send)

    async def _say_nothing(self, send: Send, interval_s: int) -> None:
        headers = [(b"herald-next-checkin", b"%d" % _spread(interval_s)), *self._answering_at.headers]
        await send({"type": "http.response.start", "status": 204, "headers": headers})
        await send({"type": "http.response.body", "body": b""})


def _again(first: Message, receive: Receive) -> Receive:
    """Gives what was received already once more, and then what comes after it."""
    waiting = [first]

    async def received() -> Message:
        return waiting.pop() if waiting else await receive()

    return received


class DeviceApi:
    """The routes, with what they need."""

    def __init__(self, context: Context, intake: Intake, taking: ReadingsIntake) -> None:
        self._context, self._intake, self._taking = context, intake, taking
        self._packages = Packages(context, MOST_BYTES)
        self._wrong_codes = Pauses(free=100)
        # A whole fleet may enrol in one moment; check-ins are to have connections left.
        self._enrolling = Room(ENROL_AT_ONCE, ENROL_QUEUE)

    def routes(self) -> list[Route]:
        """The routes to add to the application."""
        calls = [
            ("/enrolments", self.enrolment, "POST"),
            ("/checkins", self.checkin, "POST"),
            ("/reports", self.reports, "POST"),
            ("/logs", self.logs, "POST"),
            ("/readings", self.readings, "POST"),
            ("/recordings/{number}", self.announce_recording, "POST"),
            ("/recordings/{number}", self.recording_part, "PUT"),
            ("/keys", self.keys, "GET"),
            ("/manifests/{digest}", self.manifest, "GET"),
            ("/images/{digest}", self.image, "GET"),
            ("/packages/{ticket}", self.package, "GET"),
        ]
        return [Route(PREFIX + path, _answering(call), methods=[method]) for path, call, method in calls]

    def hot_paths(self) -> dict[str, Endpoint]:
        """What nearly all calls call, by path, and what a whole new fleet calls in one moment; all are POSTs."""
        calls = {"/checkins": self.checkin, "/reports": self.reports, "/enrolments": self.enrolment}
        return {PREFIX + path: _answering(call) for path, call in calls.items()}

    def unchanged(self, headers: Iterable[tuple[bytes, bytes]], first: Message, at: datetime) -> int | None:
        """When a device may call again (s) whose check-in brings nothing new, if a glance at it can tell; ``first`` is
        the first message of its body."""
        if first["type"] != "http.request" or first.get("more_body"):
            return None
        credential = None
        for name, value in headers:
            if name == b"authorization" and credential is None:
                credential = value
            elif name == b"prefer":
                return None
        memory = self._context.memory
        device_id = memory.who(credential) if credential else None
        if device_id is not None:
            self._context.waiting.let_go(device_id)
        seen = None if device_id is None else glance_at(first.get("body", b""))
        return None if device_id is None or seen is None else memory.unchanged(device_id, seen, at)

    async def enrolment(self, request: Request) -> Response:
        address = request.client.host if request.client else "unknown"
        wait = self._wrong_codes.wait([address], time.monotonic())
        if wait > 0:
            raise too_many(wait)
        message = await _body(request, EnrolmentIn)
        try:
            async with self._enrolling.place():
                answer = await enrol(self._context, message)
        except ProblemError as problem:
            if problem.kind == "bad-code":
                self._wrong_codes.count([address], time.monotonic())
            raise
        # There is a token in it.
        return JSONResponse(answer.model_dump(mode="json", exclude_none=True), 201, {**self._time(), **NOT_KEPT})

    async def checkin(self, request: Request) -> Response:
        device_id = self._who_calls(request)
        body = await _bytes(request)
        message, seen = CheckinIn.model_validate_json(body), glance_at(body)
        wait_s = preferred_wait(request.headers.get("prefer", ""))
        if wait_s:
            request.scope[HELD] = True
            return await self._wait_for_order(device_id, message, seen, wait_s)
        return self._order(self._listening(device_id, message, await self._intake.checkin(device_id, message, seen)))

    async def _wait_for_order(self, device_id: int, message: CheckinIn, seen: Glance | None, wait_s: int) -> Response:
        """Holds a check-in open until an order stands or ``wait_s`` (real seconds) are over."""
        waiting = self._context.waiting
        deadline = time.monotonic() + wait_s
        with waiting.expect(device_id) as word:
            # Whoever is told of an order from here on sets the word, so none is missed between asking and waiting.
            while True:
                word.clear()
                order = await self._intake.checkin(device_id, message, seen)
                order = self._listening(device_id, message, order)
                said = order.order is not None or order.listen is not None or order.record is not None
                if not said and not waiting.superseded(word):
                    await self._hold(device_id, message, order.next_checkin_s, word, deadline)
                if said or waiting.superseded(word) or time.monotonic() >= deadline:
                    answer = self._order(order)
                    answer.headers["preference-applied"] = f"wait={wait_s}"
                    return answer

    def _listening(self, device_id: int, message: CheckinIn, order: OrderOut) -> OrderOut:
        """Tells a device what it is asked to send as readings, if it is not what it said that it was told last."""
        wishes = self._context.wishes
        order.listen = wishes.tell(device_id, message.listening, self._context.clock.now())
        order.record = wishes.tell_recording(device_id, message.recording)
        if order.listen is not None or order.record is not None:
            self._context.memory.forget(device_id)  # if this answer is lost, it says the same once more
        return order

    async def _hold(
        self, device_id: int, message: CheckinIn, interval_s: int, word: asyncio.Event, deadline: float
    ) -> None:
        """Waits for a word. A device that is held on the line is present: its last call is as old as this moment."""
        clock, memory = self._context.clock, self._context.memory
        again = max(SOONEST_AGAIN_S, interval_s / clock.scale / 2)
        while not word.is_set() and (left := deadline - time.monotonic()) > 0:
            await woken(word, min(left, again))
            memory.note_pulse(device_id, message, clock.now(), interval_s, interval_s)

    async def reports(self, request: Request) -> Response:
        device_id = self._who_calls(request)
        reported = read_reports(await _bytes(request))
        return self._order(await self._intake.reports(device_id, reported))

    async def logs(self, request: Request) -> Response:
        device_id = self._who_calls(request)
        message = await _body(request, LogsIn)
        await take_lines(self._context, device_id, message.lines)
        return Response(status_code=204, headers=self._time())

    async def readings(self, request: Request) -> Response:
        """Readings over time. The answer says what of them was not taken."""
        device_id = self._who(request)
        told = await self._taking.take(device_id, await read_message(request))
        return JSONResponse(told.model_dump(mode="json"), headers={**self._time(), **NOT_KEPT})

    async def announce_recording(self, request: Request) -> Response:
        """What a device has of a stretch that it is asked for."""
        device_id, number = self._who(request), _number(request)
        told = await announce(self._context, device_id, number, await _body(request, RecordingSaid))
        return JSONResponse(told.model_dump(mode="json"), headers={**self._time(), **NOT_KEPT})

    async def recording_part(self, request: Request) -> Response:
        """Bytes of a recording; the answer says from where on it is to go on."""
        told = await take_part(self._context, self._who(request), _number(request), request)
        return JSONResponse(told.model_dump(mode="json"), headers={**self._time(), **NOT_KEPT})

    async def keys(self, request: Request) -> Response:
        self._who_calls(request)
        async with self._context.engine.connect() as connection:
            row = await keys.newest_key_list(connection)
        if row is None:
            raise ProblemError(404, "not-found", "There is no key list yet.")
        return self._tagged(request, row["body"], str(row["number"]), KEY_LIST_MEDIA_TYPE)

    async def manifest(self, request: Request) -> Response:
        device_id, digest = self._who_calls(request), _digest(request)
        async with self._context.engine.connect() as connection:
            row = await releases.manifest_for_device(connection, device_id, digest)
        if row is None:
            raise ProblemError(403, "not-your-attempt", "No live attempt of this device names this manifest.")
        envelope = join_envelope(row["authentication"], row["manifest"])
        return self._tagged(request, envelope, digest, ENVELOPE_MEDIA_TYPE)

    async def image(self, request: Request) -> Response:
        """Bytes of an image, for who has a live attempt that names it."""
        device_id, digest = self._who_calls(request), _digest(request)
        async with self._context.engine.connect() as connection:
            allowed = await releases.image_for_device(connection, device_id, digest)
        if not allowed:
            raise ProblemError(403, "not-your-attempt", "No live attempt of this device names this image.")
        return await serve_image(self._context, request, digest, self._time())

    async def package(self, request: Request) -> Response:
        """A release file in one piece, for who was told by CoAP to fetch it here: the address is its leave."""
        return await serve_package(self._context, self._packages, request, self._time())

    def _tagged(self, request: Request, body: bytes, tag: str, kind: str) -> Response:
        """Something whose ``tag`` changes with it; 304 for who has it."""
        headers = {"etag": f'"{tag}"', "cache-control": "private, no-cache", **self._time()}
        if has_it(request, tag):
            return Response(status_code=304, headers=headers)
        return Response(body, headers=headers, media_type=kind)

    def _who(self, request: Request) -> int:
        device_id = self._context.memory.who(request.headers.get("authorization", "").encode("latin-1"))
        if device_id is None:
            raise ProblemError(401, "bad-token", "The device token is missing, wrong or revoked. Enrol again.")
        return device_id

    def _who_calls(self, request: Request) -> int:
        """The same, of a call that lets an older one go which is held open: all but what goes beside."""
        device_id = self._who(request)
        self._context.waiting.let_go(device_id)
        return device_id

    def _time(self) -> dict[str, str]:
        return time_headers(self._context.clock)

    def _nothing(self, interval_s: int) -> Response:
        headers = {"herald-next-checkin": str(_spread(interval_s)), **self._time(), **NOT_KEPT}
        return Response(status_code=204, headers=headers)

    def _order(self, order: OrderOut) -> Response:
        nothing = order.order is None and order.listen is None and order.record is None
        if nothing and not order.refused and not order.log:
            return self._nothing(order.next_checkin_s)
        order.next_checkin_s = _spread(order.next_checkin_s)
        body = order.model_dump(mode="json", by_alias=True, exclude_none=True)
        return JSONResponse(body, headers={**self._time(), **NOT_KEPT})


def _spread(seconds: int) -> int:
    """The interval with jitter."""
    return max(1, round(seconds * random.uniform(1 - SPREAD, 1 + SPREAD)))


def _number(request: Request) -> int:
    told = str(request.path_params["number"])
    # Of more digits than the largest has, nothing is even read.
    whole = told.isascii() and told.isdigit() and len(told) <= len(str(LARGEST_INTEGER))
    if not whole or int(told) > LARGEST_INTEGER:
        raise ProblemError(404, "not-found", "This device is asked for no such recording.")
    return int(told)


def _digest(request: Request) -> str:
    digest = str(request.path_params["digest"])
    if not is_digest(digest):
        raise ProblemError(422, "bad-digest", "A digest is written as 64 lower-case hex digits.")
    return digest


async def _body(request: Request, model: Any) -> Any:
    assert issubclass(model, BaseModel)
    return model.model_validate_json(await _bytes(request))


async def _bytes(request: Request) -> bytes:
    announced = request.headers.get("content-length", "0")
    if not announced.isdigit() or int(announced) > BODY_LIMIT:
        raise ProblemError(413, "too-large", f"The body may have at most {BODY_LIMIT} bytes.")
    body = bytearray()
    async for piece in request.stream():
        body += piece
        if len(body) > BODY_LIMIT:
            raise ProblemError(413, "too-large", f"The body may have at most {BODY_LIMIT} bytes.")
    return bytes(body)


def _answering(call: Endpoint) -> Endpoint:
    async def endpoint(request: Request) -> Response:
        try:
            return await call(request)
        except (ProblemError, ValidationError) as error:
            return problem_for(error, request.url.path)
        except ClientDisconnect:  # it hung up in the middle of its call; nobody hears the answer
            return Response(status_code=400)

    return endpoint
