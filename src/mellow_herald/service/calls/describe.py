"""The device protocol in the OpenAPI document. Its routes are plain ones, so the framework cannot tell by itself."""

from typing import Any

from pydantic import BaseModel
from pydantic.json_schema import models_json_schema

from mellow_herald.service.calls.routes import KEY_LIST_MEDIA_TYPE, PREFIX
from mellow_herald.service.problems import problems
from mellow_herald.wire.device import CheckinIn, EnrolmentIn, EnrolmentOut, LogsIn, OrderOut, ReportsIn
from mellow_herald.wire.readings import ReadingsIn, ReadingsOut
from mellow_herald.wire.recordings import RecordingHave, RecordingSaid
from mellow_herald.wire.release import ENVELOPE_MEDIA_TYPE

MODELS = (
    EnrolmentIn,
    EnrolmentOut,
    CheckinIn,
    ReportsIn,
    LogsIn,
    OrderOut,
    ReadingsIn,
    ReadingsOut,
    RecordingSaid,
    RecordingHave,
)
# A second operation of one path.
PARTS = {"put": "_part"}
NOTHING = {"description": "No order stands; `Herald-Next-Checkin` says when to call again (s)."}


def describe_device_api(document: dict[str, Any]) -> None:
    """Adds the device calls to an OpenAPI document."""
    template = "#/components/schemas/{model}"
    _, schemas = models_json_schema([(model, "validation") for model in MODELS], ref_template=template)
    document["components"]["schemas"].update(schemas["$defs"])
    document["components"].setdefault("securitySchemes", {})["DeviceToken"] = {
        "type": "http",
        "scheme": "bearer",
        "description": "The token given at enrolment.",
    }
    order = {"200": {"description": "The order that stands.", "content": _json(OrderOut)}, "204": NOTHING}
    have = {"200": {"description": "From which byte on it is to go on.", "content": _json(RecordingHave)}}
    calls: list[tuple[str, str, str, type[BaseModel] | None, dict[str, Any], tuple[int, ...]]] = [
        (
            "/enrolments",
            "post",
            "A device's first call.",
            EnrolmentIn,
            {"201": _answer(EnrolmentOut)},
            (409, 413, 429, 503),
        ),
        ("/checkins", "post", "What the device runs and how it is.", CheckinIn, order, (413, 503)),
        ("/reports", "post", "Numbered progress of an attempt.", ReportsIn, order, (413, 503)),
        ("/logs", "post", "Log lines that were asked for.", LogsIn, {"204": {"description": "Kept."}}, (413, 503)),
        (
            "/readings",
            "post",
            "Readings over time, as JSON or CBOR, maybe packed by gzip.",
            ReadingsIn,
            {"200": {"description": "How many were taken, and what was not.", "content": _json(ReadingsOut)}},
            (413, 415, 429, 503),
        ),
        (
            "/recordings/{number}",
            "post",
            "What the device has of a recording that it is asked for, or why it has none.",
            RecordingSaid,
            have,
            (404, 409, 413, 503),
        ),
        (
            "/recordings/{number}",
            "put",
            "Bytes of a recording that was announced; `Content-Range` says which.",
            None,
            have,
            (400, 404, 409, 413, 503),
        ),
        ("/keys", "get", "The key list in force.", None, _bytes(KEY_LIST_MEDIA_TYPE), (404,)),
        ("/manifests/{digest}", "get", "A signed envelope without payloads.", None, _bytes(ENVELOPE_MEDIA_TYPE), ()),
        (
            "/images/{digest}",
            "get",
            "An image, whole or in ranges.",
            None,
            {
                **_bytes("application/octet-stream"),
                "206": {"description": "The ranges asked for."},
                "307": {
                    "description": "The bytes are in an object store; ask there, without the token.",
                    "headers": {"Location": {"schema": {"type": "string"}}},
                },
            },
            (416, 503),
        ),
    ]
    for path, method, words, body, answers, statuses in calls:
        refusals = problems(*statuses, to_devices=True)
        operation: dict[str, Any] = {
            "tags": ["device protocol"],
            "summary": words,
            "operationId": f"device{path.replace('/', '_').replace('{', '').replace('}', '')}{PARTS.get(method, '')}",
            "security": [] if path == "/enrolments" else [{"DeviceToken": []}],
            "responses": {
                **answers,
                **{str(status): _problem(said) for status, said in refusals.items()},
            },
        }
        if body is not None:
            operation["requestBody"] = {"required": True, "content": _json(body)}
        if path == "/checkins":
            words = "`wait=N`: hold the call open up to N real seconds (at most 60) until an order stands."
            prefer = {"name": "Prefer", "in": "header", "schema": {"type": "string"}, "description": words}
            operation["parameters"] = [prefer]
        if "{digest}" in path:
            pattern = {"type": "string", "pattern": "^[0-9a-f]{64}$"}
            operation["parameters"] = [{"name": "digest", "in": "path", "required": True, "schema": pattern}]
        if "{number}" in path:
            whole = {"type": "integer", "minimum": 1}
            operation["parameters"] = [{"name": "number", "in": "path", "required": True, "schema": whole}]
        if method == "put":
            span = {"type": "string", "pattern": "^bytes [0-9]+-[0-9]+/[0-9]+$"}
            operation["parameters"].append({"name": "Content-Range", "in": "header", "required": True, "schema": span})
            octets = {"schema": {"type": "string", "format": "binary"}}
            operation["requestBody"] = {"required": True, "content": {"application/octet-stream": octets}}
        document["paths"].setdefault(PREFIX + path, {})[method] = operation


def _json(model: type) -> dict[str, Any]:
    return {"application/json": {"schema": {"$ref": f"#/components/schemas/{model.__name__}"}}}


def _answer(model: type) -> dict[str, Any]:
    return {"description": "Enrolled.", "content": _json(model)}


def _bytes(media_type: str) -> dict[str, Any]:
    content = {media_type: {"schema": {"type": "string", "format": "binary"}}}
    unchanged = {"description": "It is what the caller has (`If-None-Match`)."}
    return {"200": {"description": "The bytes.", "content": content}, "304": unchanged}


def _problem(said: dict[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in said.items() if name != "model"}
