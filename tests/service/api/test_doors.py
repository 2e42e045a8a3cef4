"""Every operation against every credential, from the service's own description: one without a rule fails."""

import re
from collections.abc import Iterator
from contextlib import ExitStack
from datetime import UTC, datetime, timedelta

import httpx
import pytest
from sqlalchemy import update

from mellow_herald.service.people.narrowing import FREE, KEEPING
from mellow_herald.store.tables import Credential
from mellow_herald.wire.fleet import CodeIn
from mellow_herald.wire.person import Role
from tests.harness.device import PuppetDevice
from tests.harness.firmware import BOARD, LINE
from tests.harness.service import PASSWORD, RunningService
from tests.harness.team import add_person

OPEN, ANYONE, PUBLISHER, OPERATOR, ADMIN, DEVICE = "open", "anyone", "publisher", "operator", "admin", "device"
# Whoever may read may read everything; so only what is no GET, and what is not for everybody, is listed.
RULES = {
    ("post", "/api/v1/session"): OPEN,
    ("get", "/health/live"): OPEN,
    ("get", "/health/ready"): OPEN,
    ("post", "/device/v1/enrolments"): OPEN,
    ("delete", "/api/v1/session"): ANYONE,
    ("put", "/api/v1/session/password"): ANYONE,
    ("post", "/api/v1/tokens"): ANYONE,
    ("delete", "/api/v1/tokens/{token_id}"): ANYONE,
    ("get", "/api/v1/people"): ADMIN,
    ("post", "/api/v1/people"): ADMIN,
    ("put", "/api/v1/people/{name}/roles"): ADMIN,
    ("post", "/api/v1/people/{name}/password"): ADMIN,
    ("delete", "/api/v1/people/{name}"): ADMIN,
    ("post", "/api/v1/key_lists"): ADMIN,
    ("post", "/api/v1/boards"): PUBLISHER,
    ("get", "/api/v1/webhooks"): OPERATOR,
    ("post", "/api/v1/evidence"): OPERATOR,
    ("post", "/api/v1/rehearsals"): ANYONE,
    ("post", "/api/v1/rehearsals/{rehearsal_id}/cancel"): ANYONE,
    # Whose approval it takes, the plan says.
    ("post", "/api/v1/rollouts/{rollout_id}/approvals"): ANYONE,
    ("get", "/api/v1/webhooks/{webhook_id}/dead"): OPERATOR,
}
# By the beginning of the path, for what is no GET.
ROOMS = {
    "/api/v1/releases": PUBLISHER,
    "/api/v1/unused_releases": PUBLISHER,
    "/api/v1/release_checks": ANYONE,
    "/api/v1/previews": ANYONE,
    "/api/v1/devices": OPERATOR,
    "/api/v1/codes": OPERATOR,
    "/api/v1/admissions": OPERATOR,
    "/api/v1/pins": OPERATOR,
    "/api/v1/labels": OPERATOR,
    "/api/v1/lists": OPERATOR,
    "/api/v1/radio": OPERATOR,
    "/api/v1/coap": OPERATOR,
    "/api/v1/listenings": OPERATOR,
    "/api/v1/recordings": OPERATOR,
    "/api/v1/chart_pages": ANYONE,
    "/api/v1/series_styles": ANYONE,
    "/api/v1/inventory": OPERATOR,
    "/api/v1/selections": OPERATOR,
    "/api/v1/baselines": OPERATOR,
    "/api/v1/rollouts": OPERATOR,
    "/api/v1/attempts": OPERATOR,
    "/api/v1/webhooks": OPERATOR,
}
# These only look, though a body is sent along.
LOOKING = re.compile(r"/(plan|rollback)-preview$")
MAY = {
    "viewer": {ANYONE},
    "publisher": {ANYONE, PUBLISHER},
    "operator": {ANYONE, OPERATOR},
    "both": {ANYONE, PUBLISHER, OPERATOR},
    "admin": {ANYONE, PUBLISHER, OPERATOR, ADMIN},
    "narrowed": {ANYONE, OPERATOR},
}
DEVICES = ("device", "another device", "asking device")
STRANGERS = ("none", "mistyped", "expired", "closed token", "closed person", *DEVICES, "retired device")


def rule_of(method: str, path: str) -> str:
    """Who may do this."""
    if (method, path) in RULES:
        return RULES[method, path]
    if path.startswith("/device/"):
        return DEVICE
    if method == "get" or LOOKING.search(path):
        return ANYONE
    rules = [rule for begin, rule in ROOMS.items() if path == begin or path.startswith(begin + "/")]
    assert rules, f"nobody has said who may {method.upper()} {path}"
    return rules[0]


@pytest.fixture(scope="module")
def keyed(shared_service: RunningService) -> Iterator[dict[str, httpx.Client]]:
    """A client for each credential."""
    roles = {
        "viewer": [Role.VIEWER],
        "publisher": [Role.PUBLISHER],
        "operator": [Role.OPERATOR],
        "both": [Role.PUBLISHER, Role.OPERATOR],
        "admin": [Role.ADMIN],
        "expired": [Role.ADMIN],
        "closed token": [Role.ADMIN],
        "closed person": [Role.ADMIN],
        "first password": [Role.ADMIN],
        "narrowed": [Role.OPERATOR],
    }
    herald = shared_service.herald
    made = {
        name: add_person(
            shared_service, name.replace(" ", "-"), *given, only="site = fernhollow" if name == "narrowed" else None
        )
        for name, given in roles.items()
    }
    tokens = {one.person: one.id for one in herald.people.tokens(everybody=True)}

    async def expire() -> None:
        past = datetime.now(UTC) - timedelta(seconds=1)
        async with shared_service.context.engine.begin() as connection:
            statement = update(Credential).where(Credential.id == tokens["expired"])
            await connection.execute(statement.values(expires_at=past))

    shared_service.call(expire())
    herald.people.close_token(tokens["closed-token"])
    herald.people.close("closed-person")
    herald.people.reset_password("first-password")
    code = shared_service.code()
    for serial, name in (("TA-0", "device"), ("TA-1", "retired device"), ("TA-2", "another device")):
        device = PuppetDevice(shared_service.url, serial)
        device.enrol(code).raise_for_status()
        device.checkin().raise_for_status()
        made[name] = shared_service.http(device.token)
    waiting = PuppetDevice(shared_service.url, "TA-3")
    waiting.enrol(herald.codes.make(CodeIn(board=BOARD, line=LINE, ask=True)).code or "").raise_for_status()
    made["asking device"] = shared_service.http(waiting.token)
    assert waiting.checkin().json()["type"].endswith(":not-admitted"), "its calls are heard, and that is all"
    herald.devices.decide("retired", ["TA-1"], reason="not there any more")
    made |= {"none": shared_service.http(), "mistyped": shared_service.http("mht_mistyped")}
    with ExitStack() as stack:
        for client in made.values():
            stack.enter_context(client)
        yield made


def test_every_operation_lets_in_whom_it_is_for_and_nobody_else(
    shared_service: RunningService, keyed: dict[str, httpx.Client]
) -> None:
    wrong, asked = [], 0
    for path, methods in shared_service.herald.openapi()["paths"].items():
        address = re.sub(r"\{[^}]+\}", "999999", path)
        for method in methods:
            rule = rule_of(method, path)
            # A good credential is not to end itself, nor to follow the feed for ever.
            spared = (method, path) == ("delete", "/api/v1/session") or path == "/api/v1/events"
            for name, client in keyed.items():
                allowed = rule in MAY.get(name, set()) or rule == OPEN or (rule == DEVICE and name in DEVICES)
                if spared and (allowed or name == "first password"):
                    continue
                body = {} if method in ("post", "put", "patch") else None
                status, kind = _answered(client, method, address, body)
                asked += 1
                if name == "narrowed" and rule not in (OPEN, DEVICE):
                    refused = not allowed and (status, kind) == (403, "role-too-low")
                    if not (refused or _is_narrow(method, path, status, kind)):
                        wrong.append((method, path, name, rule, status, kind))
                elif not _is_right(allowed, rule, name, status, kind, (method, path)):
                    wrong.append((method, path, name, rule, status, kind))
    assert wrong == [] and asked > 1000


def _is_narrow(method: str, path: str, status: int, kind: str) -> bool:
    """What is listed passes, though nothing is found of what is not theirs; all else is refused by its name."""
    bare = path.removeprefix("/api/v1")
    own = bare.startswith("/session")
    listed = (method.upper(), bare) in FREE | KEEPING or own
    theirs = re.match(r"/(devices|attempts|rollouts)/\{", bare) is not None
    if listed:
        return status < 500 and kind not in ("narrowed", "role-too-low")
    if theirs:
        return (status, kind) in ((404, "not-found"), (422, "bad-values"))
    return (status, kind) == (403, "narrowed")


def _answered(client: httpx.Client, method: str, address: str, body: object) -> tuple[int, str]:
    answer = client.request(method, address, json=body)
    problem = answer.headers["content-type"].startswith("application/problem") if answer.content else False
    return answer.status_code, answer.json()["type"].rpartition(":")[2] if problem else ""


def _is_right(allowed: bool, rule: str, name: str, status: int, kind: str, operation: tuple[str, str]) -> bool:
    if status >= 500:
        return False
    if allowed:
        return status not in (401, 429) and kind not in ("role-too-low", "first-password", "bad-token")
    if rule == DEVICE or name in STRANGERS:
        return status == 401
    if name == "first password":  # what changes it, and what tells who one is, alone
        own = operation[1].startswith("/api/v1/session")
        return status != 401 if own else (status, kind) == (403, "first-password")
    return (status, kind) == (403, "role-too-low")


def test_a_wrong_password_is_no_way_in(shared_service: RunningService) -> None:
    with shared_service.http() as http:
        assert http.post("/api/v1/session", json={"name": "admin", "password": PASSWORD + "x"}).status_code == 401
