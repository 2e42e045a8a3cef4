"""The process that rehearses one plan: it has a connection of its own, and gets out of everybody's way."""

import asyncio
import os
import signal
import sys
import threading
import time
from contextlib import suppress
from datetime import UTC, datetime
from typing import Any

from sqlalchemy.ext.asyncio import AsyncEngine

from mellow_herald.core.refusal import Refused
from mellow_herald.core.rehearsal.faults import parse_fault
from mellow_herald.core.rehearsal.rehearse import Ask, rehearse
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.rehearsals.loading import load, struck_by
from mellow_herald.service.rehearsals.results import result_of
from mellow_herald.service.rollouts.brakes import foresee_watch
from mellow_herald.service.rollouts.planning import draw, prepare
from mellow_herald.store import rehearsals
from mellow_herald.store.database import make_engine
from mellow_herald.store.gate import Lock, hold
from mellow_herald.store.rehearsals import StoredRehearsal
from mellow_herald.store.tables import RehearsalState
from mellow_herald.store.trouble import ERRORS, is_away
from mellow_herald.wire.plan import PlanDocument

DATABASE = "HERALD_REHEARSAL_DATABASE"
NICE, LOOK_S, LONGEST_WAIT_S, LONGEST_AWAY_S, LONGEST_ALONE_S = 10, 0.5, 3600.0, 3600.0, 60.0
STARTED_BY = os.getppid()
UNDER_WAY = (RehearsalState.WAITING, RehearsalState.RUNNING)


class _CancelledError(Exception):
    """Somebody cancelled it."""


async def main(rehearsal_id: int, turn_s: float) -> None:
    """Waits for its turn, rehearses, and writes down the answer, or why there is none. The service looks at rollouts
    every ``turn_s`` seconds of its time."""
    os.nice(NICE)
    engine = make_engine(os.environ[DATABASE], 3, 0)
    work = asyncio.ensure_future(_rehearse(engine, rehearsal_id, turn_s))
    asyncio.get_running_loop().add_signal_handler(signal.SIGTERM, work.cancel)
    try:
        await work
    except _CancelledError:
        pass
    except asyncio.CancelledError:
        why = "the service was ended meanwhile; ask for it again"
        await _end(engine, rehearsal_id, RehearsalState.FAILED, why=why)
    except (Refused, ProblemError) as refusal:
        await _end(engine, rehearsal_id, RehearsalState.FAILED, why=str(refusal))
    except Exception as error:
        why = "the database went away" if is_away(error) else f"it broke off: {type(error).__name__}"
        await _end(engine, rehearsal_id, RehearsalState.FAILED, why=f"{why}; ask for it again")
        raise
    finally:
        await engine.dispose()


async def _rehearse(engine: AsyncEngine, rehearsal_id: int, turn_s: float) -> None:
    async with engine.connect() as turn:
        began = time.monotonic()
        while not await hold(turn, Lock.REHEARSAL):
            await _beat(engine, rehearsal_id, RehearsalState.WAITING, 0.0)
            if time.monotonic() - began > LONGEST_WAIT_S:
                raise Refused("busy", "others were rehearsed for an hour.", "Try again.")
            await asyncio.sleep(LOOK_S)
        began = time.monotonic()
        await _beat(engine, rehearsal_id, RehearsalState.RUNNING, 0.0)
        async with engine.connect() as connection:
            row = await rehearsals.find(connection, rehearsal_id)
            if row is None:
                raise _CancelledError
            ask, model = await _ask(engine, row, turn_s)
        rehearsed = await _play(engine, rehearsal_id, ask)
        result = result_of(rehearsed, ask, row, model, time.monotonic() - began)
        await _end(engine, rehearsal_id, RehearsalState.DONE, result=result.model_dump(mode="json"), progress=1.0)
        with suppress(*ERRORS):
            await turn.invalidate()  # the lock ends with the session


async def _ask(engine: AsyncEngine, row: StoredRehearsal, turn_s: float) -> tuple[Ask, Any]:
    now = row["asked_at"]
    async with engine.begin() as connection:
        prepared = await prepare(connection, PlanDocument.model_validate(row["plan"]), now)
        drawn = await draw(connection, prepared.plan, prepared.target, now)
        watch = await foresee_watch(connection, prepared.plan, prepared.target, now)
    # Not in the same transaction: that would hold up who withdraws a release, or revokes a key, for as long.
    async with engine.connect() as connection:
        model = await load(connection, prepared, drawn, now)
        faults = [parse_fault(text) for text in row["faults"]]
        struck = [(fault, await struck_by(connection, fault, model, now)) for fault in faults]
    if not model.ids:
        raise Refused("no-devices", "the plan reaches no device now.", "See `herald rollout preview`.")
    size, people = prepared.size, row["people_s"] / 3600
    return Ask(
        prepared.plan, model.fleet, watch, now, size, struck, row["runs"], row["seed"], people, turn_s / 3600
    ), model


async def _play(engine: AsyncEngine, rehearsal_id: int, ask: Ask) -> Any:
    """Plays in a thread, and says how far it is meanwhile."""
    done, stop = [0.0], threading.Event()

    def told(share: float) -> None:
        done[0] = share
        if stop.is_set():
            raise _CancelledError

    playing = asyncio.ensure_future(asyncio.to_thread(rehearse, ask, told))
    try:
        while not playing.done():
            await asyncio.wait([playing], timeout=LOOK_S)
            try:
                await _beat(engine, rehearsal_id, RehearsalState.RUNNING, done[0])
            except _CancelledError:
                stop.set()
            except ERRORS as error:
                if not is_away(error):
                    raise
                # It needs the database again only when it has an answer.
    finally:
        stop.set()
        await asyncio.wait([playing])
        playing.exception()  # whoever ends it need not hear of it
    return playing.result()


async def _beat(engine: AsyncEngine, rehearsal_id: int, state: RehearsalState, progress: float) -> None:
    async with engine.begin() as connection:
        values = {"state": state.value, "progress": progress, "beat_at": datetime.now(UTC)}
        if not await rehearsals.move(connection, rehearsal_id, UNDER_WAY, **values):
            raise _CancelledError


async def _end(engine: AsyncEngine, rehearsal_id: int, state: RehearsalState, **values: Any) -> None:
    """Writes down how it ended, as soon as the database is there; without the service that started it, the wait is
    short: both were ended, and may never come back."""
    began = time.monotonic()
    while True:
        try:
            async with engine.begin() as connection:
                now = datetime.now(UTC)
                await rehearsals.move(connection, rehearsal_id, UNDER_WAY, state=state.value, beat_at=now, **values)
            return
        except ERRORS as error:
            longest = LONGEST_AWAY_S if os.getppid() == STARTED_BY else LONGEST_ALONE_S
            if not is_away(error) or time.monotonic() - began > longest:
                raise
        await asyncio.sleep(LOOK_S)


if __name__ == "__main__":
    asyncio.run(main(int(sys.argv[1]), float(sys.argv[2])))
