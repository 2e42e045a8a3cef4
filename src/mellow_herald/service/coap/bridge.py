"""Between devices that speak CoAP and everything else: who is registered, and a conversation with each."""

import asyncio
import secrets
import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import timedelta
from typing import TYPE_CHECKING, Any

import aiocoap
import structlog
from aiocoap import Code, Message, error
from aiocoap.transports.oscore import OSCOREAddress
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt.states import AT_RISK
from mellow_herald.core.coap.delivery import USUAL_BLOCK, Transport
from mellow_herald.core.coap.objects import USUAL_LIFETIME_S
from mellow_herald.service.calls.intake import Intake
from mellow_herald.service.calls.packages import MOST_BYTES
from mellow_herald.service.coap.conversation import Conversation
from mellow_herald.service.coap.link import Link
from mellow_herald.service.coap.security import Contexts, DeviceSecurity, SecureSite
from mellow_herald.service.context import Context
from mellow_herald.service.problems import say_trouble
from mellow_herald.service.releases.package import NoPackageError, Packages
from mellow_herald.service.tasks import end
from mellow_herald.store import coap, fleet
from mellow_herald.store.coap import ShownCoapDevice
from mellow_herald.store.feed import FeedEvent, publish
from mellow_herald.store.packages import package_of

if TYPE_CHECKING:
    from mellow_herald.service.coap.registration import Asked

log = structlog.get_logger()
LOOK_S, SELDOM_S = 1.0, 5.0
LOCATION_BYTES = 6
TRANSPORTS = ["oscore", "udp6"]
WILDCARDS = frozenset({"0.0.0.0", "::"})
LOOPBACK = ("127.", "[::1]", "[::ffff:127.")


@dataclass(frozen=True, slots=True)
class Speaker:
    """Who sent a request: the device whose context opened it (None: it was not protected), and from where."""

    remote: Any
    device_id: int | None
    address: str
    local: str

    @classmethod
    def of(cls, remote: Any) -> "Speaker":
        """Whoever is at the other end."""
        security = remote.security_context if isinstance(remote, OSCOREAddress) else None
        device_id = security.device_id if isinstance(security, DeviceSecurity) else None
        return cls(remote, device_id, remote.hostinfo, remote.hostinfo_local)


@dataclass(frozen=True, slots=True)
class Found:
    """A package to be fetched from; ``exponent`` is the size of blocks as RFC 7959 has it, ``served`` is told how far
    it was fetched."""

    package: bytes
    etag: bytes
    exponent: int
    served: Callable[[int, int], None]


class Bridge:
    """For as long as this process serves CoAP."""

    def __init__(self, context: Context, intake: Intake) -> None:
        self._context, self._intake = context, intake
        self._packages = Packages(context, MOST_BYTES)
        self.contexts = Contexts(context, self._note_trouble)
        self._protocol: aiocoap.Context | None = None
        self._open: dict[int, tuple[Conversation, Link, asyncio.Task[None]]] = {}
        self._notes: set[asyncio.Task[None]] = set()

    @property
    def serves(self) -> bool:
        """Whether devices are heard by now."""
        return self._protocol is not None

    async def run(self, site: Any, holding: AsyncConnection) -> None:
        """Serves until cancelled, as long as ``holding`` is there, by which no other process does."""
        settings = self._context.settings
        guarded = SecureSite(site, self.contexts, open_=settings.coap_open)
        bind = (settings.host, settings.coap_port)
        self._protocol = await aiocoap.Context.create_server_context(guarded, bind=bind, transports=TRANSPORTS)
        _answer_whoever_asked(self._protocol)
        try:
            await self._resume()
            looked = time.monotonic()
            while True:
                await holding.execute(coap.STILL_THERE)
                await holding.rollback()
                await self._end_expired()
                await asyncio.sleep(LOOK_S)
                if time.monotonic() - looked > SELDOM_S:
                    looked = time.monotonic()
                    await self._let_strangers_go()
        finally:
            await end([task for _, _, task in self._open.values()])
            await end(self._notes)
            await self._protocol.shutdown()

    # Registrations ----------------------------------------------------------------------------------------------------

    async def register(self, speaker: Speaker, asked: "Asked") -> str:
        """A device is there, maybe after a restart; returns where its registration is renewed."""
        device = await self._who(speaker, asked.name)
        now, location = self._context.clock.now(), secrets.token_urlsafe(LOCATION_BYTES)
        lifetime_s = asked.lifetime_s or USUAL_LIFETIME_S
        changed: dict[str, Any] = {
            "location": location,
            "address": speaker.address,
            "reached_at": speaker.local,
            "lifetime_s": lifetime_s,
            "queue": bool(asked.queue),
            "objects": sorted(asked.objects or ()),
            "registered_at": now,
            "heard_at": now,
            "expires_at": now + timedelta(seconds=lifetime_s),
            "gone": "",
        }
        if speaker.device_id is not None and device["proved_at"] is None:
            changed["proved_at"] = now
        device_id = device["device_id"]
        async with self._context.engine.begin() as connection:
            await coap.put_coap(connection, device_id, **changed)
            await coap.mark_coap(connection, device_id, lifetime_s, now)
            attempt = await coap.current_attempt(connection, device_id)
            data = {"serial": device["serial"], "registered": True}
            await publish(connection, [FeedEvent(now, "device", device_id=device_id, data=data)])
        given = device["attempt_id"], device["try_number"]
        ours = attempt is not None and (attempt["id"], attempt["try_number"]) == given
        restarted = ours and attempt is not None and attempt["state"] in AT_RISK
        device.update(changed)  # type: ignore[typeddict-item]
        await self._begin(device, speaker.remote, restarted=restarted)
        return location

    async def renew(self, speaker: Speaker, location: str, asked: "Asked") -> None:
        """A device is still there, maybe somewhere else."""
        device = await self._registered(speaker, location)
        now = self._context.clock.now()
        lifetime_s = asked.lifetime_s or device["lifetime_s"] or USUAL_LIFETIME_S
        changed: dict[str, Any] = {
            "address": speaker.address,
            "reached_at": speaker.local,
            "lifetime_s": lifetime_s,
            "heard_at": now,
            "expires_at": now + timedelta(seconds=lifetime_s),
        }
        if asked.queue is not None:
            changed["queue"] = asked.queue
        if asked.objects is not None:
            changed["objects"] = sorted(asked.objects)
        async with self._context.engine.begin() as connection:
            await coap.change_coap(connection, device["device_id"], **changed)
            if lifetime_s != device["lifetime_s"]:
                await coap.mark_coap(connection, device["device_id"], lifetime_s, now)
        device.update(changed)  # type: ignore[typeddict-item]
        open_ = self._open.get(device["device_id"])
        if open_ is None or open_[2].done():
            await self._begin(device, speaker.remote)
            return
        conversation, link, _ = open_
        link.remote = speaker.remote
        conversation.heard(changed)

    async def deregister(self, speaker: Speaker, location: str) -> None:
        """A device says that it goes."""
        device = await self._registered(speaker, location)
        async with self._context.engine.begin() as connection:
            await coap.change_coap(connection, device["device_id"], **coap.NOBODY, gone="it deregistered")
        await self._let_go(device["device_id"])

    async def find_package(self, speaker: Speaker, ticket: str) -> Found:
        """What a device was told to fetch; 4.04 for a ticket that is not, or no more, good for anything."""
        async with self._context.engine.connect() as connection:
            row = await package_of(connection, ticket) if ticket and "\0" not in ticket else None
        if row is None or (speaker.device_id is not None and speaker.device_id != row["device_id"]):
            raise error.NotFound("There is no such package, or nobody wants it any more. What counts is 5/0/1.")
        try:
            package = await self._packages.get(row["manifest"])
        except NoPackageError as gone:
            raise error.NotFound(str(gone)) from None
        open_ = self._open.get(row["device_id"])
        served = open_[0].served if open_ is not None else (lambda until, size: None)
        block = row["block"] or USUAL_BLOCK
        return Found(package, bytes.fromhex(row["manifest"])[:8], block.bit_length() - 5, served)

    async def _who(self, speaker: Speaker, name: str | None) -> ShownCoapDevice:
        """The device that registers: the one whose secret it has. Where what is not protected is answered, the one that
        it says it is."""
        if speaker.device_id is None:
            if not speaker.address.startswith(LOOPBACK):
                raise error.Unauthorized("Only who is on this machine may leave out OSCORE.")
            return await self._open_device(name)
        await self._check_secret(speaker)
        async with self._context.engine.connect() as connection:
            device = await coap.find_coap(connection, device_id=speaker.device_id)
        if device is None:
            raise error.Forbidden("The device is not known any more.")
        if name is not None and name != device["serial"]:
            raise error.BadRequest(f"ep={name[:64]}: this secret is that of {device['serial']}.")
        return device

    async def _open_device(self, name: str | None) -> ShownCoapDevice:
        if name is None or "\0" in name:
            raise error.BadRequest("Say which device it is: ep=SERIAL.")
        async with self._context.engine.begin() as connection:
            row = await fleet.find_device(connection, name)
            if row is None or row["admission"] != "admitted":
                raise error.Forbidden(f"There is no admitted device {name[:64]}. It has to enrol first.")
            if await coap.find_coap(connection, device_id=row["id"]) is None:
                await coap.put_coap(connection, row["id"])
            device = await coap.find_coap(connection, device_id=row["id"])
        assert device is not None
        return device

    async def _check_secret(self, speaker: Speaker) -> None:
        """A secret ends at once when there is another, or the device is not admitted any more."""
        if isinstance(speaker.remote, OSCOREAddress) and not await self.contexts.stands(
            speaker.remote.security_context
        ):
            raise error.Unauthorized("This secret is not good for anything any more.")

    async def _registered(self, speaker: Speaker, location: str) -> ShownCoapDevice:
        await self._check_secret(speaker)
        async with self._context.engine.connect() as connection:
            device = None if "\0" in location else await coap.find_coap(connection, location=location)
        if device is None or device["admission"] != "admitted":
            raise error.NotFound("There is no such registration, or its lifetime is over. Register anew at /rd.")
        if speaker.device_id not in (device["device_id"], None):
            raise error.NotFound("This registration is another device's.")
        if speaker.device_id is None and not speaker.address.startswith(LOOPBACK):
            raise error.Unauthorized("Only who is on this machine may leave out OSCORE.")
        return device

    # Conversations ----------------------------------------------------------------------------------------------------

    async def _begin(
        self, device: ShownCoapDevice, remote: Any, *, restarted: bool = False, heard: bool = True
    ) -> None:
        assert self._protocol is not None
        await self._let_go(device["device_id"])
        link = Link(self._protocol, remote, self._context.clock.scale)
        about = (self._context, self._intake, self._packages, link, device, self._uris(device))
        conversation = Conversation(*about, restarted=restarted, heard=heard)
        task = asyncio.create_task(conversation.run())
        self._open[device["device_id"]] = conversation, link, task

    async def _let_go(self, device_id: int) -> None:
        before = self._open.pop(device_id, None)
        if before is not None:
            await end([before[2]])

    async def _resume(self) -> None:
        """Goes on with those that registered before this process began."""
        assert self._protocol is not None
        async with self._context.engine.connect() as connection:
            devices = await coap.list_registered(connection)
        for device in devices:
            try:
                request = Message(code=Code.GET, uri=f"coap://{device['address']}/")
                await self._protocol.find_remote_and_interface(request)
            except (error.Error, ValueError, OSError) as odd:
                say_trouble("where a device is registered cannot be read", odd, device=device["serial"])
                continue
            remote, security = request.remote, await self.contexts.of(device["device_id"])
            if security is not None:
                remote = OSCOREAddress(security, remote)
            elif not self._context.settings.coap_open:
                continue
            await self._begin(device, remote, heard=False)

    async def _end_expired(self) -> None:
        now = self._context.clock.now()
        async with self._context.engine.begin() as connection:
            over = await coap.end_expired(connection, now)
            await publish(
                connection, [FeedEvent(now, "device", device_id=one, data={"registered": False}) for one in over]
            )
        for device_id in over:
            await self._let_go(device_id)

    async def _let_strangers_go(self) -> None:
        """Who has another secret by now, or is not admitted any more, is not spoken with."""
        async with self._context.engine.connect() as connection:
            registered = await coap.registered_ids(connection)
        for device_id in self._open.keys() - registered:
            await self._let_go(device_id)

    def _uris(self, device: ShownCoapDevice) -> dict[Transport, str]:
        """Under which addresses a device fetches its package."""
        settings = self._context.settings
        local = settings.host if settings.host not in WILDCARDS else _host(device["reached_at"] or settings.host)
        host = f"[{local}]" if ":" in local and not local.startswith("[") else local
        web = settings.coap_packages or f"http://{host}:{settings.port}"
        return {
            Transport.COAP: f"coap://{host}:{settings.coap_port}/p",
            Transport.HTTP: f"{web.rstrip('/')}/device/v1/packages",
        }

    def _note_trouble(self, device_id: int, what: str) -> None:
        async def note() -> None:
            try:
                async with self._context.engine.begin() as connection:
                    now = self._context.clock.now()
                    await coap.note_trouble(connection, device_id, what, now)
            except Exception as failed:
                say_trouble("a device's trouble could not be noted", failed, device=device_id)

        # Anybody can send what cannot be opened: one note at a time is enough.
        if not self._notes:
            task = asyncio.create_task(note())
            self._notes.add(task)
            task.add_done_callback(self._notes.discard)


def _answer_whoever_asked(protocol: aiocoap.Context) -> None:
    """That what we sent did not arrive is no reason to leave unanswered what came from there since: a device restarts
    while something is on its way to it, and registers in the same moment. The library drops both, and has acknowledged
    the request already."""
    for manager in protocol.request_interfaces:
        if not hasattr(manager, "incoming_requests"):
            continue
        told = manager.dispatch_error

        def dispatch(failed: Exception, remote: Any, manager: Any = manager, told: Any = told) -> None:
            asked, manager.incoming_requests = manager.incoming_requests, {}
            try:
                told(failed, remote)
            finally:
                manager.incoming_requests = asked

        manager.dispatch_error = dispatch


def _host(hostinfo: str) -> str:
    """The address alone: without port, and without the interface that it was heard on."""
    if hostinfo.startswith("["):
        return hostinfo[1:].partition("]")[0].partition("%")[0]
    return hostinfo.partition(":")[0].partition("%")[0]
