"""A meter that speaks CoAP, written for the tests from the standards' text with a library's client and server: it
registers, has the objects 3 (device) and 5 (firmware update), and knows nothing of the service's own words."""

import asyncio
import json
import tempfile
import threading
from collections.abc import Callable, Coroutine
from contextlib import suppress
from pathlib import Path
from typing import Any

import aiocoap
from aiocoap import Code, Message, error, resource
from aiocoap.oscore import FilesystemSecurityContext, NotAProtectedMessage
from aiocoap.oscore_sitewrapper import OscoreSiteWrapper

from tests.harness.datagrams import Relay
from tests.harness.patience import PATIENCE_S

IDLE, DOWNLOADING, DOWNLOADED, UPDATING = range(4)
INITIAL, SUCCESS, LOST, INTEGRITY, FAILED, DEFERRED = 0, 1, 4, 5, 8, 11
PULL, PUSH, BOTH = range(3)
ASKS_AGAIN_S, WAKES_FOR_S = 30.0, 10.0
TEXT, OPAQUE, LINKS, TLV = 0, 42, 40, 11542


class Field:
    """The loop that meters live in, beside the test that plays with them."""

    def __init__(self) -> None:
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, daemon=True)
        self._thread.start()
        self._meters: list[Meter] = []
        self._relays: list[Relay] = []

    def meter(self, server: str, serial: str, **particulars: Any) -> "Meter":
        """A meter of this field, switched on."""
        made = Meter(server, serial, **particulars)
        self._meters.append(made)
        self.do(made.start())
        return made

    def do(self, work: Coroutine[Any, Any, Any], seconds: float = PATIENCE_S) -> Any:
        """Runs something there, and waits for it."""
        return asyncio.run_coroutine_threadsafe(work, self._loop).result(seconds)

    def relay(self, service: tuple[str, int]) -> Relay:
        """A bad network before the service."""
        relay: Relay = self.do(Relay(service).open())
        self._relays.append(relay)
        return relay

    def end(self) -> None:
        """Ends it with all that goes on there."""

        async def rest() -> None:
            others = [one for one in asyncio.all_tasks() if one is not asyncio.current_task()]
            for one in others:
                one.cancel()
            await asyncio.gather(*others, return_exceptions=True)

        for meter in self._meters:
            self.do(meter.stop())
            meter.forget()
        for relay in self._relays:
            self.do(relay.close())
        self.do(rest())
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(PATIENCE_S)
        self._loop.close()


class Value(resource.ObservableResource):
    """A resource that is read: what it holds, as text or in TLV."""

    def __init__(self, number: int, get: Callable[[], object], *, tlv: bool = False) -> None:
        super().__init__()
        self.read = lambda: None
        self._number, self._get, self._tlv = number, get, tlv

    async def render_get(self, request: Message) -> Message:
        self.read()
        value = self._get()
        if value is None:
            raise error.NotFound
        if self._tlv and isinstance(value, int):
            # One resource with a value of one byte: type 11, short ID, length 1.
            return Message(payload=bytes([0b1100_0001, self._number, value]), content_format=TLV)
        return Message(payload=str(value).encode(), content_format=TEXT)


class Package(resource.Resource):
    """5/0/0: the library puts the blocks together."""

    def __init__(self, meter: "Meter") -> None:
        super().__init__()
        self._meter = meter

    async def needs_blockwise_assembly(self, request: Message) -> bool:
        self._meter.blocks += 1
        await asyncio.sleep(self._meter.slow_s)
        return True

    async def render_put(self, request: Message) -> Message:
        self._meter.take(request.payload)
        return Message(code=Code.CHANGED)


class Uri(resource.Resource):
    """5/0/1."""

    def __init__(self, meter: "Meter") -> None:
        super().__init__()
        self._meter = meter

    async def render_put(self, request: Message) -> Message:
        self._meter.told_uri(request.payload.decode())
        return Message(code=Code.CHANGED)


class Update(resource.Resource):
    """5/0/2."""

    def __init__(self, meter: "Meter") -> None:
        super().__init__()
        self._meter = meter

    async def render_post(self, request: Message) -> Message:
        return await self._meter.execute()


class Meter:
    """One meter. ``on_update`` is what it runs after an update: the version that it comes back with, and the result."""

    def __init__(
        self,
        server: str,
        serial: str,
        *,
        version: str = "2.4.0",
        delivery: int | None = BOTH,
        protocols: int | None = 0,
        tlv: bool = False,
        queue: bool = False,
        battery: int = 81,
        oscore: dict[str, str] | None = None,
    ) -> None:
        self.server, self.serial, self.version = server, serial, version
        self.delivery, self.protocols, self.tlv, self.oscore = delivery, protocols, tlv, oscore
        self.state, self.result = IDLE, INITIAL
        self.package, self.uri, self.executed = b"", "", 0
        self.battery = battery
        self.on_update: Callable[[], tuple[str, int]] = lambda: ("2.5.0", SUCCESS)
        self.defers_s = 0.0
        self.on_downloaded: Callable[[], None] = lambda: None
        self.fetch_block, self.blocks, self.reads, self.slow_s, self.fetches_http = 6, 0, 0, 0.0, False
        self.answers_execute, self.refuses_execute, self.comes_back = True, False, True
        self.location: tuple[str, ...] = ()
        self.queue, self.lifetime, self.links = queue, 300, "</1/0>,</3/0>,</5/0>"
        self._context: aiocoap.Context | None = None
        self._security: FilesystemSecurityContext | None = None
        self._folder = tempfile.TemporaryDirectory(prefix="meter-")
        self._values: dict[str, Value] = {}
        self._tasks: set[asyncio.Task[Any]] = set()

    # Its own affairs --------------------------------------------------------------------------------------------------

    async def start(self, port: int = 0) -> None:
        """Switches it on, at a port of its own."""
        site: Any = self._make_site()
        if self.oscore is not None:
            if self._security is None:
                self._security = self._make_security(self.oscore)
            credentials = aiocoap.credentials.CredentialsMap()
            credentials[":service"] = self._security
            site = OscoreSiteWrapper(site, credentials)
        bind = ("127.0.0.1", port)
        self._context = await aiocoap.Context.create_server_context(site, bind=bind, transports=["oscore", "udp6"])
        if self._security is not None:
            self._context.client_credentials[f"{self.server}/*"] = self._security

    async def stop(self) -> None:
        """Switches it off: whoever speaks to it hears nothing."""
        for task in self._tasks:
            task.cancel()
        if self._context is not None:
            context, self._context = self._context, None
            await context.shutdown()

    def forget(self) -> None:
        """Lets go of what the library keeps for it."""
        if self._security is not None:
            self._security._destroy()
            self._security = None
        self._folder.cleanup()

    async def come_back(self) -> None:
        """Restarts as it does after an update, and registers anew."""
        await self.stop()
        version, result = self.on_update()
        self.version, self.state, self.result = version, IDLE, result
        if self.comes_back:
            await self.start()
            await self.register()

    def say(self, state: int, result: int | None = None) -> None:
        """Goes to another state, and tells whoever observes it."""
        self.state, self.result = state, self.result if result is None else result
        self._values["state"].updated_state()
        self._values["result"].updated_state()

    def take(self, package: bytes) -> None:
        """The package is here, whole. An empty one takes everything back."""
        self.package = package
        if package:
            self.on_downloaded()
        self.say(DOWNLOADED if package else IDLE, INITIAL)

    def told_uri(self, uri: str) -> None:
        """Where to fetch from; an empty one takes everything back."""
        self.uri = uri
        if not uri:
            for task in self._tasks:
                task.cancel()
            self.package = b""
            self.say(IDLE, INITIAL)
            return
        self.say(DOWNLOADING, INITIAL)
        if not self.fetches_http:
            self._begin(self._fetch(uri))

    async def take_later(self, package: bytes) -> None:
        """What was fetched in another way is here."""
        self.take(package)

    async def execute(self) -> Message:
        """Does as it is told, if it can."""
        if self.state != DOWNLOADED or self.refuses_execute:
            return Message(code=Code.METHOD_NOT_ALLOWED, payload=b"nothing to install")
        self.executed += 1
        self.say(DOWNLOADED, DEFERRED) if self.defers_s else self.say(UPDATING)
        self._begin(self._update())
        if not self.answers_execute:
            await asyncio.sleep(5)
        return Message(code=Code.CHANGED)

    async def _update(self) -> None:
        await asyncio.sleep(self.defers_s or 0.2)
        self.say(UPDATING, INITIAL)
        await asyncio.sleep(0.1)
        self._tasks.discard(asyncio.current_task())  # type: ignore[arg-type]
        await self.come_back()

    async def _fetch(self, uri: str) -> None:
        """Fetches block by block, and goes on where it was cut off (RFC 7959)."""
        data, tag = b"", None
        while True:
            number = len(data) >> self.fetch_block + 4
            request = Message(code=Code.GET, uri=uri, block2=(number, False, self.fetch_block))
            try:
                # As a device does: who hears nothing asks again.
                async with asyncio.timeout(ASKS_AGAIN_S):
                    answer = await self.request(request, whole=False)
            except (error.Error, TimeoutError):
                await asyncio.sleep(0.3)
                continue
            if not answer.code.is_successful():
                self.say(IDLE, LOST)
                return
            block = answer.opt.block2
            self.fetch_block = block.size_exponent
            if tag not in (None, answer.opt.etag):
                self.say(IDLE, INTEGRITY)
                return
            tag, data = answer.opt.etag, data + answer.payload
            self.blocks += 1
            await asyncio.sleep(self.slow_s)
            if not block.more:
                break
        self.take(data)

    # The standard's interface -----------------------------------------------------------------------------------------

    async def register(self, **query: str) -> Message:
        """Registers; keeps where."""
        asked = {"ep": self.serial, "lt": str(self.lifetime), "lwm2m": "1.1", "b": "U", **query}
        request = Message(code=Code.POST, uri=f"{self.server}/rd", payload=self.links.encode(), content_format=LINKS)
        request.opt.uri_query = [*(f"{name}={value}" for name, value in asked.items()), *(["Q"] if self.queue else [])]
        answer = await self.request(request)
        if answer.code is Code.CREATED:
            self.location = answer.opt.location_path
        return answer

    async def renew(self, *query: str) -> Message:
        """Renews its registration."""
        request = Message(code=Code.POST, uri=f"{self.server}/{'/'.join(self.location)}")
        request.opt.uri_query = list(query)
        return await self.request(request)

    async def wake(self) -> None:
        """Renews its registration, as one does that wakes now and then. It may just restart into its new firmware: the
        library then says so, or nothing at all."""
        with suppress(error.LibraryShutdown, TimeoutError):
            async with asyncio.timeout(WAKES_FOR_S):
                await self.renew()

    async def deregister(self) -> Message:
        """Gives its registration up."""
        return await self.request(Message(code=Code.DELETE, uri=f"{self.server}/{'/'.join(self.location)}"))

    async def request(self, request: Message, *, whole: bool = True) -> Message:
        """Sends a request of its own."""
        assert self._context is not None, "it is switched off"
        try:
            answer: Message = await self._context.request(request, handle_blockwise=whole).response
        except NotAProtectedMessage as plain:
            answer = plain.plain_message
        return answer

    def _make_site(self) -> resource.Site:
        site = resource.Site()
        values: list[tuple[str, str, Callable[[], object]]] = [
            ("serial", "3/0/2", lambda: self.serial),
            ("version", "3/0/3", lambda: self.version),
            ("battery", "3/0/9", lambda: self.battery),
            ("state", "5/0/3", lambda: self.state),
            ("result", "5/0/5", lambda: self.result),
            ("protocols", "5/0/8", lambda: self.protocols),
            ("delivery", "5/0/9", lambda: self.delivery),
        ]
        for name, path, get in values:
            value = Value(int(path.rpartition("/")[2]), get, tlv=self.tlv)
            value.read = self._note_read
            self._values[name] = value
            site.add_resource(path.split("/"), value)
        site.add_resource(["5", "0", "0"], Package(self))
        site.add_resource(["5", "0", "1"], Uri(self))
        site.add_resource(["5", "0", "2"], Update(self))
        return site

    def _note_read(self) -> None:
        self.reads += 1

    def _make_security(self, told: dict[str, str]) -> FilesystemSecurityContext:
        """The context as the library keeps it, from what came with the enrolment."""
        settings = {
            "secret_hex": told["secret"],
            "sender-id_hex": told["sender_id"],
            "recipient-id_hex": told["recipient_id"],
        }
        (Path(self._folder.name) / "settings.json").write_text(json.dumps(settings))
        return FilesystemSecurityContext(self._folder.name)

    def _begin(self, work: Coroutine[Any, Any, Any]) -> None:
        task = asyncio.get_running_loop().create_task(work)
        self._tasks.add(task)

        def done(ended: asyncio.Task[Any]) -> None:
            self._tasks.discard(ended)
            with suppress(asyncio.CancelledError):
                ended.result()

        task.add_done_callback(done)
