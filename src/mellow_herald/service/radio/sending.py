"""One session on the air: fragments at the channel's pace, questions how devices stand, an early end, a halt."""

import asyncio
import time
from collections.abc import Sequence
from datetime import datetime, timedelta

import structlog

from mellow_herald.core.attempt import DownloadStep, State
from mellow_herald.core.radio.keys import GroupSession
from mellow_herald.core.radio.member import SETUP, Member, Step
from mellow_herald.core.radio.packages import PORTS, Package, encode, fragments
from mellow_herald.core.radio.session import Layout, earliest
from mellow_herald.core.radio.transmission import (
    AskStatus,
    End,
    Outcome,
    SendFragment,
    Sent,
    WaitUntil,
    answered,
    asked,
    fragment_sent,
    next_move,
)
from mellow_herald.core.rollout import RolloutState
from mellow_herald.service.context import Context
from mellow_herald.service.key_box import KeyBox
from mellow_herald.service.radio.blocks import Blocks
from mellow_herald.service.radio.hearing import Ears, group_about
from mellow_herald.service.radio.network import Network, NetworkAwayError, NetworkRefusedError
from mellow_herald.service.releases.package import NoPackageError
from mellow_herald.service.rollouts.radio_sessions import INDEX, invitation_of, to_member
from mellow_herald.store import radio, rollouts
from mellow_herald.store.feed import FeedEvent, publish
from mellow_herald.store.radio import ShownRadioMember
from mellow_herald.store.rows.radio import StoredRadioSession

log = structlog.get_logger()
# Frame counters are written down so many at a time: after a restart those that may have been used are left out.
COUNTERS = 64
# How far the sending is, is written down every so many fragments.
NOTED_EVERY = 8
# The next frames are handed over while so many handfuls are on their way, so that the channel is never idle.
AHEAD = 2
# A handful is what goes out in so long (s, real time), one frame at least.
TOGETHER_S, MOST_TOGETHER = 0.25, 8
# How often a session is put off because nobody is ready: what was foreseen was too short, so each time for twice as
# long as the time before, up to so many times what is foreseen.
MOST_POSTPONED, MOST_TIMES = 4, 8
AGAIN_S, FULL_S, LOOK_S, RUNS_S = 1.0, 0.05, 0.5, 0.1


class Sender:
    """Sends one session, from its beginning to its end; goes on where another process left off."""

    def __init__(
        self, context: Context, network: Network, blocks: Blocks, ears: Ears, session: StoredRadioSession
    ) -> None:
        self._context, self._network, self._blocks, self._ears = context, network, blocks, ears
        self._session = session
        self._layout = _layout(session)
        self._sent = Sent(session["sent"], session["answers_until"], session["asked_after"], session["ask_next_after"])
        self._counter = self._free_counters = session["next_counter"]
        self._members: list[ShownRadioMember] = []
        self._trouble = session["trouble"]
        self._begins: list[datetime] = []
        self._state, self._looked = RolloutState.RUNNING.value, 0.0
        self.moved = asyncio.Event()

    async def run(self) -> None:
        """Sends until it is over."""
        session = self._session
        try:
            block = await self._blocks.get(session["manifest"], session["fragment"])
        except NoPackageError as error:
            await self._end("no-release", str(error))
            return
        if session["state"] == "setting-up":
            if await self._postpone():
                return
            await self._begin()
        key = KeyBox(self._context.settings.data_dir).unseal(session["group_key"], group_about(session["address"]))
        group = GroupSession.derive(key, session["address"])
        ends_at = session["begins_at"] + timedelta(seconds=2 ** session["time_out"])
        self.moved.set()
        while True:
            now = self._context.clock.now()
            if self.moved.is_set():
                self.moved.clear()
                await self._load()
            if now >= ends_at:
                await self._end("out-of-time", "devices do not listen any more")
                return
            ready = self._ready()
            halted = not await self._runs()
            if not ready and not halted:
                await self._end("nobody-ready", "")
                return
            move = next_move(self._sent, self._layout, ready, session["begins_at"], now, halted=halted)
            match move:
                case SendFragment():
                    numbers, sent = self._next_fragments(ready, now)
                    data = [fragments.DataFragment(INDEX, one, block.cut.payload(one)) for one in numbers]
                    if await self._send(group, [encode([one]) for one in data]):
                        noted = self._sent.fragments // NOTED_EVERY
                        self._sent = sent
                        if sent.fragments // NOTED_EVERY > noted:
                            await self._note()
                case AskStatus(everybody):
                    question = fragments.FragSessionStatusReq(INDEX, everybody)
                    if await self._send(group, [encode([question])]):
                        # Their answers begin when the question has gone out.
                        out = max(self._begins[-1], now) if self._begins else now
                        self._sent = asked(self._sent, session["spread"], out)
                        await self._note()
                case WaitUntil(at):
                    await self._wait(min(at, now + timedelta(seconds=LOOK_S * self._context.clock.scale)))
                    over = (
                        self._sent.answers_until is not None and self._context.clock.now() >= self._sent.answers_until
                    )
                    if over:
                        await self._load()
                        self._sent = answered(self._sent, self._ready())
                        await self._note()
                case End(outcome):
                    if outcome is Outcome.HALTED:
                        await self._withdraw()
                    # What ended it may have been a hold or a cancellation just as well.
                    await self._end(self._state if outcome is Outcome.HALTED else outcome.value, "")
                    return

    def _next_fragments(self, ready: Sequence[Member], now: datetime) -> tuple[list[int], Sent]:
        """The numbers of the fragments that go out next, and how far it is then. Where time runs fast, several are
        handed over together: each by itself would take longer than it is on the air."""
        session, numbers, sent = self._session, list[int](), self._sent
        most = TOGETHER_S * self._context.clock.scale / session["apart_s"]
        while len(numbers) < max(1, min(MOST_TOGETHER, int(most))):
            move = next_move(sent, self._layout, ready, session["begins_at"], now, halted=False)
            if not isinstance(move, SendFragment):
                break
            numbers.append(move.number + session["first_number"] - 1)
            sent = fragment_sent(sent)
        return numbers, sent

    async def _postpone(self) -> bool:
        """Puts it off, if nobody that it could bring anything is ready, but others could be."""
        session, now = self._session, self._context.clock.now()
        await self._load()
        members = [(one, to_member(one)) for one in self._members if one["state"] in radio.WANTED]
        steps = [(one, member, member.step(invitation_of(session, one))) for one, member in members]
        late = [(one, member) for one, member, step in steps if step in SETUP and not member.problem]
        ready = any(step is Step.READY and not member.problem for _, member, step in steps)
        if ready or not late or session["postponed"] >= MOST_POSTPONED or not await self._runs():
            return False
        needs = [
            (timedelta(seconds=one["interval_s"]), member.messages(invitation_of(session, one))) for one, member in late
        ]
        begins_at = now + (earliest(now, needs) - now) * min(MOST_TIMES, 2 ** (session["postponed"] + 1))
        async with self._context.engine.begin() as connection:
            await radio.change_session(
                connection, session["id"], begins_at=begins_at, postponed=session["postponed"] + 1
            )
            # It begins at another time than they were told.
            await radio.forget_session_times(connection, session["id"])
            data = {"session": session["id"], "state": "postponed", "late": len(late)}
            await publish(connection, [FeedEvent(now, "radio", session["rollout_id"], data=data)])
        log.info("a session by radio is put off: nobody is ready", session=session["id"], begins_at=str(begins_at))
        return True

    async def _begin(self) -> None:
        """Tells who is ready, and who is not and is served later; begins."""
        session, now = self._session, self._context.clock.now()
        await self._load()
        async with self._context.engine.begin() as connection:
            for one in self._members:
                step = to_member(one).step(invitation_of(session, one))
                ready = step in (Step.READY, Step.COMPLETE) and not one["problem"]
                await radio.change_member(connection, session["id"], one["device_id"], ready=ready)
            await radio.change_session(connection, session["id"], state="sending", began_at=now)
            late = sum(to_member(one).step(invitation_of(session, one)) is not Step.READY for one in self._members)
            data = {"session": session["id"], "state": "sending", "devices": len(self._members), "late": late}
            await publish(connection, [FeedEvent(now, "radio", session["rollout_id"], data=data)])
        for one in self._members:
            if to_member(one).step(invitation_of(session, one)) is Step.READY:
                await self._ears.say_of_member(
                    one, session["manifest"], state=State.DOWNLOADING, step=DownloadStep.FETCH, percent=0
                )

    async def _load(self) -> None:
        async with self._context.engine.connect() as connection:
            self._members = await radio.list_members(connection, self._session["id"])

    def _ready(self) -> list[Member]:
        """Those that were ready when it began and are still to be served, or have been."""
        there = (one for one in self._members if one["ready"] and (one["complete"] or one["state"] in radio.WANTED))
        return [to_member(one) for one in there]

    async def _runs(self) -> bool:
        """Whether the rollout still runs: whatever else it is, nothing more is sent. Where time runs fast, frames are
        nearer to each other than that is worth looking at."""
        if time.monotonic() - self._looked < RUNS_S:
            return self._state == RolloutState.RUNNING
        self._looked = time.monotonic()
        rollout_id = self._session["rollout_id"]
        async with self._context.engine.connect() as connection:
            states = await rollouts.rollout_states(connection, {rollout_id})
        self._state = states.get(rollout_id, RolloutState.CANCELLED.value)
        return self._state == RolloutState.RUNNING

    async def _send(self, group: GroupSession, payloads: Sequence[bytes]) -> bool:
        """Hands frames over, when it is their turn; False if the network would not have them now."""
        await self._wait_for_turn()
        session = self._session
        if self._counter + len(payloads) > self._free_counters:
            self._free_counters = self._counter + COUNTERS
            async with self._context.engine.begin() as connection:
                await radio.change_session(connection, session["id"], next_counter=self._free_counters)
        first, port = self._counter, PORTS[Package.FRAGMENTS]
        frames = [group.frame(first + at, port, payload) for at, payload in enumerate(payloads)]
        # Whether they were heard or not: no counter is used twice.
        self._counter += len(frames)
        try:
            begins = await self._network.send(frames, session["frequency"], session["data_rate"])
        except NetworkRefusedError as refused:
            if refused.kind != "full":
                await self._note_trouble(str(refused))
            await asyncio.sleep(FULL_S if refused.kind == "full" else AGAIN_S)
            return False
        except NetworkAwayError as away:
            await self._note_trouble(str(away))
            await asyncio.sleep(AGAIN_S)
            return False
        self._begins = [*self._begins[-AHEAD:], begins]
        await self._note_trouble("")
        return True

    async def _wait_for_turn(self) -> None:
        """Few frames wait at the network, so that a halt finds few."""
        if len(self._begins) >= AHEAD:
            await self._wait(self._begins[-AHEAD])

    async def _wait(self, until: datetime) -> None:
        clock = self._context.clock
        seconds = (until - clock.now()).total_seconds() / clock.scale
        if seconds > 0:
            await asyncio.sleep(seconds)

    async def _note(self) -> None:
        sent = self._sent
        async with self._context.engine.begin() as connection:
            await radio.change_session(
                connection,
                self._session["id"],
                sent=sent.fragments,
                answers_until=sent.answers_until,
                asked_after=sent.asked_after,
                ask_next_after=sent.ask_next_after,
            )
            data = {"session": self._session["id"], "state": "sending", "sent": sent.fragments, "moved": False}
            now = self._context.clock.now()
            await publish(connection, [FeedEvent(now, "radio", self._session["rollout_id"], data=data)])

    async def _note_trouble(self, trouble: str) -> None:
        if trouble == self._trouble:
            return
        self._trouble = trouble
        async with self._context.engine.begin() as connection:
            await radio.change_session(connection, self._session["id"], trouble=trouble)
        if trouble:
            log.warning("a session by radio does not go on", session=self._session["id"], why=trouble)

    async def _withdraw(self) -> None:
        try:
            dropped = await self._network.withdraw()
        except (NetworkAwayError, NetworkRefusedError) as error:
            await self._note_trouble(f"halted, but frames may still go out: {error}")
            return
        self._sent = Sent(max(0, self._sent.fragments - dropped), None, self._sent.asked_after)

    async def _end(self, outcome: str, trouble: str) -> None:
        now = self._context.clock.now()
        await self._note()
        async with self._context.engine.begin() as connection:
            more = {"trouble": trouble} if trouble else {}
            await radio.change_session(
                connection,
                self._session["id"],
                state="ended",
                ended_at=now,
                outcome=outcome,
                answers_until=None,
                **more,
            )
            data = {"session": self._session["id"], "state": "ended", "outcome": outcome}
            await publish(connection, [FeedEvent(now, "radio", self._session["rollout_id"], data=data)])
        log.info("a session by radio has ended", session=self._session["id"], outcome=outcome)


def _layout(row: StoredRadioSession) -> Layout:
    """What is sent until devices are asked for the first time, and what after that."""
    every = row["coded"] + (row["fragments"] if row["first_number"] == 1 else 0)
    length = row["apart_s"] * every
    return Layout(row["ask_after"], every - row["ask_after"], row["on_air_s"], row["apart_s"], length, row["time_out"])


def due(sessions: Sequence[StoredRadioSession], now: datetime) -> StoredRadioSession | None:
    """The session that is to be sent now: one that was begun goes before all others."""
    begun = next((one for one in sessions if one["state"] == "sending"), None)
    return begun or next((one for one in sessions if one["begins_at"] <= now), None)
