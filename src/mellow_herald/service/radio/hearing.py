"""What devices on narrow radio say, and what each is told in turn: one thing right after it has spoken.

Their check-ins and reports go into the intake like everybody's, so rings, brakes and halts do not know by which way a
device is reached. What the packages say of clock, group and fragments moves its place in a session, and that is told
to the intake in the device's stead.
"""

import asyncio
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime
from typing import Any

import structlog

from mellow_herald.core.attempt import DownloadStep, State
from mellow_herald.core.order import Order
from mellow_herald.core.radio.keys import block_mic, group_key_key, wrap
from mellow_herald.core.radio.member import Member, Step, correction, hear, next_command
from mellow_herald.core.radio.packages import Command, Package, clock, decode, encode, fragments
from mellow_herald.core.radio.session import RIGHT_WITHIN_S
from mellow_herald.core.refusal import Refused
from mellow_herald.service.calls.intake import Intake
from mellow_herald.service.context import Context
from mellow_herald.service.fleet.radio import about
from mellow_herald.service.key_box import KeyBox
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.radio.blocks import Blocks
from mellow_herald.service.radio.network import Network, Uplink
from mellow_herald.service.rollouts.radio_sessions import GROUP, INDEX, invitation_of, to_member
from mellow_herald.store import radio
from mellow_herald.store.radio import ShownRadioMember
from mellow_herald.store.rows.radio import StoredRadioDevice, StoredRadioMember, StoredRadioSession
from mellow_herald.wire import compact
from mellow_herald.wire.device import OrderOut, ReportIn

log = structlog.get_logger()
# The newest session that a device is in, and how far it is there.
Place = tuple[StoredRadioSession, StoredRadioMember] | None
PACKAGES = {"clock": Package.CLOCK, "multicast": Package.MULTICAST, "fragments": Package.FRAGMENTS}
# Between two words of a device there is room for so many that the service says in its stead.
ROOM = 1000
# A step of the set-up as a step of the download.
STEPS = {
    Step.CLOCK: DownloadStep.CLOCK,
    Step.GROUP: DownloadStep.GROUP,
    Step.SESSION: DownloadStep.SESSION,
    Step.FRAGMENTS: DownloadStep.FRAGMENTS,
    Step.READY: DownloadStep.READY,
}
# What keeps a device out of a session, as what its attempt fails by.
PROBLEMS = {
    "group-refused": "refused-by-device",
    "not-enough-memory": "no-room",
    "algo-unsupported": "refused-by-device",
    "index-unsupported": "refused-by-device",
    "wrong-descriptor": "refused-by-device",
    "mic-error": "digest-mismatch",
}


class Ears:
    """Hears for all devices of one network. ``moved`` is told the session whose members have changed."""

    def __init__(
        self, context: Context, intake: Intake, network: Network, blocks: Blocks, moved: Callable[[int], None]
    ) -> None:
        self._context, self._intake, self._network = context, intake, network
        self._blocks, self._moved = blocks, moved
        self._box = KeyBox(context.settings.data_dir)
        # The order that stands for a device, and since when; it is told once its block is there.
        self._orders: dict[int, tuple[OrderOut, datetime]] = {}
        self._unknown: set[str] = set()
        self._last_said: dict[int, tuple[object, ...]] = {}

    async def hear(self, uplink: Uplink) -> None:
        """Takes what a device said, and sees to what it is told next: that comes first, since its window opens in
        seconds, and what is written down goes beside it."""
        async with self._context.engine.connect() as connection:
            device = await radio.find_by_eui(connection, uplink.eui)
            place = None if device is None else await radio.member_of(connection, device["device_id"])
        if device is None:
            if uplink.eui not in self._unknown:
                self._unknown.add(uplink.eui)
                log.warning("a device speaks by radio that is not on record", eui=uplink.eui)
            return
        changed: dict[str, Any] = {"rssi": uplink.rssi, "data_rate": uplink.data_rate, "heard_at": uplink.at}
        package = next((PACKAGES[name] for name, port in device["ports"].items() if port == uplink.port), None)
        if package is not None:
            answers = self._take_commands(device, place, package, uplink, changed)
            await asyncio.gather(
                self._tell(device, answers, place),
                self._write(device, changed, place, uplink.at if package is Package.FRAGMENTS else None),
            )
            if place is not None:
                self._moved(place[0]["id"])
                await self._speak_for(device, *place)
        elif uplink.port == compact.PORT:
            await self._take_message(device, place, uplink, changed)
        else:
            await asyncio.gather(self._tell(device, [], place), self._write(device, changed))

    async def _write(
        self,
        device: StoredRadioDevice,
        changed: dict[str, Any],
        place: Place = None,
        answered_at: datetime | None = None,
    ) -> None:
        """Writes down what an uplink changed of a device, and of its place in a session."""
        async with self._context.engine.begin() as connection:
            await radio.change_radio(connection, device["device_id"], **changed)
            if place is not None:
                session, row = place
                columns: dict[str, Any] = {name: row[name] for name in COLUMNS}  # type: ignore[literal-required]
                if answered_at is not None:
                    columns["heard_at"] = answered_at
                await radio.change_member(connection, session["id"], device["device_id"], **columns)

    # Its own words ----------------------------------------------------------------------------------------------------

    async def _take_message(
        self, device: StoredRadioDevice, place: Place, uplink: Uplink, changed: dict[str, Any]
    ) -> None:
        device_id = device["device_id"]
        try:
            message = compact.read_uplink(uplink.payload)
        except Refused as refused:
            log.warning("a message by radio cannot be read", eui=device["eui"], why=str(refused))
            return
        checked_in = not isinstance(message, ReportIn)
        word = message if isinstance(message, ReportIn) else message[0]
        if (word.boots, word.seq) > (device["boots"], device["seq"]):
            changed |= {"boots": word.boots, "seq": word.seq, "spoken": 0}
        numbered = word.model_copy(update={"seq": word.seq * ROOM})
        try:
            if isinstance(numbered, ReportIn):
                order = await self._intake.reports(device_id, [numbered])
            else:
                order = await self._intake.checkin(device_id, numbered)
        except ProblemError as problem:
            log.warning("what a device said by radio was refused", eui=device["eui"], why=problem.detail)
            await self._write(device, changed)
            return
        for one in order.refused:
            log.warning("a report by radio was refused", eui=device["eui"], why=one.detail)
        now = self._context.clock.now()
        if order.order is not None:
            self._orders[device_id] = order, now
        else:
            # Whatever it reports of its own, it has heard the order before.
            self._orders.pop(device_id, None)
        heard = message[1] if not isinstance(message, ReportIn) else None
        await asyncio.gather(
            self._tell(device, [], place), self._note(device, place, changed, heard, order, checked_in=checked_in)
        )

    async def _note(
        self,
        device: StoredRadioDevice,
        place: Place,
        changed: dict[str, Any],
        heard: compact.Heard | None,
        order: OrderOut,
        *,
        checked_in: bool,
    ) -> None:
        """Writes down what a device said of itself; what only a session can bring becomes a wish for one."""
        device_id = device["device_id"]
        if heard is not None and 0 <= heard.lost <= heard.sent and heard.sent:
            # What it lost in its session, and what it made up for: nobody else knows.
            changed["lost"] = heard.lost / heard.sent
            changed["burst"] = max(1.0, heard.lost / heard.bursts) if heard.bursts > 0 else 1.0
        async with self._context.engine.begin() as connection:
            await radio.change_radio(connection, device_id, **changed)
            if heard is not None and place is not None:
                received = max(place[1]["received"], heard.sent - heard.lost)
                told = {"lost": heard.lost, "recovered": heard.recovered, "received": received}
                if place[1]["has_fragments"] and any(dict(place[1])[name] != told[name] for name in told):
                    await radio.change_member(connection, place[0]["id"], device_id, **told)
            if order.order is Order.FETCH:
                wish = {
                    "device_id": device_id,
                    "attempt_id": order.attempt,
                    "rollout_id": await radio.rollout_of(connection, order.attempt or 0),
                    "try_number": order.try_number,
                    "manifest": order.manifest,
                    "at": self._context.clock.now(),
                }
                await radio.put_wish(connection, wish)
            elif checked_in or order.order is not None:
                # A report is answered with an order only where that is news.
                await radio.drop_wish(connection, device_id)

    # The packages -----------------------------------------------------------------------------------------------------

    def _take_commands(
        self,
        device: StoredRadioDevice,
        place: Place,
        package: Package,
        uplink: Uplink,
        changed: dict[str, Any],
    ) -> list[Command]:
        """Moves a member by what it said; returns what it is answered."""
        answers: list[Command] = []
        for command in decode(package, uplink.payload, uplink=True):
            if isinstance(command, clock.AppTimeReq):
                # Once its time is right that is noted, until then it is corrected.
                off = correction(command.device_time, uplink.at)
                right = abs(off) <= RIGHT_WITHIN_S
                if right:
                    changed["clock_at"] = uplink.at
                if not right or command.ans_required:
                    answers.append(clock.AppTimeAns(0 if right else off, command.token_req))
            if place is None:
                continue
            session, row = place
            before = to_member(row)
            member, answer = hear(before, command, invitation_of(session, row), uplink.at)
            answers += [answer] if answer is not None and not isinstance(answer, clock.AppTimeAns) else []
            if member != before:
                row |= _columns(member)
        if place is not None and (place[1]["received"] or place[1]["complete"]) and device["key_proved_at"] is None:
            changed["key_proved_at"] = uplink.at
        return answers

    async def _speak_for(self, device: StoredRadioDevice, session: StoredRadioSession, row: StoredRadioMember) -> None:
        """Says how far a device is, in its stead: its own words are too few, and these come from it as well."""
        order, _ = self._orders.get(device["device_id"], (None, None))
        if order is None or order.order is not Order.FETCH or order.attempt != row["attempt_id"]:
            return
        member = to_member(row)
        told: dict[str, Any]
        if row["problem"] and not row["complete"] and row["problem"] in PROBLEMS:
            detail = f"session {session['id']}: {row['problem']}"
            told = {"state": State.FAILED, "reason": PROBLEMS[row["problem"]], "detail": detail}
        elif row["complete"] or row["missing"] is not None:
            whole = max(1, session["fragments"])
            percent = 100 if row["complete"] else max(0, min(99, 100 * (whole - (row["missing"] or 0)) // whole))
            step = DownloadStep.VERIFY if row["complete"] else DownloadStep.FETCH
            told = {"state": State.DOWNLOADING, "step": step, "percent": percent}
        else:
            told = {"state": State.DOWNLOADING, "step": STEPS[member.step(invitation_of(session, row))], "percent": 0}
        await self.say_for(device, order.attempt or 0, order.try_number, **told)

    async def say_of_member(self, row: ShownRadioMember, manifest: str, **told: Any) -> None:
        """The same of a member of a session, if that brings what stands for it."""
        order, _ = self._orders.get(row["device_id"], (None, None))
        if order is None or (order.attempt, order.manifest) != (row["attempt_id"], manifest):
            return
        async with self._context.engine.connect() as connection:
            device = await radio.find_by_eui(connection, row["eui"])
        if device is not None:
            await self.say_for(device, row["attempt_id"], row["try_number"], **told)

    async def say_for(self, device: StoredRadioDevice, attempt: int, try_number: int, **told: Any) -> None:
        """A report in a device's stead, numbered after its last own word."""
        same = told.get("state") is State.DOWNLOADING and self._is_old(device["device_id"], attempt, try_number, told)
        if same:
            return
        async with self._context.engine.begin() as connection:
            boots, seq, spoken = await radio.next_word(connection, device["device_id"])
        if spoken >= ROOM:
            return
        report = ReportIn.model_validate(
            {
                "boots": boots,
                "seq": seq * ROOM + spoken,
                "attempt": attempt,
                "try": try_number,
                **told,
            }
        )
        try:
            await self._intake.reports(device["device_id"], [report])
        except ProblemError as problem:
            log.warning("what was said for a device was refused", eui=device["eui"], why=problem.detail)

    def _is_old(self, device_id: int, attempt: int, try_number: int, told: dict[str, Any]) -> bool:
        """Whether just this was said for it before."""
        now = (attempt, try_number, told.get("step"), told.get("percent"))
        before, self._last_said[device_id] = self._last_said.get(device_id), now
        return before == now

    # What it is told --------------------------------------------------------------------------------------------------

    async def _tell(self, device: StoredRadioDevice, answers: list[Command], place: Place) -> None:
        """Has a device told one thing when it next listens: the order that stands comes before all but its clock."""
        device_id = device["device_id"]
        order, since = self._orders.get(device_id, (None, self._context.clock.now()))
        ready = order is not None and (order.order is not Order.FETCH or _has_block(place, order))
        timely = [one for one in answers if one.package is Package.CLOCK]
        if timely:
            await self._send_command(device, timely[0])
        elif order is not None and ready and order.order is not Order.STAY:
            payload = compact.encode_order(order, since)
            await self._network.tell(device["eui"], compact.PORT, payload)
        elif answers:
            await self._send_command(device, answers[0])
        elif order is not None and order.order is Order.FETCH and (command := await self._next(device, place)):
            await self._send_command(device, command)
        else:
            await self._network.tell_nothing(device["eui"])

    async def _send_command(self, device: StoredRadioDevice, command: Command) -> None:
        name = next(name for name, package in PACKAGES.items() if package is command.package)
        await self._network.tell(device["eui"], device["ports"][name], encode([command]))

    async def _next(self, device: StoredRadioDevice, place: Place) -> Command | None:
        """What a member is to be told of its session, with what only its own keys make."""
        if place is None or device["root_key"] is None:
            return None
        session, row = place
        if session["state"] == "ended" and row["has_fragments"] and not row["complete"]:
            # Who has not all is asked how it stands: its last answer may be from before the last fragments.
            ended_at, heard_at = session["ended_at"], row["heard_at"]
            fresh = heard_at is not None and ended_at is not None and heard_at > ended_at
            return None if fresh else fragments.FragSessionStatusReq(INDEX)
        if session["state"] != "setting-up":
            return None
        block = await self._blocks.get(session["manifest"], session["fragment"])
        root = self._box.unseal(device["root_key"], about(device["device_id"]))
        group_key = self._box.unseal(session["group_key"], group_about(session["address"]))
        late = device["lorawan"] == "1.1"
        plain = invitation_of(session, row)
        invited = replace(
            plain,
            wrapped_key=wrap(group_key, group_key_key(root, lorawan_1_1=late)),
            padding=block.padding,
            mic=block_mic(root, plain.session, INDEX, plain.descriptor, block.whole),
        )
        return next_command(to_member(row), invited)


COLUMNS = (
    "clock_at",
    "in_group",
    "has_session",
    "has_fragments",
    "problem",
    "received",
    "missing",
    "complete",
)


def _columns(member: Member) -> Any:
    return {name: getattr(member, name) for name in COLUMNS}


def group_about(address: int) -> str:
    """What a group's key is sealed for."""
    return f"key of group {address:08x} ({GROUP})"


def _has_block(place: Place, order: OrderOut) -> bool:
    """Whether the block that an order names came to the device for this very try."""
    if place is None:
        return False
    session, row = place
    asked = (order.attempt, order.try_number, order.manifest)
    return row["complete"] and (row["attempt_id"], row["try_number"], session["manifest"]) == asked
