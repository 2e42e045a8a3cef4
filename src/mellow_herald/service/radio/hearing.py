"""What devices on narrow radio say, and what each is told in turn: one thing right after it has spoken.

Their check-ins and reports go into the intake like everybody's, so rings, brakes and halts do not know by which way a
device is reached. What the packages say of clock, group and fragments moves its place in a session, and that is told
to the intake in the device's stead.
"""

import asyncio
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any

import structlog

from mellow_herald.core.attempt import DownloadStep, State
from mellow_herald.core.order import Order
from mellow_herald.core.radio.keys import block_mic, group_key_key, wrap
from mellow_herald.core.radio.member import Member, correction, hear, next_command
from mellow_herald.core.radio.packages import Command, Package, clock, decode, encode, fragments
from mellow_herald.core.radio.session import RIGHT_WITHIN_S
from mellow_herald.core.refusal import Refused
from mellow_herald.service.calls.intake import Intake
from mellow_herald.service.calls.reported import Reported
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
# So many fragments of a session tell what a device loses.
MEASURED = 30
# Between two words of a device there is room for so many that the service says in its stead.
ROOM = 1000
# What keeps a device out of a session, as what its attempt fails by.
PROBLEMS = {
    "group-refused": "refused-by-device",
    "not-enough-memory": "no-room",
    "algo-unsupported": "refused-by-device",
    "index-unsupported": "refused-by-device",
    "wrong-descriptor": "refused-by-device",
    "mic-error": "digest-mismatch",
}


@dataclass(slots=True)
class _News:
    """What one device said at once: what it ``changed`` on record, whether it said something of a package
    (``commands``), when it answered about fragments, and the order that stands after its own words."""

    device: StoredRadioDevice
    place: Place
    changed: dict[str, Any] = field(default_factory=dict)
    commands: bool = False
    answered_at: datetime | None = None
    checked_in: bool = False
    order: OrderOut | None = None
    heard: compact.Heard | None = None


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
        # For whom nothing waits at the network.
        self._nothing: set[str] = set()
        self._last_said: dict[int, tuple[object, ...]] = {}

    async def hear(self, uplinks: Sequence[Uplink]) -> None:
        """Takes what one device said, in order, and sees to what it is told next: that comes first, since its window
        opens in seconds, and what is written down goes beside it."""
        eui = uplinks[-1].eui
        async with self._context.engine.connect() as connection:
            device = await radio.find_by_eui(connection, eui)
            place = None if device is None else await radio.member_of(connection, device["device_id"])
        if device is None:
            if eui not in self._unknown:
                self._unknown.add(eui)
                log.warning("a device speaks by radio that is not on record", eui=eui)
            return
        news, answers = _News(device, place), list[Command]()
        for uplink in uplinks:
            news.changed |= {"rssi": uplink.rssi, "data_rate": uplink.data_rate, "heard_at": uplink.at}
            package = next((PACKAGES[name] for name, port in device["ports"].items() if port == uplink.port), None)
            if package is not None:
                answers += self._take_commands(news, package, uplink)
            elif uplink.port == compact.PORT:
                await self._take_message(news, uplink)
        await asyncio.gather(self._tell(device, answers, place), self._write(news))
        if place is not None and news.commands:
            self._moved(place[0]["id"])
            await self._speak_for(device, *place)

    async def _write(self, news: "_News") -> None:
        """Writes down what was heard; what only a session can bring becomes a wish for one."""
        device_id, changed, heard = news.device["device_id"], news.changed, news.heard
        columns: dict[str, Any] = {}
        if news.place is not None and news.commands:
            columns = {name: news.place[1][name] for name in COLUMNS}  # type: ignore[literal-required]
            if news.answered_at is not None:
                columns["heard_at"] = news.answered_at
        if heard is not None and 0 <= heard.lost <= heard.sent and heard.sent:
            # What it lost in its session, and what it made up for: nobody else knows. A few fragments tell little.
            if heard.sent >= MEASURED:
                changed["lost"] = heard.lost / heard.sent
                changed["burst"] = max(1.0, heard.lost / heard.bursts) if heard.bursts > 0 else 1.0
            if news.place is not None and news.place[1]["has_fragments"]:
                received = max(news.place[1]["received"], heard.sent - heard.lost)
                columns |= {"lost": heard.lost, "recovered": heard.recovered, "received": received}
        async with self._context.engine.begin() as connection:
            await radio.change_radio(connection, device_id, **changed)
            if columns and news.place is not None:
                await radio.change_member(connection, news.place[0]["id"], device_id, **columns)
            if news.order is not None and news.order.order is Order.FETCH:
                wish = {
                    "device_id": device_id,
                    "attempt_id": news.order.attempt,
                    "rollout_id": await radio.rollout_of(connection, news.order.attempt or 0),
                    "try_number": news.order.try_number,
                    "manifest": news.order.manifest,
                    "at": self._context.clock.now(),
                }
                await radio.put_wish(connection, wish)
            elif news.checked_in or (news.order is not None and news.order.order is not None):
                # A report is answered with an order only where that is news.
                await radio.drop_wish(connection, device_id)

    # Its own words ----------------------------------------------------------------------------------------------------

    async def _take_message(self, news: "_News", uplink: Uplink) -> None:
        device, device_id = news.device, news.device["device_id"]
        try:
            message = compact.read_uplink(uplink.payload)
        except Refused as refused:
            log.warning("a message by radio cannot be read", eui=device["eui"], why=str(refused))
            return
        word = message if isinstance(message, ReportIn) else message[0]
        if (word.boots, word.seq) > (device["boots"], device["seq"]):
            device |= {"boots": word.boots, "seq": word.seq}
            news.changed |= {"boots": word.boots, "seq": word.seq, "spoken": 0}
        numbered = word.model_copy(update={"seq": word.seq * ROOM})
        try:
            if isinstance(numbered, ReportIn):
                order = await self._intake.reports(device_id, Reported.of(numbered))
            else:
                order = await self._intake.checkin(device_id, numbered)
        except ProblemError as problem:
            log.warning("what a device said by radio was refused", eui=device["eui"], why=problem.detail)
            return
        for one in order.refused:
            log.warning("a report by radio was refused", eui=device["eui"], why=one.detail)
        if order.order is not None:
            self._orders[device_id] = order, self._context.clock.now()
        else:
            # Whatever it reports of its own, it has heard the order before.
            self._orders.pop(device_id, None)
        news.order = order
        if not isinstance(message, ReportIn):
            news.checked_in, news.heard = True, message[1] or news.heard

    # The packages -----------------------------------------------------------------------------------------------------

    def _take_commands(self, news: "_News", package: Package, uplink: Uplink) -> list[Command]:
        """Moves a member by what it said; returns what it is answered."""
        place, device, changed = news.place, news.device, news.changed
        news.commands = True
        if package is Package.FRAGMENTS:
            news.answered_at = uplink.at
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
            step = DownloadStep(member.step(invitation_of(session, row)).value)
            told = {"state": State.DOWNLOADING, "step": step, "percent": 0}
        await self.say_for(device, order.attempt or 0, order.try_number, **told)

    async def call_back(self, device_id: int, eui: str) -> None:
        """Leave to switch that has not reached a device yet, of a rollout that was halted, is not to reach it."""
        self._orders.pop(device_id, None)
        if eui not in self._nothing:
            await self._tell_nothing(eui)

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
            await self._intake.reports(device["device_id"], Reported.of(report))
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
            await self._send(device, compact.PORT, payload)
        elif answers:
            await self._send_command(device, answers[0])
        elif order is not None and order.order is Order.FETCH and (command := await self._next(device, place)):
            await self._send_command(device, command)
        elif device["eui"] not in self._nothing:
            await self._tell_nothing(device["eui"])

    async def _tell_nothing(self, eui: str) -> None:
        await self._network.tell_nothing(eui)
        self._nothing.add(eui)

    async def _send_command(self, device: StoredRadioDevice, command: Command) -> None:
        name = next(name for name, package in PACKAGES.items() if package is command.package)
        await self._send(device, device["ports"][name], encode([command]))

    async def _send(self, device: StoredRadioDevice, port: int, payload: bytes) -> None:
        self._nothing.discard(device["eui"])
        await self._network.tell(device["eui"], port, payload)

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
