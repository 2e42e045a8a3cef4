"""Between a radio network and everything else: one process of the service follows the network, the others would take
over. Without a network there is none of this."""

import asyncio
from collections.abc import Sequence

import structlog
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.radio.air import Region
from mellow_herald.core.rollout import RolloutState
from mellow_herald.service.calls.intake import Intake
from mellow_herald.service.context import Context
from mellow_herald.service.problems import say_trouble
from mellow_herald.service.radio.blocks import Blocks
from mellow_herald.service.radio.hearing import Ears
from mellow_herald.service.radio.network import Network, NetworkAwayError, NetworkRefusedError, Uplink
from mellow_herald.service.radio.planning import Planner, by_begin
from mellow_herald.service.radio.sending import Sender, due
from mellow_herald.service.tasks import end
from mellow_herald.store import radio, rollouts
from mellow_herald.store.gate import Lock, hold
from mellow_herald.store.rows.radio import StoredRadioSession

log = structlog.get_logger()
AGAIN_S = 1.0
# How often is looked for what is to be planned or begun: sooner where time runs fast.
LOOK_S, SELDOM_S = 0.25, 2.0
# So many devices are heard at the same time.
AT_ONCE = 8


async def keep_bridging(context: Context, intake: Intake, url: str, token: str | None) -> None:
    """Follows the network until cancelled. One process does; one that is killed leaves it to the others."""
    while True:
        try:
            async with context.engine.connect() as connection:
                if await hold(connection, Lock.RADIO):
                    try:
                        await Bridge(context, intake, url, token).run(connection)
                    finally:
                        await connection.invalidate()  # the lock ends with the session
        except (NetworkAwayError, NetworkRefusedError) as error:
            await _note_trouble(context, url, str(error))
        except Exception as error:
            say_trouble("the radio network could not be followed; trying again", error)
        await asyncio.sleep(AGAIN_S)


async def _note_trouble(context: Context, url: str, trouble: str) -> None:
    try:
        async with context.engine.begin() as connection:
            await radio.put_network(connection, url=url, trouble=trouble)
    except Exception as error:
        say_trouble("the radio network's trouble could not be noted", error)


class Bridge:
    """One network, for as long as this process follows it."""

    def __init__(self, context: Context, intake: Intake, url: str, token: str | None) -> None:
        self._context, self._url = context, url
        self._network = Network(url, token)
        self._blocks = Blocks(context)
        self._ears = Ears(context, intake, self._network, self._blocks, self._moved)
        self._planner = Planner(context, self._blocks, self._ears)
        self._sender: Sender | None = None
        self._sending: asyncio.Task[None] | None = None
        self._sent_session: int | None = None
        self._turns = asyncio.Semaphore(AT_ONCE)

    async def run(self, holding: AsyncConnection) -> None:
        """Listens, plans and sends for as long as ``holding``, by which no other process does, is there."""
        async with self._network:
            facts = await self._network.show()
            region = Region(facts.region)
            tasks = [asyncio.create_task(self._listen(region)), asyncio.create_task(self._drive(region, holding))]
            try:
                await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
                for task in tasks:
                    if task.done():
                        await task  # raises why
            finally:
                await end([*tasks, *([self._sending] if self._sending else [])])

    def _moved(self, session_id: int) -> None:
        if self._sender is not None and self._sent_session == session_id:
            self._sender.moved.set()

    async def _listen(self, region: Region) -> None:
        async with self._context.engine.connect() as connection:
            row = await radio.network_row(connection)
        same = row is not None and row["url"] == self._url
        run, newest = (row["run"], row["uplinks"]) if row is not None and same else ("", 0)
        while True:
            told_run, heard = await self._network.uplinks(run, newest)
            if told_run != run:
                run, newest = told_run, 0
            own: dict[str, list[Uplink]] = {}
            for uplink in heard:
                own.setdefault(uplink.eui, []).append(uplink)
                newest = uplink.number
            async with asyncio.TaskGroup() as hearing:
                for uplinks in own.values():
                    hearing.create_task(self._hear(uplinks))
            async with self._context.engine.begin() as connection:
                known = {"url": self._url, "run": run, "uplinks": newest, "region": region.value, "trouble": ""}
                await radio.put_network(connection, heard_at=self._context.clock.now(), **known)

    async def _hear(self, uplinks: Sequence[Uplink]) -> None:
        """What one device said, in order; others are heard meanwhile."""
        async with self._turns:
            try:
                await self._ears.hear(uplinks)
            except (NetworkAwayError, NetworkRefusedError) as error:
                # What it was to be told it is told when it speaks again.
                await _note_trouble(self._context, self._url, str(error))
            except Exception as error:
                # One that cannot be dealt with is not to keep all that come after it.
                say_trouble("what a device said by radio could not be dealt with", error, eui=uplinks[-1].eui)

    async def _drive(self, region: Region, holding: AsyncConnection) -> None:
        while True:
            await holding.execute(radio.STILL_THERE)
            await holding.rollback()
            await self._call_back()
            async with self._context.engine.connect() as connection:
                sessions = by_begin(await radio.list_sessions(connection, under_way=True))
            await self._end_idle(sessions)
            if self._sending is not None and self._sending.done():
                task, self._sending, self._sender, self._sent_session = self._sending, None, None, None
                await task
            if self._sending is None:
                session = due([one for one in sessions if one["region"] == region], self._context.clock.now())
                if session is not None:
                    self._sender = Sender(self._context, self._network, self._blocks, self._ears, session)
                    self._sent_session = session["id"]
                    self._sending = asyncio.create_task(self._sender.run())
            try:
                await self._planner.plan(region)
            except Exception as error:
                # Devices go on being heard, and what is under way goes on.
                say_trouble("sessions by radio could not be planned; trying again", error)
                await asyncio.sleep(AGAIN_S)
            await asyncio.sleep(max(LOOK_S, SELDOM_S / self._context.clock.scale))

    async def _end_idle(self, sessions: list[StoredRadioSession]) -> None:
        """Sessions of rollouts that do not run any more are not begun."""
        waiting = [one for one in sessions if one["state"] == "setting-up"]
        if not waiting:
            return
        async with self._context.engine.begin() as connection:
            states = await rollouts.rollout_states(connection, {one["rollout_id"] for one in waiting})
            for one in waiting:
                state = states.get(one["rollout_id"], RolloutState.CANCELLED.value)
                if state != RolloutState.RUNNING:
                    now = self._context.clock.now()
                    await radio.change_session(connection, one["id"], state="ended", ended_at=now, outcome=state)

    async def _call_back(self) -> None:
        """What waits at the network for devices of a halted rollout is dropped: leave to switch above all."""
        async with self._context.engine.connect() as connection:
            halted = await radio.cleared_in_halted(connection)
        for device_id, eui in halted:
            await self._ears.call_back(device_id, eui)
