"""What a simulated device that speaks CoAP has instead of the device protocol: it registers, and what is done to its
update object becomes the orders that its firmware obeys; what that reports becomes the object's numbers."""

import asyncio
import random
from collections.abc import AsyncIterator, Callable
from contextlib import suppress
from typing import Any
from urllib.parse import urlsplit

from aiocoap import Code, Message, error, oscore

from mellow_herald.core.attempt import State
from mellow_herald.core.coap import objects
from mellow_herald.core.coap.delivery import DeliveryMethod, Protocol
from mellow_herald.core.coap.update_object import UpdateResult, UpdateState, result_of
from mellow_herald.core.order import Order
from mellow_herald.sim.bootloader import APP
from mellow_herald.sim.coap.endpoint import Endpoint
from mellow_herald.sim.delivered import Delivered
from mellow_herald.sim.hardware import Hardware
from mellow_herald.sim.http import Connections, LostError
from mellow_herald.sim.scenario import DeviceSpec
from mellow_herald.sim.service_time import ServiceTime
from mellow_herald.sim.uplink import Carry, NoAnswerError, RefusedCallError, Uplink
from mellow_herald.wire.device import CheckinIn, Clearance, Content, EnrolmentIn, EnrolmentOut, OrderOut
from mellow_herald.wire.oscore import SharedSecret

ANSWER_S = 8.0
# It renews its registration when so much of the lifetime is over.
RENEW = 0.4
JITTER = (0.9, 1.1)
WATCH_S = 0.1
NUMBERS = 64
BLOCK_EXPONENT = 5  # blocks of 512 bytes
# A transfer that broke off is tried again after ever longer pauses, half an hour in all.
FETCH_TRIES, FIRST_PAUSE_S, LONGEST_PAUSE_S = 12, 5.0, 300.0
# The standard has no word for how long leave holds, nor for how long a trial may take: the device has its own.
CLEARED_S, TRIAL_S = 600, 600
LINKS = 40
SERVER_ERROR = 5
DELIVERY = {"pull": DeliveryMethod.PULL, "push": DeliveryMethod.PUSH, "both": DeliveryMethod.BOTH}
PROTOCOLS = {"coap": Protocol.COAP, "http": Protocol.HTTP}
SPOKEN = "</1/0>,</3/0>,</5/0>,</26270/0>"


class StoredSecurity(SharedSecret):
    """The device's side of OSCORE, with its sequence numbers in its flash."""

    def __init__(self, hardware: Hardware) -> None:
        self._hardware, told = hardware, hardware.data["oscore"]
        secret, own, other = (bytes.fromhex(told[name]) for name in ("secret", "sender_id", "recipient_id"))
        first = hardware.data.get("oscore_sent", 0)
        super().__init__(secret, own, other, first, first)

    def take_more(self, left: int) -> None:
        """Notes in the flash how far it may count before it looks there again."""
        if left <= 0:
            self.until = self.sender_sequence_number + NUMBERS
            self._hardware.keep(oscore_sent=self.until)


class CoapModem:
    """The calls of one device. It enrols by wire, on the bench where it is made (``bench``). ``running`` is what it
    runs, ``stands_by`` what it would switch to, ``reached`` whether it is up and its link stands; ``carry`` takes the
    time that bytes take on its link."""

    token: str | None = None

    def __init__(
        self,
        spec: DeviceSpec,
        bench: Uplink,
        hardware: Hardware,
        time: ServiceTime,
        server: str,
        rng: random.Random,
        *,
        running: Callable[[], Content | None],
        stands_by: Callable[[], Content | None],
        reached: Callable[[], bool],
        carry: Carry,
    ) -> None:
        assert spec.coap is not None
        self._spec, self._coap, self._bench, self._hardware, self._time = spec, spec.coap, bench, hardware, time
        self._server, self._rng, self._running, self._reached, self._carry = server, rng, running, reached, carry
        self._stands_by = stands_by
        self._delivered = Delivered()
        self._endpoint = Endpoint(self, self._values())
        self._location: tuple[str, ...] | None = None
        self._boots = -1
        self._battery: int | None = None
        self._order: OrderOut | None = None
        self._receiving = bytearray()
        self._tasks: set[asyncio.Task[None]] = set()
        # Told when an order came outside of a check-in.
        self.wake: Callable[[], None] = lambda: None

    # What its firmware asks of it -------------------------------------------------------------------------------------

    async def enrol(self, asked: EnrolmentIn) -> EnrolmentOut:
        """The first call, by wire; the secret that comes with the answer goes to the flash."""
        answer = await self._bench.enrol(asked.model_copy(update={"coap": True}))
        assert answer.oscore is not None, "it was asked for"
        told = answer.oscore.model_dump()
        if self._coap.wrong_secret:
            told["secret"] = told["secret"][::-1]
        self._hardware.keep(oscore=told, oscore_sent=0)
        return answer

    async def checkin(self, checkin: CheckinIn, wait_s: int = 0) -> OrderOut:
        """Renews its registration, or registers after a restart; returns what was done to its update object since."""
        battery = checkin.condition.battery
        if battery != self._battery:
            self._battery = battery
            self._endpoint.tell(objects.BATTERY)
        await self._be_there(checkin.boots)
        order, self._order = self._order, None
        lifetime_s = self._coap.lifetime.total_seconds()
        return order or OrderOut(next_checkin_s=max(1, round(lifetime_s * RENEW * self._rng.uniform(*JITTER))))

    async def report(self, reports: list[dict[str, Any]]) -> OrderOut:
        """Tells by the numbers of its update object how it goes."""
        for one in reports:
            if one["boots"] > self._boots:
                await self._be_there(one["boots"])
            self._tell(State(one["state"]), one.get("reason"))
        return OrderOut(next_checkin_s=round(self._coap.lifetime.total_seconds() * RENEW))

    async def logs(self, lines: list[dict[str, Any]]) -> None:
        """The standard's objects have no room for log lines."""

    async def keys(self) -> bytes:
        """The key list that it has: no other comes to it in this way."""
        kept: bytes = self._hardware.data["key_list"]
        return kept

    async def manifest(self, digest: str) -> bytes:
        """The signed envelope without payloads, out of the package that came."""
        return self._delivered.manifest(digest)

    def image(self, uri: str, have: int) -> AsyncIterator[bytes]:
        """The bytes of an image from offset ``have`` on, out of the package that came."""
        return self._delivered.image(uri, have)

    # Its numbers ------------------------------------------------------------------------------------------------------

    @property
    def _numbers(self) -> tuple[int, int]:
        """5/0/3 and 5/0/5, as they stand in the flash."""
        kept = self._hardware.data.get("update_object", (UpdateState.IDLE, UpdateResult.INITIAL))
        return int(kept[0]), int(kept[1])

    def _say(self, state: UpdateState, result: UpdateResult = UpdateResult.INITIAL) -> None:
        if (state, result) != self._numbers:
            self._hardware.keep(update_object=(int(state), int(result)))
            self._endpoint.tell(objects.STATE, objects.RESULT)

    def _tell(self, state: State, reason: str | None) -> None:
        match state:
            case State.STAGED:
                self._say(UpdateState.DOWNLOADED)
            case State.INSTALLING | State.PROVING:
                self._say(UpdateState.UPDATING)
            case State.CONFIRMED:
                self._say(UpdateState.IDLE, UpdateResult.SUCCESS)
            case State.REVERTED:
                self._say(UpdateState.IDLE, UpdateResult.UPDATE_FAILED)
            case State.FAILED:
                self._say(UpdateState.IDLE, result_of(reason or ""))

    def _values(self) -> dict[str, Callable[[], object]]:
        def version() -> object:
            runs = self._running()
            return None if runs is None else runs.version

        def digest() -> object:
            runs = self._running()
            return None if runs is None else bytes.fromhex(runs.digest)

        protocols = [int(PROTOCOLS[one]) for one in self._coap.protocols]
        return {
            objects.SERIAL: lambda: self._spec.serial,
            objects.VERSION: version,
            objects.BATTERY: lambda: self._battery,
            objects.STATE: lambda: self._numbers[0],
            objects.RESULT: lambda: self._numbers[1],
            objects.PROTOCOLS: lambda: protocols,
            objects.DELIVERY: lambda: int(DELIVERY[self._coap.delivery]),
            objects.DIGEST: digest,
            objects.STARTS: lambda: max(0, self._boots),
        }

    # Its update object ------------------------------------------------------------------------------------------------

    def told_uri(self, uri: str) -> None:
        """Fetches from there, or drops what it has."""
        self._drop_work()
        if not uri:
            self._give(OrderOut(order=Order.ABANDON, next_checkin_s=1))
            self._say(UpdateState.IDLE)
            return
        self._say(UpdateState.DOWNLOADING)
        self._begin(self._fetch(uri))

    async def take_block(self, at: int, data: bytes, *, last: bool) -> bool:
        """The next block of what is pushed; one that came already is passed over."""
        if at == 0:
            self._drop_work()
            self._receiving = bytearray()
            self._say(UpdateState.DOWNLOADING)
        if at > len(self._receiving) or self._numbers[0] != UpdateState.DOWNLOADING:
            return False
        await self._carry(len(data))
        self._receiving[at:] = data
        if last:
            self._arrived(bytes(self._receiving))
        return True

    def told_to_update(self) -> str | None:
        """Switches, if there is something to switch to."""
        if self._numbers[0] != UpdateState.DOWNLOADED:
            return "nothing is downloaded"
        staged = self._stands_by()
        if staged is None:
            return "nothing stands by"
        leave = {"clearance": Clearance(number=0, seconds=CLEARED_S), "to": {APP: staged.digest}}
        self._give(self._asked(Order.SWITCH).model_copy(update=leave))
        return None

    def _arrived(self, package: bytes) -> None:
        self._delivered.file = package
        digest = self._delivered.manifest_digest()
        if digest is None:
            self._say(UpdateState.IDLE, UpdateResult.UNSUPPORTED_PACKAGE)
            return
        number = self._hardware.data.get("packages", 0) + 1
        self._hardware.keep(packages=number, package=digest)
        self._give(self._asked(Order.FETCH))

    def _asked(self, order: Order) -> OrderOut:
        data = self._hardware.data
        named = {"attempt": data.get("packages", 0), "manifest": data.get("package"), "trial_s": TRIAL_S}
        return OrderOut(order=order, next_checkin_s=1, **named)

    def _give(self, order: OrderOut) -> None:
        self._order = order
        self.wake()

    def _drop_work(self) -> None:
        for task in self._tasks:
            task.cancel()
        self._order = None

    def _begin(self, work: Any) -> None:
        task = asyncio.get_running_loop().create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def _fetch(self, uri: str) -> None:
        """Fetches a package, and goes on where it broke off."""
        fetch = self._fetch_http if uri.startswith("http") else self._fetch_coap
        have = bytearray()
        for tried in range(FETCH_TRIES):
            try:
                await fetch(uri, have)
            except (NoAnswerError, LostError, error.Error, TimeoutError, OSError):
                pause = min(LONGEST_PAUSE_S, FIRST_PAUSE_S * 2**tried)
                await self._time.sleep(pause * self._rng.uniform(0.5, 1.0))
            except RefusedCallError:
                self._say(UpdateState.IDLE, UpdateResult.INVALID_URI)
                return
            else:
                self._arrived(bytes(have))
                return
        self._say(UpdateState.IDLE, UpdateResult.CONNECTION_LOST)

    async def _fetch_coap(self, uri: str, have: bytearray) -> None:
        while True:
            number = len(have) >> BLOCK_EXPONENT + 4
            request = Message(code=Code.GET, uri=uri, block2=(number, False, BLOCK_EXPONENT))
            answer = await self._ask(request, whole=False)
            block, size = answer.opt.block2, len(answer.payload)
            if block is None:
                have[:] = answer.payload
                return
            if not await self._carry(size):
                raise NoAnswerError
            at = block.block_number << block.size_exponent + 4
            have[at:] = answer.payload
            if not block.more:
                return

    async def _fetch_http(self, uri: str, have: bytearray) -> None:
        place = urlsplit(uri)
        there = Connections(f"{place.scheme}://{place.netloc}")
        headers = [("range", f"bytes={len(have)}-")] if have else []
        try:
            async with there.call("GET", place.path, headers) as reply:
                if reply.status not in (200, 206):
                    raise RefusedCallError(reply.status, "refused", uri)
                if reply.status == 200:
                    have.clear()
                async for piece in reply.pieces():
                    if not await self._carry(len(piece)):
                        raise NoAnswerError
                    have += piece
        finally:
            there.close()

    # Being there ------------------------------------------------------------------------------------------------------

    async def _be_there(self, boots: int) -> None:
        """Registers after a restart, or where it is not known any more; renews its registration otherwise."""
        if not await self._carry(0):
            raise NoAnswerError
        if boots != self._boots or not self._endpoint.up or self._location is None:
            await self._come_up(boots)
            return
        request = Message(code=Code.POST, uri=f"{self._server}/{'/'.join(self._location)}")
        try:
            await self._ask(request)
        except RefusedCallError:
            self._location = None
            await self._come_up(boots)

    async def _come_up(self, boots: int) -> None:
        if self._time.now() is None:
            # Whoever was made before knows neither time nor scale: on the bench a glance at the wire tells.
            with suppress(RefusedCallError):
                await self._bench.keys()
        if boots != self._boots:
            await self._endpoint.close()
            self._drop_work()
            self._boots = boots
            if self._numbers[0] == UpdateState.DOWNLOADING:
                self._say(UpdateState.IDLE)  # what was on its way is gone with the memory
        if not self._endpoint.up:
            await self._endpoint.open(StoredSecurity(self._hardware), self._server)
            watching = asyncio.get_running_loop().create_task(self._watch())
            watching.add_done_callback(lambda ended: None)
            self._watching = watching
        lifetime = max(1, round(self._coap.lifetime.total_seconds()))
        request = Message(code=Code.POST, uri=f"{self._server}/rd", payload=SPOKEN.encode(), content_format=LINKS)
        query = [f"ep={self._spec.serial}", f"lt={lifetime}", "lwm2m=1.1", "b=U"]
        request.opt.uri_query = [*query, "Q"] if self._coap.queue else query
        answer = await self._ask(request)
        self._location = answer.opt.location_path

    async def _ask(self, request: Message, *, whole: bool = True) -> Message:
        try:
            async with asyncio.timeout(ANSWER_S):
                answer = await self._endpoint.ask(request, whole=whole)
        except (TimeoutError, error.Error, oscore.ProtectionInvalid, OSError):
            raise NoAnswerError from None
        if answer.code.class_ == SERVER_ERROR:
            raise NoAnswerError(answered=True)  # it has its own troubles: the same is tried again
        if not answer.code.is_successful():
            raise RefusedCallError(int(answer.code), answer.code.dotted, answer.payload.decode(errors="replace"))
        return answer

    async def _watch(self) -> None:
        """While the device is down, or its link is cut, nobody hears what is said to it."""
        while self._endpoint.up:
            await asyncio.sleep(WATCH_S)
            if not self._reached():
                await self._endpoint.close()
