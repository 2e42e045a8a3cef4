"""Passwords: hashed and checked a few at a time, beside everything else and outside any database connection."""

import asyncio
import secrets
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerifyMismatchError

from mellow_herald.service.problems import ProblemError

HASHER = PasswordHasher()
# Each takes tens of milliseconds of a core and 64 MiB.
AT_ONCE, QUEUE = 4, 16
Result = TypeVar("Result")


class Passwords:
    """Hashes and checks. What is in nobody's way waits its turn; strangers beyond ``QUEUE`` are sent away (429)."""

    def __init__(self) -> None:
        self._pool = ThreadPoolExecutor(AT_ONCE, thread_name_prefix="passwords")
        self._waiting = 0
        # Checked when the name is unknown, so that the time taken does not tell which names exist.
        self._nobody: str | None = None

    def close(self) -> None:
        """Lets its threads end."""
        self._pool.shutdown(wait=False)

    async def hash(self, password: str) -> str:
        """The hash to store."""
        return await self._run(lambda: HASHER.hash(password), patient=True)

    async def check(self, password: str, stored: str | None, *, patient: bool) -> bool:
        """Whether ``password`` is the one whose hash is ``stored`` (None: of nobody). ``patient`` callers wait their
        turn however long the queue is."""
        return await self._run(lambda: self._check(password, stored), patient=patient)

    def _check(self, password: str, stored: str | None) -> bool:
        if self._nobody is None:
            self._nobody = HASHER.hash(secrets.token_hex(16))
        try:
            HASHER.verify(stored or self._nobody, password)
        except (VerifyMismatchError, InvalidHashError):
            return False
        return stored is not None

    async def _run(self, work: Callable[[], Result], *, patient: bool) -> Result:
        if not patient and self._waiting >= AT_ONCE + QUEUE:
            raise ProblemError(429, "too-many-attempts", "Too many people sign in at once.", {"Retry-After": "1"})
        self._waiting += 1
        try:
            return await asyncio.get_running_loop().run_in_executor(self._pool, work)
        finally:
            self._waiting -= 1
