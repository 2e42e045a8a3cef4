"""People of a service under test."""

from collections.abc import Iterable
from datetime import UTC, datetime

import httpx

from mellow_herald.client import Herald
from mellow_herald.service.people.passwords import HASHER
from mellow_herald.store import people
from mellow_herald.wire.person import Role
from tests.harness.service import PASSWORD, RunningService


def add_person(service: RunningService, name: str, *roles: Role, only: str | None = None) -> httpx.Client:
    """Somebody with these roles, signed in by token."""
    return service.http(_token(service, name, roles, only))


def join(service: RunningService, name: str, roles: Iterable[Role]) -> Herald:
    """The same, with a client of their own."""
    return Herald(service.url, token=_token(service, name, roles))


def _token(service: RunningService, name: str, roles: Iterable[Role], only: str | None = None) -> str:
    async def add() -> None:
        async with service.context.engine.begin() as connection:
            await people.add_person(connection, name, list(roles), HASHER.hash(PASSWORD), datetime.now(UTC), only=only)

    service.call(add())
    http = service.http()
    http.post("/api/v1/session", json={"name": name, "password": PASSWORD}).raise_for_status()
    made = http.post("/api/v1/tokens", json={}, headers={"herald-console": "1"}).json()
    http.close()
    return str(made["token"])
