"""Letting devices in and out, and what engineers write on them."""

from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import and_
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import BEFORE_SWITCH, CallOff, Refusal, State, advance
from mellow_herald.core.selector import Compare, Node, parse_selector
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.rollouts.ending import attempt_event, word_of_service
from mellow_herald.store import admission, attempts
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal
from mellow_herald.store.fleet import find_device, generations
from mellow_herald.wire.fleet import DeviceEdit, LabelsIn

SLICE = 5000
NAMED = 20
MOST_PINS = 10_000
# From where a device can get there: what was retired stays out, and comes back only by enrolling again.
FROM = {"admitted": ("asking", "refused"), "refused": ("asking",), "retired": ("asking", "admitted", "refused")}

FROM_ANY = ("asking", "admitted", "refused", "retired")


async def decide(context: Context, to: str, where: Node | None, serials: Sequence[str], by: str, why: str) -> list[str]:
    """Admits, refuses or retires devices; returns their serials. Nothing happens to those it does not concern; a
    problem says why, if it concerns none of those that were named."""
    done: list[str] = []
    while True:
        now = context.clock.now()
        async with context.engine.begin() as connection:
            condition = admission.picked(where, serials, now)
            rows = await admission.lock_picked(connection, condition, FROM[to], SLICE)
            if not rows:
                break
            ids = [row["id"] for row in rows]
            arriving = to == "admitted"
            await admission.change_devices(connection, ids, admission=to, changed_at=now, arriving=arriving)
            if to == "retired":
                await _call_off(connection, ids, context)
            events = [
                FeedEvent(
                    now,
                    "admission",
                    None,
                    row["id"],
                    data={
                        "serial": row["serial"],
                        "admission": to,
                        "generation": row["generation"],
                    },
                )
                for row in rows
            ]
            await publish(connection, [*events, FeedEvent(now, "orders", data={"admission": to})])
            names = [row["serial"] for row in rows]
            subject = names[0] if len(names) == 1 else f"{len(names)} devices"
            data = {"devices": names[:NAMED], "count": len(names)}
            await write_journal(connection, JournalEntry(now, by, f"device {to}", subject, why, data))
        done += names
        for row in rows:  # this process at once, the others by the feed
            note_admission(context, row["id"], to, row["generation"])
        if len(rows) < SLICE:
            break
    if serials and not done:
        await _say_why_none(context, to, serials)
    return done


async def _say_why_none(context: Context, to: str, serials: Sequence[str]) -> None:
    """A problem, if none of the devices that were named can be decided upon like this."""
    async with context.engine.connect() as connection:
        device = await find_device(connection, serials[0])
    if device is None:
        raise ProblemError(404, "not-found", f"There is no device {serials[0]!r}. See `herald device list`.")
    if device["admission"] != to:  # what is so already is no mistake
        way = " Retire it, if it is not to be there any more." if to == "refused" else ""
        detail = f"{serials[0]} is {device['admission']}: only who is {' or '.join(FROM[to])} can be {to}.{way}"
        raise ProblemError(409, "not-now", detail)


def note_admission(context: Context, device_id: int, state: str, generation: int) -> None:
    """Makes a device's token good or not, in this process. One that asks is heard, and told that it must wait."""
    context.memory.admit(device_id, generation if state in ("admitted", "asking") else None)


async def load_admissions(context: Context, ids: Sequence[int]) -> None:
    """Reads which of these devices' tokens are good, after the feed brought word of them.

    The word itself may be older than what this process decided since, so it is the database that is asked.
    """
    memory = context.memory
    while True:
        before = memory.admissions
        async with context.engine.connect() as connection:
            good = await generations(connection, ids)
        if memory.admissions == before:
            break
    for device_id in ids:
        memory.admit(device_id, good.get(device_id))


async def _call_off(connection: AsyncConnection, ids: list[int], context: Context) -> None:
    """What a retired device had not begun to switch to is called off; what it had is left to its silence."""
    now = context.clock.now()
    changed, timeline, events = [], [], []
    for row in await attempts.lock_attempts(connection, ids, []):
        if not row["live"] or State(row["state"]) not in BEFORE_SWITCH:
            continue
        outcome = advance(attempts.to_attempt(row), CallOff("retired"), now)
        if not isinstance(outcome, Refusal):
            changed.append(attempts.from_attempt(row["id"], outcome.attempt, now))
            timeline.append(word_of_service(row["id"], outcome.attempt, now, "the device was retired"))
            events.append(attempt_event(row, outcome.attempt, now))
    await attempts.save_attempts(connection, changed)
    await attempts.add_to_timeline(connection, timeline)
    await publish(connection, events)


async def edit(context: Context, serial: str, asked: DeviceEdit, by: str) -> None:
    """Changes labels (a value of None takes one off) and the note of a device."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        row = await _locked(connection, context, serial)
        labels = {**row["labels"], **asked.labels}
        values: dict[str, Any] = {"labels": {key: value for key, value in labels.items() if value is not None}}
        if asked.note is not None:
            values["note"] = asked.note
        if asked.gateway is not None:
            values["gateway"] = asked.gateway or None
        if asked.on_bench is not None:
            values["on_bench"] = asked.on_bench
        await admission.change_devices(connection, [row["id"]], **values, changed_at=now)
        data = asked.model_dump(exclude_none=False)
        await write_journal(
            connection, JournalEntry(now, by, "device edited", serial, "labels, note, gateway or bench", data)
        )
        await publish(connection, [FeedEvent(now, "device", None, row["id"], data={"serial": serial})])
    context.memory.forget(row["id"])


async def label(context: Context, asked: LabelsIn, by: str) -> list[str]:
    """Puts labels on devices or takes them off, or marks them as bench devices; returns their serials."""
    where = parse_selector(asked.where) if asked.where else None
    done: list[str] = []
    last = 0
    while True:
        now = context.clock.now()
        async with context.engine.begin() as connection:
            # By id, since a label may be what the selector picks by.
            condition = and_(admission.picked(where, asked.serials, now), admission.after(last))
            rows = await admission.lock_picked(connection, condition, FROM_ANY, SLICE)
            if not rows:
                break
            await admission.change_labels(connection, [row["id"] for row in rows], asked.labels, asked.on_bench, now)
            names = [row["serial"] for row in rows]
            subject = names[0] if len(names) == 1 else f"{len(names)} devices"
            data = {"devices": names[:NAMED], "count": len(names), "labels": asked.labels, "on_bench": asked.on_bench}
            what = (
                "devices labelled" if asked.labels else "put on the bench" if asked.on_bench else "taken off the bench"
            )
            await write_journal(connection, JournalEntry(now, by, what, subject, asked.reason, data))
            await publish(
                connection, [FeedEvent(now, "device", None, row["id"], data={"serial": row["serial"]}) for row in rows]
            )
        for row in rows:
            context.memory.forget(row["id"])
        done += names
        last = rows[-1]["id"]
    return done


async def pin(
    context: Context, serials: Sequence[str], where: Node | None, until: datetime | None, by: str, why: str
) -> list[str]:
    """Keeps devices on what they run until a time (None: lets them go again); returns their serials.

    A pin concerns rollouts that begin later: an attempt under way goes on.
    """
    now = context.clock.now()
    if until is not None and until <= now:
        raise ProblemError(
            422, "bad-values", f"until: {until:%Y-%m-%d %H:%M} is over already; a pin needs an end ahead."
        )
    values = {"pinned_until": until, "pinned_by": by if until else None, "pinned_why": why if until else None}
    async with context.engine.begin() as connection:
        rows = await admission.lock_picked(
            connection, admission.picked(where, serials, now), ("asking", "admitted"), MOST_PINS
        )
        await admission.change_devices(connection, [row["id"] for row in rows], **values)
        names = [row["serial"] for row in rows]
        if names:
            subject = names[0] if len(names) == 1 else f"{len(names)} devices"
            data = {"devices": names[:NAMED], "count": len(names), "until": until.isoformat() if until else None}
            what = "device pinned" if until else "pin taken off"
            await write_journal(connection, JournalEntry(now, by, what, subject, why, data))
            await publish(
                connection, [FeedEvent(now, "device", None, row["id"], data={"serial": row["serial"]}) for row in rows]
            )
    return names


async def allow_enrolment(context: Context, serial: str, by: str, why: str) -> None:
    """Lets a device that lost its token enrol once more; its old token is good until it does."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        row = await _locked(connection, context, serial)
        await admission.change_devices(connection, [row["id"]], may_enrol_again=True)
        await write_journal(connection, JournalEntry(now, by, "enrolment allowed again", serial, why))


async def settle(context: Context, serial: str, by: str, why: str) -> None:
    """Takes the marks off a device that was rescued, or whose token two units used: a person has seen to it."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        row = await _locked(connection, context, serial)
        await admission.change_devices(connection, [row["id"]], rescued_at=None, cloned_at=None)
        await write_journal(connection, JournalEntry(now, by, "device settled", serial, why))
        await publish(connection, [FeedEvent(now, "device", None, row["id"], data={"serial": serial})])


async def ask_for_log(context: Context, serial: str, length: timedelta | None, by: str) -> None:
    """Asks a device for its log lines for so long, or (None) no longer."""
    now = context.clock.now()
    until = None if length is None else now + length
    async with context.engine.begin() as connection:
        row = await _locked(connection, context, serial)
        await admission.change_devices(connection, [row["id"]], log_until=until)
        why = f"until {until:%Y-%m-%d %H:%M}" if until else "no longer"
        await write_journal(connection, JournalEntry(now, by, "log asked for", serial, why))
        # An order in the sense of the memory: the next check-in must be answered with what is asked.
        await publish(connection, [FeedEvent(now, "orders", None, row["id"], data={"serial": serial})])
    context.memory.forget(row["id"])


async def _locked(connection: AsyncConnection, context: Context, serial: str) -> Mapping[str, Any]:
    condition = admission.picked(Compare("serial", "=", serial), (), context.clock.now())
    rows = [] if "\0" in serial else await admission.lock_picked(connection, condition, FROM_ANY, 1)
    if not rows:
        raise ProblemError(404, "not-found", f"There is no device {serial!r}. See `herald device list`.")
    return rows[0]


async def close_code(context: Context, code_id: int, by: str) -> None:
    """Ends an enrolment code before its time."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        if not await admission.close_code(connection, code_id, now):
            raise ProblemError(404, "not-found", f"There is no open code {code_id}. See `herald code list`.")
        entry = JournalEntry(now, by, "enrolment code closed", f"code {code_id}", "nobody enrols with it any more")
        await write_journal(connection, entry)
