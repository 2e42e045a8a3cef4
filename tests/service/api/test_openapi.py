"""The OpenAPI document is complete, and no input that fits or misses it makes the service fail."""

import json
import random
import re
from pathlib import Path
from typing import Any

import pytest

import mellow_herald.service
from mellow_herald.wire.problem import MEDIA_TYPE, TYPE_PREFIX
from tests.harness.service import RunningService

NASTY: list[Any] = [
    "",
    " ",
    "\x00",
    "x" * 5000,
    "é\u202e",
    "'; DROP TABLE device; --",
    "../..",
    "null",
    -1,
    0,
    2**31,
    2**63,
    10**30,
    1.5,
    True,
    None,
    [],
    {},
    [None],
    {"a": {"b": []}},
    "NaN",
    "2026-13-45",
    "board = \x00",
    "hw_rev > 9999999999",
]
SERVICE = Path(mellow_herald.service.__file__).parent
DESTRUCTIVE = {("delete", "/api/v1/session"), ("delete", "/api/v1/tokens/{token_id}")}


@pytest.fixture(scope="module")
def document(shared_service: RunningService) -> dict[str, Any]:
    return shared_service.herald.openapi()


def operations(document: dict[str, Any]) -> list[tuple[str, str, dict[str, Any]]]:
    return [(method, path, op) for path, ops in document["paths"].items() for method, op in ops.items()]


def test_every_operation_says_what_it_answers(document: dict[str, Any]) -> None:
    for method, path, operation in operations(document):
        assert operation.get("description") or operation.get("summary"), path
        responses = operation["responses"]
        assert any(code.startswith("2") for code in responses), (method, path)
        if path.startswith("/api/"):
            for code in ("401", "422"):
                assert MEDIA_TYPE in responses[code]["content"], (method, path, code)
                assert "example" in responses[code]["content"][MEDIA_TYPE]
    assert "HTTPValidationError" not in json.dumps(document)


def test_the_document_describes_the_device_protocol_too(document: dict[str, Any]) -> None:
    paths = [path for path in document["paths"] if path.startswith("/device/v1/")]
    assert sorted(path.rpartition("/device/v1/")[2].partition("/")[0] for path in paths) == [
        "checkins",
        "enrolments",
        "images",
        "keys",
        "logs",
        "manifests",
        "readings",
        "recordings",
        "reports",
    ]
    checkin = document["paths"]["/device/v1/checkins"]["post"]
    assert checkin["requestBody"]["content"]["application/json"]["schema"]["$ref"].endswith("/CheckinIn")
    assert {"200", "204", "401", "422"} <= set(checkin["responses"])


def test_whatever_is_sent_the_service_does_not_fail(shared_service: RunningService, document: dict[str, Any]) -> None:
    rng = random.Random(11)
    asked = 0
    with shared_service.http(shared_service.token) as http:
        for method, path, operation in operations(document):
            if (method, path) in DESTRUCTIVE or path == "/api/v1/events":
                continue
            documented = set(operation["responses"])
            for _ in range(25):
                address = re.sub(r"\{[^}]+\}", lambda _: _quoted(rng.choice(NASTY)), path)
                parameters = [p["name"] for p in operation.get("parameters", []) if p["in"] == "query"]
                query = {name: str(rng.choice(NASTY)) for name in parameters if rng.random() < 0.7}
                body = _body(rng, document, operation)
                headers = {"content-type": "application/json"}
                response = http.request(method, address, params=query, content=body, headers=headers)
                asked += 1
                assert response.status_code < 500, (method, address, query, body, response.text)
                assert str(response.status_code) in documented | {"404", "405", "400", "415"}, (
                    method,
                    path,
                    response.status_code,
                )
                if response.status_code >= 400:
                    assert response.headers["content-type"] == MEDIA_TYPE, (method, address, response.text[:200])
                    assert response.json()["detail"]
    assert asked > 500
    assert shared_service.herald.ready().ok


def _quoted(value: Any) -> str:
    from urllib.parse import quote

    return quote(str(value), safe="") or "%20"


def _body(rng: random.Random, document: dict[str, Any], operation: dict[str, Any]) -> bytes | None:
    content = operation.get("requestBody", {}).get("content", {}).get("application/json")
    if content is None:
        return None
    kind = rng.random()
    if kind < 0.15:
        return rng.choice([b"", b"{", b"\xff", b"[1,", b'"text"', b"NaN"])
    schema = content["schema"]
    if "$ref" in schema:
        schema = document["components"]["schemas"][schema["$ref"].rpartition("/")[2]]
    fields = {name: rng.choice(NASTY) for name in schema["properties"] if rng.random() < 0.85}
    return json.dumps(fields).encode()


def test_the_problems_that_are_shown_are_answered(document: dict[str, Any]) -> None:
    """Each kind in an example stands in the service's own words."""
    sources = "".join(path.read_text() for path in SERVICE.rglob("*.py") if path.name != "problems.py")
    problems = (SERVICE / "problems.py").read_text()
    sources += problems[problems.index("class ProblemError") :]
    shown = {
        content["example"]["type"].removeprefix(TYPE_PREFIX)
        for operations in document["paths"].values()
        for operation in operations.values()
        for answer in operation["responses"].values()
        for kind, content in answer.get("content", {}).items()
        if kind == MEDIA_TYPE
    }
    assert len(shown) > 10
    assert {kind for kind in shown if f'"{kind}"' not in sources} == set()
