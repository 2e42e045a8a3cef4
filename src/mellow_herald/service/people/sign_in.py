"""Signing in: what it costs to try, and what is kept of those who do.

Wrong tries are followed by growing pauses, which are taken before any work is done. They count by account and by
address, but an address from which a person signed in within 30 days counts for that person alone: whoever attacks an
account from elsewhere locks nobody out.
"""

import asyncio
import secrets
import time
from collections import Counter
from collections.abc import Hashable
from datetime import timedelta

from fastapi import Request

from mellow_herald.core.pauses import Pauses
from mellow_herald.service.context import Context
from mellow_herald.service.people.callers import secret_hash
from mellow_herald.service.people.passwords import Passwords
from mellow_herald.service.problems import ProblemError, say_trouble, too_many
from mellow_herald.store import people
from mellow_herald.store.feed import JournalEntry, write_journal
from mellow_herald.wire.person import Me, Role

KNOWN_FOR = timedelta(days=30)
TELL_SECONDS = 60.0
MOST_NAMED = 10


class SignIns:
    """The door of one service process."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self.passwords = Passwords()
        self._pauses = Pauses()
        self._known: set[tuple[str, str]] = set()
        self._failed: Counter[tuple[str, str]] = Counter()

    async def sign_in(self, name: str, password: str, address: str) -> tuple[Me, str]:
        """Checks name and password; returns who it is and the secret of a new session. A 401 problem if one is wrong,
        a 429 problem if it was tried too often."""
        known = (name, address) in self._known
        keys: list[Hashable] = [(name, address)] if known else [("account", name), ("address", address)]
        wait = self._pauses.wait(keys, time.monotonic())
        if wait > 0:
            self._failed[name, address] += 1
            raise too_many(wait)
        # Counted before the work, so that many at once are counted, too.
        self._pauses.count(keys, time.monotonic())
        async with self._context.engine.connect() as connection:
            person = await people.find_person(connection, name)
        if not await self.passwords.check(password, person and person["password_hash"], patient=known):
            self._failed[name, address] += 1
            raise ProblemError(401, "wrong-password", "Name or password is wrong.")
        assert person is not None
        self._pauses.forgive(keys)
        self._known.add((name, address))
        secret, now = secrets.token_urlsafe(32), self._context.clock.real()
        expires = now + timedelta(hours=self._context.settings.session_hours)
        async with self._context.engine.begin() as connection:
            await people.note_address(connection, person["id"], address, now)
            await people.add_credential(
                connection, person["id"], "session", "console", secret_hash(secret), now, expires
            )
        roles = [Role(role) for role in person["roles"]]
        return Me(name=person["name"], roles=roles, only=person["only"], must_change=person["must_change"]), secret

    async def keep_telling(self) -> None:
        """Until cancelled: puts what failed into the journal, counted, and learns what other processes know."""
        while True:
            try:
                await self.tell()
            except Exception as error:
                say_trouble("failed sign-ins could not be written; trying again", error)
            await asyncio.sleep(TELL_SECONDS)

    async def tell(self) -> None:
        """One round of it."""
        failed, self._failed = self._failed, Counter()
        by_name: dict[str, Counter[str]] = {}
        for (name, address), tries in failed.items():
            by_name.setdefault(name, Counter())[address] += tries
        try:
            async with self._context.engine.begin() as connection:
                self._known = await people.known_addresses(connection, self._context.clock.real() - KNOWN_FOR)
                for subject, addresses in _told(by_name):
                    why = f"{addresses.total()} wrong or refused within a minute, from {_listed(addresses)}"
                    at, numbers = self._context.clock.now(), {"tries": addresses.total()}
                    entry = JournalEntry(at, "service", "sign-ins failed", subject, why, numbers)
                    await write_journal(connection, entry)
        except Exception:
            self._failed.update(failed)
            raise


def door_of(request: Request) -> SignIns:
    """The door of the process that serves this request."""
    door: SignIns = request.app.state.door
    return door


def _told(by_name: dict[str, Counter[str]]) -> list[tuple[str, Counter[str]]]:
    """Whom the journal names: those that were tried most, and all others together."""
    ranked = sorted(by_name.items(), key=lambda one: (-one[1].total(), one[0]))
    rest: Counter[str] = Counter()
    for _, addresses in ranked[MOST_NAMED:]:
        rest.update(addresses)
    return ranked[:MOST_NAMED] + ([(f"{len(ranked) - MOST_NAMED} more names", rest)] if rest else [])


def _listed(addresses: Counter[str]) -> str:
    most = [address for address, _ in addresses.most_common(5)]
    more = len(addresses) - len(most)
    return ", ".join(most) + (f" and {more} more" if more else "")
