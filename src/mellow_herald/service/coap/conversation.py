"""The service's side of one registered device: it reads what the device is, says that to the intake in its stead, and
does to its update object what the order asks.

To the intake the device is one like all others: rings, brakes, halts and clearances do not know by which way it is
reached. Execute is the clearance; what the device runs afterwards decides, not the result that it tells.
"""

import asyncio
import math
import secrets
import time
from collections.abc import Mapping
from contextlib import suppress
from datetime import timedelta
from typing import Any

import structlog

from mellow_herald.core.attempt import BAD, DownloadStep, State
from mellow_herald.core.coap import objects
from mellow_herald.core.coap.delivery import Method, Transport, choose
from mellow_herald.core.coap.update_object import UpdateState, read
from mellow_herald.core.coap.values import read_numbers
from mellow_herald.core.firmware import APP
from mellow_herald.core.order import NAMES_IMAGES, Order
from mellow_herald.core.refusal import Refused
from mellow_herald.core.version import parse_version
from mellow_herald.service.calls.intake import Intake
from mellow_herald.service.calls.reported import Reported
from mellow_herald.service.coap.link import Answer, AnsweredError, AwayError, Link
from mellow_herald.service.coap.sight import Sight
from mellow_herald.service.context import Context
from mellow_herald.service.fleet.coap import AWAY_STATES
from mellow_herald.service.problems import ProblemError, say_trouble
from mellow_herald.service.releases.package import NoPackageError, Packages
from mellow_herald.service.rollouts.planning import plan_of
from mellow_herald.service.tasks import end, woken
from mellow_herald.store import coap, packages, rollouts
from mellow_herald.store.coap import CoapAttempt, ShownCoapDevice
from mellow_herald.wire.device import CheckinIn, Condition, Content, OrderOut, ReportIn

log = structlog.get_logger()
# In queue mode a device hears for so long after it has spoken (s; RFC 7252, MAX_TRANSMIT_WAIT).
AWAKE_S, LEAST_AWAKE_S = 93.0, 2.0
# Between telling a device where to fetch and its first word about that.
BEGINS_WITHIN_S = 30.0
AGAIN_S, SOONEST_S, LEAST_WAIT_S = 30, 10, 0.5
# What was read of a device so lately (real s) is how it stands.
FRESH_S = 2.0
# So often (real s) is looked whether a transfer is still wanted.
LOOK_AGAIN_S = 0.5
PROGRESS = 25
TICKET_BYTES = 16
# So long after it was told to switch a device may still say that it has the package downloaded.
TAKES_IT_UP = timedelta(minutes=2)
CANNOT = {"4.13": "no-room"}


class Conversation:
    """With one device, from one registration to the next. ``uris`` are where it fetches packages, by transport;
    ``restarted``: it has just come back from an install; ``heard``: it has just spoken, and not before this process
    began."""

    def __init__(
        self,
        context: Context,
        intake: Intake,
        packages: Packages,
        link: Link,
        device: ShownCoapDevice,
        uris: dict[Transport, str],
        *,
        restarted: bool,
        heard: bool,
    ) -> None:
        self._context, self._intake, self._packages, self._link = context, intake, packages, link
        self._device, self._uris, self._restarted = device, uris, restarted
        self._heard_at = time.monotonic() if heard else -math.inf
        self._heard = asyncio.Event()
        self._word = asyncio.Event()
        self._registered = True
        self._looked_at = 0.0
        self._observers: list[asyncio.Task[None]] = []
        self._observed_at: str | None = None
        self._sight = Sight(link)
        self._given_at: float | None = None
        self._fetched = 0
        self._last_said: tuple[object, ...] = ()

    # What others tell it ----------------------------------------------------------------------------------------------

    def heard(self, changed: Mapping[str, Any]) -> None:
        """The device renewed its registration; what has ``changed`` with that."""
        self._device.update(changed)  # type: ignore[typeddict-item]
        self._heard_at = time.monotonic()
        self._heard.set()
        self._looked_at = 0.0
        self._word.set()

    def served(self, until: int, size: int) -> None:
        """The device has fetched so many bytes of its package."""
        percent = 100 * until // max(1, size)
        if percent // PROGRESS > self._fetched // PROGRESS and percent < 100:
            self._word.set()
        self._fetched = percent

    # ------------------------------------------------------------------------------------------------------------------

    async def run(self) -> None:
        """Speaks with it until cancelled."""
        device_id = self._device["device_id"]
        try:
            with self._context.waiting.expect(device_id) as self._word:
                while True:
                    self._word.clear()
                    wait_s: float | None = AGAIN_S
                    try:
                        await self._awake()
                        wait_s = await self._turn()
                    except AwayError as away:
                        self._looked_at = 0.0
                        if not self._expected_away:
                            await self._note_trouble(str(away))
                    except AnsweredError as answered:
                        self._looked_at = 0.0
                        await self._note_trouble(f"it refused a request: {answered}")
                    except ProblemError as problem:
                        self._looked_at = 0.0
                        await self._note_trouble(problem.detail)
                    except Exception as error:
                        say_trouble("a device could not be spoken with by CoAP; trying again", error, device=device_id)
                    if wait_s is None:
                        await self._word.wait()
                    else:
                        await woken(self._word, max(LEAST_WAIT_S, wait_s / self._context.clock.scale))
        finally:
            await end(self._observers)

    async def _awake(self) -> None:
        """Waits until the device hears: one in queue mode does for a while after it has spoken."""
        window = max(LEAST_AWAKE_S, AWAKE_S / self._context.clock.scale)
        while self._device["queue"] and time.monotonic() - self._heard_at > window:
            self._heard.clear()
            await self._heard.wait()

    async def _turn(self) -> float | None:
        """Takes in what is new and does what is to be done; returns after how long to look again (service s; None: once
        there is something new). Nothing is said for a device that has not just answered: it would seem to be there."""
        if time.monotonic() - self._looked_at > FRESH_S:
            await self._look()
        attempt = await self._attempt()
        ours = self._is_ours(attempt)
        if not ours and self._device["attempt_id"] is not None:
            # What is on its way to it, or stands by there, nobody wants any more; what became of it tells nothing.
            await self._take_back()
        if ours and attempt is not None:
            if await self._tell(attempt):
                attempt = await self._attempt()
            if self._sight.state is UpdateState.UPDATING:
                return AGAIN_S  # it is expected away, or tries what it was given: it speaks when it has decided
            if self._sight.state is UpdateState.DOWNLOADED and attempt is not None and attempt["state"] in AWAY_STATES:
                return await self._wonder()
        order = await self._check_in(ours=self._is_ours(attempt))
        wait_s = await self._obey(order)
        return None if attempt is None and order.order is None else wait_s

    async def _wonder(self) -> float:
        """It took the execute, and still has the package downloaded."""
        executed = self._device["executed_at"]
        if executed is not None and self._context.clock.now() - executed > TAKES_IT_UP:
            await self._note_trouble("it took the execute of 5/0/2, and did nothing: 5/0/3 still is 2")
        return AGAIN_S

    async def _attempt(self) -> CoapAttempt | None:
        async with self._context.engine.connect() as connection:
            return await coap.current_attempt(connection, self._device["device_id"])

    def _is_ours(self, attempt: CoapAttempt | None) -> bool:
        """Whether what the device was given last is for this try of this attempt. One that was called off and comes
        again is queued anew: what it was given before that is nothing to it."""
        given = self._device["attempt_id"], self._device["try_number"]
        told = attempt is not None and attempt["state"] != State.QUEUED
        return attempt is not None and told and (attempt["id"], attempt["try_number"]) == given

    # Looking ----------------------------------------------------------------------------------------------------------

    async def _look(self) -> None:
        """Reads what the device is and how its update object stands; observes that from now on."""
        sight, told = self._sight, dict[str, Any]()
        # As of now: what the device tells while it is being read is news.
        self._looked_at = time.monotonic()
        if self._registered:
            await sight.read_whole(self._device["objects"])
            told = {"protocols": sight.protocols, "delivery": sight.delivery}
            told |= {"says_version": sight.version, "says_digest": sight.digest is not None}
        await sight.read_update()
        self._device.update(told)  # type: ignore[typeddict-item]
        async with self._context.engine.begin() as connection:
            numbers = {"state": int(sight.state), "result": int(sight.result), "told_at": self._context.clock.now()}
            await coap.change_coap(connection, self._device["device_id"], **numbers, **told)
        if sight.odd:
            await self._note_trouble(sight.odd)
            sight.odd = ""
        self._registered = False
        # A device that is somewhere else by now tells from there, and is not known by what was asked of it before.
        moved, self._observed_at = self._observed_at != self._device["address"], self._device["address"]
        if moved or any(one.done() for one in self._observers):
            await end(self._observers)
            paths = (objects.STATE, objects.RESULT)
            self._observers = [asyncio.create_task(self._follow(path)) for path in paths]

    async def _follow(self, path: str) -> None:
        """Takes what the device tells of a resource by itself."""
        # One that does not tell by itself is asked now and then.
        with suppress(AwayError, AnsweredError):
            async for answer in self._link.observe(path):
                if self._take(path, answer):
                    self._heard_at = time.monotonic()
                    self._heard.set()
                    self._looked_at = 0.0  # state and result come one after the other: they are read together
                    self._word.set()

    def _take(self, path: str, answer: Answer) -> bool:
        try:
            numbers = read_numbers(answer.content_format, answer.payload, objects.resource_of(path))
        except Refused:
            return False
        return numbers[:1] != [int(self._sight.state if path == objects.STATE else self._sight.result)]

    # Telling the intake -----------------------------------------------------------------------------------------------

    async def _tell(self, attempt: CoapAttempt) -> bool:
        """Says in the device's stead what its numbers say; tells whether there was something."""
        before = State(attempt["state"])
        if before in BAD:
            return False
        word = read(self._sight.state, self._sight.result, before)
        state = State.PROVING if word.state is State.INSTALLING and self._came_back else word.state
        if state is None or (state is before and state is not State.DOWNLOADING):
            return False
        told: dict[str, Any] = {"state": state, "reason": word.reason}
        if word.state is State.DOWNLOADING:
            told |= {"step": DownloadStep.FETCH, "percent": min(99, self._fetched)}
        if word.state is not State.DOWNLOADING:
            told["detail"] = f"5/0/3 is {self._sight.state:d}, 5/0/5 is {self._sight.result:d}"
        said = (attempt["id"], attempt["try_number"], *told.values())
        if said == self._last_said:
            return False
        self._last_said = said
        await self._report(attempt, **told)
        return True

    @property
    def _came_back(self) -> bool:
        """Whether the device has registered since it was given leave to switch."""
        executed, registered = self._device["executed_at"], self._device["registered_at"]
        return executed is not None and registered is not None and registered > executed

    @property
    def _expected_away(self) -> bool:
        """Whether a lost connection is no failure now: it was told to switch, and is restarting."""
        told = self._device["executed_at"] is not None and self._sight.state is not UpdateState.IDLE
        return told and not self._came_back

    async def _report(self, attempt: CoapAttempt, **told: Any) -> OrderOut:
        device_id = self._device["device_id"]
        async with self._context.engine.begin() as connection:
            boots, seq = await coap.next_word(connection, device_id)
        names = {"boots": boots, "seq": seq, "attempt": attempt["id"], "try": attempt["try_number"]}
        report = ReportIn.model_validate({**names, **told})
        order = await self._intake.reports(device_id, Reported.of(report))
        for one in order.refused:
            log.warning("a report by CoAP was refused", device=self._device["serial"], why=one.detail)
        return order

    async def _check_in(self, *, ours: bool) -> OrderOut:
        """Checks in for the device: what it runs, and whether it could switch now."""
        device_id, staged = self._device["device_id"], ours and self._sight.state is UpdateState.DOWNLOADED
        running = await self._running()
        restarted = self._restarted
        async with self._context.engine.begin() as connection:
            boots, seq = await coap.next_word(connection, device_id, starts=self._sight.starts, restarted=restarted)
            stands = await packages.app_of(connection, self._device["manifest"] or "") if staged else None
        self._restarted = False
        return await self._intake.checkin(
            device_id,
            CheckinIn(
                boots=boots,
                seq=seq,
                ready=staged,
                running={} if running is None else {APP: running},
                standby={} if stands is None else {APP: Content(version=stands[0], digest=stands[1])},
                updater=NAMES_IMAGES,
                condition=Condition(battery=self._sight.battery),
                after_restart=restarted,
                parts=[APP],
            ),
        )

    async def _running(self) -> Content | None:
        """What the device runs. Where it tells a version only, the bytes are those that were released under it; None
        where nothing was: that it runs something unknown is all there is to say."""
        version = self._sight.version
        try:
            version = None if version is None else str(parse_version(version))
        except Refused:
            version = None
        if self._sight.digest is not None:
            return Content(version=version, digest=self._sight.digest)
        if version is None:
            return None
        device = self._device
        async with self._context.engine.connect() as connection:
            digests = await packages.digests_of_version(connection, device["board"], device["line"], version)
        return Content(version=version, digest=digests[0]) if digests else None

    # Doing what is asked ----------------------------------------------------------------------------------------------

    async def _obey(self, order: OrderOut) -> float:
        wait_s = max(SOONEST_S, order.next_checkin_s)
        match order.order:
            case Order.FETCH:
                if not self._is_under_way(order):
                    await self._deliver(order)
                return min(wait_s, AGAIN_S)
            case Order.SWITCH | Order.SWITCH_BACK:
                await self._execute(order)
            case Order.ABANDON:
                await self._take_back()
        return wait_s

    def _is_under_way(self, order: OrderOut) -> bool:
        """Whether what is to be fetched is being fetched, or the device was told of it just now."""
        if (order.attempt, order.try_number) != (self._device["attempt_id"], self._device["try_number"]):
            return False
        if self._sight.state is not UpdateState.IDLE:
            # What was being written to it when this process began is not any more.
            return self._device["method"] != Method.PUSH or self._given_at is not None
        given, patience = self._given_at, max(2.0, BEGINS_WITHIN_S / self._context.clock.scale)
        return given is not None and time.monotonic() - given < patience

    async def _deliver(self, order: OrderOut) -> None:
        attempt = await self._attempt()
        if attempt is None or attempt["id"] != order.attempt:
            return
        async with self._context.engine.connect() as connection:
            plan = plan_of((await rollouts.list_rollouts(connection, rollout_id=attempt["rollout_id"]))[0]).coap
        try:
            way = choose(plan, self._device["protocols"], self._device["delivery"])
            package = await self._packages.get(attempt["manifest"])
        except (Refused, NoPackageError) as refused:
            await self._report(attempt, state=State.FAILED, reason="refused-by-device", detail=str(refused))
            return
        if self._sight.state is not UpdateState.IDLE:
            await self._link.write(objects.PACKAGE_URI, b"")
        by = way.method.value if way.method is Method.PUSH else f"{way.method} by {way.transport}"
        await self._change(
            attempt_id=attempt["id"],
            try_number=attempt["try_number"],
            manifest=attempt["manifest"],
            ticket=secrets.token_urlsafe(TICKET_BYTES),
            method=by,
            block=way.block,
            executed_at=None,
        )
        self._fetched, self._last_said, self._given_at = 0, (), None
        blocks = f" in blocks of {way.block}" if way.transport is Transport.COAP else ""
        begins = {"state": State.DOWNLOADING, "step": DownloadStep.FETCH, "percent": 0}
        begins["detail"] = f"{len(package)} bytes, {by}{blocks}"
        try:
            if way.method is Method.PUSH:
                if not await self._push(attempt, package, way.block, begins):
                    self._sight.state = UpdateState.DOWNLOADING
                    await self._take_back()
                    return
            else:
                uri = f"{self._uris[way.transport]}/{self._device['ticket']}"
                await self._link.write(objects.PACKAGE_URI, uri.encode())
                await self._report(attempt, **begins)
        except AnsweredError as answered:
            reason = CANNOT.get(answered.code.dotted, "refused-by-device")
            await self._report(attempt, state=State.FAILED, reason=reason, detail=f"it answered {answered}")
            return
        except AwayError:
            # What is half there is begun anew; a device that is away for long is taken for silent.
            await self._change(attempt_id=None, try_number=None)
            raise
        self._given_at = time.monotonic()
        self._looked_at = 0.0
        self._word.set()

    async def _push(self, attempt: CoapAttempt, package: bytes, block: int, begins: dict[str, Any]) -> bool:
        """Writes a package to the device; tells whether it did wholly. It stops where the rollout does not go on."""
        told, asked_at = -1, time.monotonic()

        async def sent(until: int) -> bool:
            nonlocal told, asked_at
            self._heard_at = time.monotonic()
            self._fetched = 100 * until // len(package)
            if told < 0:
                told = 0
                await self._report(attempt, **begins)
            if self._fetched // PROGRESS > told and self._fetched < 100:
                told = self._fetched // PROGRESS
                step = {"step": DownloadStep.FETCH, "percent": self._fetched}
                await self._report(attempt, state=State.DOWNLOADING, **step)
            if not self._word.is_set() and time.monotonic() - asked_at < LOOK_AGAIN_S:
                return True
            # Who is called off by a halt is told nothing: it has nothing live any more.
            self._word.clear()
            asked_at = time.monotonic()
            now = await self._attempt()
            return now is not None and (now["id"], now["try_number"]) == (attempt["id"], attempt["try_number"])

        return await self._link.push(package, block, sent)

    async def _execute(self, order: OrderOut) -> None:
        """Gives leave to switch: the device does at once, and may be gone before it has answered."""
        await self._change(executed_at=self._context.clock.now())
        try:
            await self._link.execute(objects.UPDATE)
        except AnsweredError as answered:
            await self._change(executed_at=None)
            await self._note_trouble(f"it was told to switch, and answered {answered}")
            return
        except AwayError:
            # It may well have switched: what it runs when it is back tells.
            return
        attempt = await self._attempt()
        if attempt is not None and attempt["id"] == order.attempt:
            clearance = "" if order.clearance is None else f", clearance {order.clearance.number}"
            await self._report(attempt, state=State.INSTALLING, detail=f"5/0/2 executed{clearance}")
        self._sight.state = UpdateState.UPDATING

    async def _take_back(self) -> None:
        """Has the device drop what it was given, if it has it: an empty URI, as the standard has it."""
        if self._sight.state in (UpdateState.DOWNLOADING, UpdateState.DOWNLOADED):
            await self._link.write(objects.PACKAGE_URI, b"")
        await self._change(attempt_id=None, try_number=None, ticket=None)
        self._given_at = None
        self._looked_at = 0.0

    async def _change(self, **values: Any) -> None:
        self._device.update(values)  # type: ignore[typeddict-item]
        async with self._context.engine.begin() as connection:
            await coap.change_coap(connection, self._device["device_id"], **values)

    async def _note_trouble(self, what: str) -> None:
        device_id, now = self._device["device_id"], self._context.clock.now()
        try:
            async with self._context.engine.begin() as connection:
                await coap.note_trouble(connection, device_id, what, now)
        except Exception as error:
            say_trouble("a device's trouble could not be noted", error, device=device_id)
