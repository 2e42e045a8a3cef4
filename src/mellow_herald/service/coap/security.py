"""OSCORE (RFC 8613): one security context a device, for both directions.

The secret is sealed in the database, and what must never be used twice, the sequence numbers, is taken from there in
advance."""

import asyncio
import time
from collections.abc import Callable
from typing import Any

import structlog
from aiocoap import error, oscore
from aiocoap.oscore_sitewrapper import OscoreSiteWrapper

from mellow_herald.core.coap.objects import SERVICE_ID, sender_id
from mellow_herald.service.context import Context
from mellow_herald.service.fleet.coap import about
from mellow_herald.service.key_box import KeyBox
from mellow_herald.service.problems import ProblemError, say_trouble
from mellow_herald.store import coap
from mellow_herald.store.trouble import is_away
from mellow_herald.wire.oscore import SharedSecret

log = structlog.get_logger()
# So many sequence numbers are taken at once, and the next ones when so many are left.
TAKEN_AT_ONCE, LOW = 1024, 256
# A device's secret is looked up again at most so often: anybody can send what cannot be opened.
AGAIN_S = 5.0
MOST_LOOKED_AT = 10_000
WRONG_SECRET = "what came in its name could not be opened: is its secret the one on record?"
REPLAYED = "a message came again that had been taken before, and was refused"
Trouble = Callable[[int, str], None]


class DeviceSecurity(SharedSecret):
    """What is shared with one device. ``take`` takes more sequence numbers; ``trouble`` is told of what could not be
    opened."""

    def __init__(self, device_id: int, secret: bytes, first: int, take: Callable[[], Any], trouble: Trouble) -> None:
        super().__init__(secret, SERVICE_ID, sender_id(device_id), first, first + TAKEN_AT_ONCE)
        self.device_id, self._take, self._trouble = device_id, take, trouble
        self._taking: asyncio.Task[None] | None = None

    def take_more(self, left: int) -> None:
        """Takes more numbers, beside what is going on."""
        if left < LOW and (self._taking is None or self._taking.done()):
            self._taking = asyncio.create_task(self._take_some())

    async def _take_some(self) -> None:
        try:
            first = await self._take()
        except Exception as failed:
            say_trouble("sequence numbers could not be taken; trying again", failed, device=self.device_id)
            return
        # Those in between are another process's, if there was one.
        if first != self.until:
            self.sender_sequence_number = first
        self.until = first + TAKEN_AT_ONCE

    def unprotect(self, protected_message: Any, request_id: Any = None) -> Any:
        """Opens a message; what cannot be is noted with the device."""
        try:
            return super().unprotect(protected_message, request_id)
        except oscore.ReplayErrorWithEcho:
            raise
        except oscore.ReplayError:
            self._trouble(self.device_id, REPLAYED)
            raise
        except oscore.ProtectionInvalid:
            self._trouble(self.device_id, WRONG_SECRET)
            raise


class Contexts:
    """The contexts of all devices, each made when it is first needed. ``trouble`` is told what went wrong with one."""

    def __init__(self, context: Context, trouble: Trouble) -> None:
        self._context, self._told = context, trouble
        self._box = KeyBox(context.settings.data_dir)
        self._made: dict[bytes, DeviceSecurity] = {}
        self._looked_at: dict[bytes, float] = {}
        self._broken: set[bytes] = set()

    async def load(self, kid: bytes) -> None:
        """Sees to it that the context of a Sender ID is at hand, if there is one."""
        known = kid in self._made and kid not in self._broken
        soon = time.monotonic() - self._looked_at.get(kid, -AGAIN_S) < AGAIN_S
        if known or soon or not 0 < len(kid) <= 7:
            return
        if len(self._looked_at) >= MOST_LOOKED_AT:
            self._looked_at.clear()  # anybody can name anything
        self._looked_at[kid] = time.monotonic()
        await self.of(int.from_bytes(kid))

    async def of(self, device_id: int) -> DeviceSecurity | None:
        """The context of a device as its secret is now; None if it has none."""
        kid = sender_id(device_id)
        async with self._context.engine.begin() as connection:
            row = await coap.find_coap(connection, device_id=device_id)
            if row is None or row["secret"] is None or row["admission"] != "admitted":
                self._made.pop(kid, None)
                return None
            try:
                secret = self._box.unseal(row["secret"], about(device_id))
            except ProblemError as problem:
                log.warning("a device's secret cannot be opened", device=row["serial"], why=problem.detail)
                return None
            made = self._made.get(kid)
            if made is not None and made.secret == secret:
                self._broken.discard(kid)
                return made
            first = await coap.reserve(connection, device_id, TAKEN_AT_ONCE)
        made = DeviceSecurity(device_id, secret, first, lambda: self._take(device_id), self._trouble)
        self._made[kid] = made
        self._broken.discard(kid)
        return made

    async def _take(self, device_id: int) -> int:
        async with self._context.engine.begin() as connection:
            return await coap.reserve(connection, device_id, TAKEN_AT_ONCE)

    async def stands(self, security: DeviceSecurity) -> bool:
        """Whether a secret is still the one that is shared with its device, and the device admitted."""
        return await self.of(security.device_id) is security

    def find_oscore(self, unprotected: dict[Any, Any]) -> DeviceSecurity:
        """What the library asks: the context of whoever names itself so."""
        return self._made[unprotected[oscore.COSE_KID]]

    def _trouble(self, device_id: int, what: str) -> None:
        if what == WRONG_SECRET:
            self._broken.add(sender_id(device_id))
        self._told(device_id, what)


class SecureSite(OscoreSiteWrapper):  # type: ignore[misc]
    """What is served, opened first. Unless it is ``open``, nobody is answered who does not protect what it says."""

    def __init__(self, site: Any, contexts: Contexts, *, open_: bool) -> None:
        super().__init__(site, contexts)
        self._contexts, self._open = contexts, open_

    async def render_to_pipe(self, pipe: Any) -> None:
        """Answers one request."""
        try:
            unprotected = oscore.verify_start(pipe.request)
        except oscore.NotAProtectedMessage:
            if not self._open:
                raise error.Unauthorized("Protect it with OSCORE: the secret comes with the enrolment.") from None
        except oscore.DecodeError:
            raise error.BadOption("The OSCORE option cannot be read.") from None
        else:
            try:
                await self._contexts.load(unprotected.get(oscore.COSE_KID) or b"")
            except Exception as failed:
                if not is_away(failed):
                    raise
                raise error.ServiceUnavailable("The database does not answer. Come again.") from None
        await super().render_to_pipe(pipe)
