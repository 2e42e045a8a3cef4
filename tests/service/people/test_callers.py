import re
from datetime import UTC, datetime, timedelta

import pytest
from sqlalchemy import update

from mellow_herald.client import NotSignedInError
from mellow_herald.store.tables import Credential
from mellow_herald.wire.person import Role
from tests.harness.service import PASSWORD, RunningService
from tests.harness.some import some
from tests.harness.team import add_person

OPEN = {
    ("POST", "/api/v1/session"),
    ("GET", "/health/live"),
    ("GET", "/health/ready"),
    ("POST", "/device/v1/enrolments"),
}


def test_no_address_is_open_but_sign_in_and_health(shared_service: RunningService) -> None:
    document = shared_service.herald.openapi()
    asked = 0
    with shared_service.http() as http:
        for path, operations in document["paths"].items():
            for method in operations:
                if (method.upper(), path) in OPEN:
                    continue
                asked += 1
                response = http.request(method.upper(), re.sub(r"\{[^}]+\}", "1", path))
                assert response.status_code == 401, (method, path, response.status_code)
                kind = "bad-token" if path.startswith("/device/") else "not-signed-in"
                assert response.json()["type"].endswith(f":{kind}")
        assert http.get("/api/v1/openapi.json").status_code == 401
    assert asked > 20


def test_wrong_names_and_passwords_look_alike(shared_service: RunningService) -> None:
    with shared_service.http() as http:
        answers = [
            http.post("/api/v1/session", json={"name": name, "password": "wrong"}) for name in ("admin", "nobody")
        ]
    assert [answer.status_code for answer in answers] == [401, 401]
    assert answers[0].json() == answers[1].json()


def test_the_session_cookie_is_out_of_reach_of_scripts_and_other_sites(shared_service: RunningService) -> None:
    with shared_service.http() as http:
        cookie = http.post("/api/v1/session", json={"name": "admin", "password": PASSWORD}).headers["set-cookie"]
        assert "HttpOnly" in cookie and "SameSite=strict" in cookie
        assert http.get("/api/v1/session").json() == {
            "name": "admin",
            "roles": ["admin"],
            "must_change": False,
            "only": None,
        }
        forged = http.post("/api/v1/tokens", json={})
        assert (forged.status_code, forged.json()["type"]) == (403, "urn:mellow-herald:problem:not-from-console")
        assert http.post("/api/v1/tokens", json={}, headers={"herald-console": "1"}).status_code == 201
        assert http.delete("/api/v1/session", headers={"herald-console": "1"}).status_code == 204
        assert http.get("/api/v1/session").status_code == 401


def test_a_token_works_until_it_is_closed_or_expires(shared_service: RunningService) -> None:
    herald = shared_service.herald
    made = herald.people.make_token("bench", days=1)
    assert made.token is not None
    with shared_service.http(made.token) as http:
        assert http.get("/api/v1/session").status_code == 200
        assert made.id in [token.id for token in herald.people.tokens()]
        assert all(token.token is None for token in some(herald.people.tokens())), "shown once"
        herald.people.close_token(made.id)
        closed = http.get("/api/v1/session")
        assert closed.status_code == 401 and "was closed at" in closed.json()["detail"]
    with pytest.raises(Exception, match="no token"):
        herald.people.close_token(made.id)

    late = herald.people.make_token("late", days=1)

    async def expire() -> None:
        async with shared_service.context.engine.begin() as connection:
            past = datetime.now(UTC) - timedelta(seconds=1)
            await connection.execute(update(Credential).where(Credential.id == late.id).values(expires_at=past))

    shared_service.call(expire())
    with shared_service.http(late.token) as http:
        expired = http.get("/api/v1/session")
        assert expired.status_code == 401 and "'late' expired at" in expired.json()["detail"]
    with shared_service.http("mht_mistyped") as http:
        assert "not one of this service's" in http.get("/api/v1/session").json()["detail"]


@pytest.mark.parametrize(
    ("role", "path", "body", "allowed"),
    [
        (Role.VIEWER, "/api/v1/boards", {}, False),
        (Role.VIEWER, "/api/v1/codes", {}, False),
        (Role.VIEWER, "/api/v1/rollouts/1/halt", {"reason": "because"}, False),
        (Role.OPERATOR, "/api/v1/boards", {}, False),
        (Role.OPERATOR, "/api/v1/key_lists", {}, False),
        (Role.OPERATOR, "/api/v1/codes", {}, True),
        (Role.PUBLISHER, "/api/v1/boards", {}, True),
        (Role.PUBLISHER, "/api/v1/rollouts", {}, False),
        (Role.PUBLISHER, "/api/v1/key_lists", {}, False),
        (Role.ADMIN, "/api/v1/key_lists", {}, True),
    ],
)
def test_roles(shared_service: RunningService, role: Role, path: str, body: dict[str, str], allowed: bool) -> None:
    name = f"{role}-{abs(hash(path))}"
    with add_person(shared_service, name, role) as http:
        assert http.get("/api/v1/devices").status_code == 200, "everyone reads"
        response = http.post(path, json=body)
    # Who may pass is told that the body is wrong; who may not is told the role that is needed.
    assert response.status_code == (422 if allowed else 403)
    if not allowed:
        assert f"{name} is {role}" in response.json()["detail"]


def test_a_client_without_token_says_so(shared_service: RunningService) -> None:
    from mellow_herald.client import Herald

    with Herald(shared_service.url) as herald, pytest.raises(NotSignedInError, match="listing devices: Sign in"):
        herald.devices.list()


def test_secrets_are_stored_as_hashes_only(shared_service: RunningService) -> None:
    secret = shared_service.token

    async def everything() -> str:
        async with shared_service.context.engine.connect() as connection:
            rows = []
            for table in ("person", "credential", "enrolment_code", "journal", "outbox"):
                result = await connection.exec_driver_sql(f"SELECT * FROM {table}")
                rows += [str(row) for row in result]
            return "\n".join(rows)

    code = shared_service.code()
    stored = str(shared_service.call(everything()))
    assert secret and secret not in stored
    assert PASSWORD not in stored
    assert code not in stored
