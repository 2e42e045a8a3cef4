"""Every error becomes a problem (RFC 9457) whose detail says what to do."""

import time
from collections.abc import Callable, Sequence
from dataclasses import asdict
from http import HTTPStatus
from math import ceil
from typing import Any

import structlog
from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from pydantic import BaseModel, ValidationError
from starlette.exceptions import HTTPException
from starlette.requests import ClientDisconnect
from starlette.responses import JSONResponse, Response

from mellow_herald.core.refusal import Refused
from mellow_herald.core.verdict import Check
from mellow_herald.store.trouble import ERRORS as DATABASE_ERRORS
from mellow_herald.store.trouble import is_away
from mellow_herald.wire.check import CheckOut
from mellow_herald.wire.problem import MEDIA_TYPE, TYPE_PREFIX, Problem

# Answers of an operation by status, as FastAPI takes them.
Responses = dict[int | str, dict[str, Any]]
log = structlog.get_logger()
_said_away = float("-inf")

STATUS_OF_REFUSAL = {
    "too-large": 413,
    "release-exists": 409,
    "key-list-not-newer": 409,
    "unknown-root": 409,
    "unknown-board": 422,
    "not-found": 404,
}
TITLES = {
    400: "The request cannot be read",
    401: "Not signed in",
    403: "Not allowed",
    404: "Not found",
    405: "Method not allowed",
    409: "In conflict with what is there",
    412: "Changed meanwhile",
    413: "Too large",
    415: "Unsupported media type",
    416: "No such range",
    422: "Not acceptable as it is",
    429: "Too many attempts",
    500: "The service failed",
    503: "Not serving right now",
    507: "No room",
}

# Of each status a kind that is answered with it, and what it says: what the API's description shows.
SHOWN = {
    400: ("bad-json", "Invalid JSON: EOF while parsing an object at line 1 column 12"),
    401: ("not-signed-in", "Sign in with `herald sign-in`, or at the console."),
    403: ("role-too-low", "This needs the role operator; yours are viewer."),
    404: ("not-found", "There is no device 'TA-S1-0007'."),
    405: ("method-not-allowed", "This address does not take that method."),
    409: ("wrong-state", "Rollout 4 is finished; only one that runs or is held can be halted."),
    412: ("changed-since", "Somebody changed it meanwhile. Look at it again."),
    413: ("too-large", "The body may have at most 524288 bytes."),
    415: ("wrong-media-type", "Send JSON or CBOR."),
    416: ("no-such-range", "The image has 20000 bytes."),
    422: ("bad-values", "target: the selector goes wrong at character 9"),
    429: ("too-many-attempts", "Too many failed attempts; try again in 30 s."),
    500: ("fault", "The service failed; its log says why."),
    503: ("database-away", "The service's database does not answer. Nothing was changed; make the same call again."),
    507: ("no-room", "There is no room for the image."),
}
# What devices are answered instead.
SHOWN_TO_DEVICES = {
    401: ("bad-token", "The device token is missing, wrong or revoked. Enrol again."),
    403: ("not-admitted", "The device is not admitted. Ask the engineer to admit it."),
    409: ("already-enrolled", "TA-S1-0007 is enrolled. An engineer must allow it to enrol again."),
    422: ("bad-values", "boots: Input should be greater than or equal to 0"),
}


class ProblemError(Exception):
    """Raised anywhere in the service to answer with a problem."""

    def __init__(self, status: int, kind: str, detail: str, headers: dict[str, str] | None = None) -> None:
        super().__init__(detail)
        self.status, self.kind, self.detail, self.headers = status, kind, detail, headers


def problem_response(
    status: int,
    kind: str,
    detail: str,
    instance: str | None = None,
    headers: dict[str, str] | None = None,
    checks: Sequence[Check] | None = None,
) -> Response:
    """The response for a problem."""
    title = TITLES.get(status) or HTTPStatus(status).phrase
    lines = None if checks is None else [CheckOut.model_validate(asdict(check)) for check in checks]
    body = Problem(type=TYPE_PREFIX + kind, title=title, status=status, detail=detail, instance=instance, checks=lines)
    return JSONResponse(body.model_dump(mode="json", exclude_none=True), status, headers, media_type=MEDIA_TYPE)


def describe_validation(errors: list[Any]) -> str:
    """One readable line for what Pydantic found wrong."""
    parts = []
    for error in errors[:5]:
        place = ".".join(str(part) for part in error["loc"] if part not in ("body", "query", "path"))
        message = error["msg"].removeprefix("Value error, ")
        parts.append(f"{place}: {message}" if place else message)
    more = f" (and {len(errors) - 5} more)" if len(errors) > 5 else ""
    return "; ".join(parts) + more


def problem_for(error: Exception, instance: str | None = None) -> Response:
    """The response for any exception that means bad input; others are re-raised."""
    match error:
        case ProblemError():
            return problem_response(error.status, error.kind, error.detail, instance, error.headers)
        case Refused():
            status = STATUS_OF_REFUSAL.get(error.kind, 422)
            checks = getattr(error, "checks", None)
            return problem_response(status, error.kind, str(error), instance, checks=checks)
        case RequestValidationError() | ValidationError():
            errors = list(error.errors())
            bad_json = any(e["type"] == "json_invalid" for e in errors)
            kind, status = ("bad-json", 400) if bad_json else ("bad-values", 422)
            return problem_response(status, kind, describe_validation(errors), instance)
        case HTTPException():
            kind = {404: "not-found", 405: "method-not-allowed"}.get(error.status_code, "bad-request")
            detail = {
                404: "There is nothing at this address. The API is described in /api/v1/openapi.json.",
                405: "This address does not take that method.",
            }.get(error.status_code, str(error.detail))
            headers = dict(error.headers) if error.headers else None
            return problem_response(error.status_code, kind, detail, instance, headers)
    raise error


def away() -> ProblemError:
    """What is answered while the database is."""
    detail = "The service's database does not answer. Nothing was changed; the same call can be made again."
    return ProblemError(503, "database-away", detail, {"Retry-After": "2"})


def too_many(wait: float) -> ProblemError:
    """What is answered to those who are to wait ``wait`` seconds after failures."""
    seconds = max(1, ceil(wait))
    detail = f"Too many failed attempts; try again in {seconds} s."
    return ProblemError(429, "too-many-attempts", detail, {"Retry-After": str(seconds)})


def brief(error: Exception) -> str:
    """An error in one line, without the statement it came of."""
    cause = getattr(error, "orig", None) or error
    said = str(cause).splitlines() or [""]
    return f"{type(error).__name__}: {said[0].rpartition('>: ')[2]}".rstrip(": ")


def say_trouble(event: str, error: Exception, **more: object) -> None:
    """Logs an error: a database that is away in one line, and once a second at most; anything else whole."""
    global _said_away
    if not is_away(error):
        log.error(event, exc_info=error, **more)
    elif time.monotonic() - _said_away >= 1:
        _said_away = time.monotonic()
        log.error(event, error=brief(error), **more)


def fault(error: Exception, instance: str) -> Response:
    """The response for what nobody foresaw, which goes to the log whole, and for a database that is away."""
    say_trouble("request failed", error, path=instance)
    if is_away(error):
        return problem_for(away(), instance)
    detail = "This is a fault of the service, not of the request. The log of the service says more."
    return problem_response(500, "fault", detail, instance)


def add_problem_handlers(app: FastAPI, allowed: Callable[[str], str]) -> None:
    """Registers the handlers; ``allowed`` tells which methods an address takes."""

    async def as_problem(request: Request, error: Exception) -> Response:
        answer = problem_for(error, request.url.path)
        if answer.status_code == 405:
            # What is not in the document is of the console.
            answer.headers["allow"] = allowed(request.url.path) or "GET, HEAD"
        return answer

    async def hung_up(request: Request, error: Exception) -> Response:
        return Response(status_code=400)  # nobody hears it

    async def unknown(request: Request, error: Exception) -> Response:
        return fault(error, request.url.path)

    async def maybe_away(request: Request, error: Exception) -> Response:
        if not is_away(error):
            raise error
        return fault(error, request.url.path)

    for bad_input in (ProblemError, Refused, RequestValidationError, HTTPException):
        app.add_exception_handler(bad_input, as_problem)
    for trouble in DATABASE_ERRORS:
        app.add_exception_handler(trouble, maybe_away)
    app.add_exception_handler(ClientDisconnect, hung_up)
    app.add_exception_handler(Exception, unknown)


def again(model: type[BaseModel]) -> Responses:
    """The ``responses`` of an operation that makes something, where it was made before: by the same
    ``Idempotency-Key``, or with the same name or bytes."""
    return {200: {"model": model, "description": "It was there already; this is how it stands now."}}


def problems(*statuses: int, to_devices: bool = False) -> Responses:
    """The ``responses`` of an operation that may answer with these problems; bad values, 401 and 503 (with
    ``Retry-After``) come by themselves."""
    answers: Responses = {}
    shown = SHOWN | (SHOWN_TO_DEVICES if to_devices else {})
    for status in sorted({400, 401, 403, 422, 503, *statuses}):
        kind, detail = shown[status]
        example = {"type": TYPE_PREFIX + kind, "title": TITLES[status], "status": status, "detail": detail}
        answers[status] = {
            "model": Problem,
            "description": TITLES[status],
            "content": {MEDIA_TYPE: {"schema": {"$ref": "#/components/schemas/Problem"}, "example": example}},
        }
    return answers
