"""People of a service under test."""

from datetime import UTC, datetime

import httpx

from mellow_herald.service.people.passwords import HASHER
from mellow_herald.store import people
from mellow_herald.wire.person import Role
from tests.harness.service import PASSWORD, RunningService


def add_person(service: RunningService, name: str, *roles: Role, only: str | None = None) -> httpx.Client:
    """Somebody with these roles, signed in by token."""

    async def add() -> None:
        async with service.context.engine.begin() as connection:
            await people.add_person(connection, name, roles, HASHER.hash(PASSWORD), datetime.now(UTC), only=only)

    service.call(add())
    http = service.http()
    http.post("/api/v1/session", json={"name": name, "password": PASSWORD}).raise_for_status()
    made = http.post("/api/v1/tokens", json={}, headers={"herald-console": "1"}).json()
    http.close()
    return service.http(made["token"])
