"""Recordings: asking a device for a stretch of what it has kept, taking it in part by part, giving it out as a file."""

import asyncio
import re
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import timedelta
from enum import StrEnum
from hashlib import sha256

from sqlalchemy.ext.asyncio import AsyncConnection
from starlette.requests import Request

from mellow_herald.core.duration import parse_duration
from mellow_herald.core.readings.recording import (
    LARGEST_PART,
    MOST_TRIES,
    OPEN,
    NoRecording,
    RecordingState,
    fits,
)
from mellow_herald.core.readings.recording_file import as_csv, as_json_lines, as_netcdf, count_samples, read_moments
from mellow_herald.core.refusal import Refused
from mellow_herald.core.selector import parse_selector
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.store import fleet
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal
from mellow_herald.store.readings import recordings
from mellow_herald.store.readings.recordings import StoredRecording
from mellow_herald.wire.recordings import RecordingHave, RecordingIn, RecordingOut, RecordingSaid

# What the feed calls it when a device is asked for one, or need not send it any more.
EVENT = "recording"
MOST_OPEN = 4
PATIENCE = timedelta(days=7)
CONTENT_RANGE = re.compile(r"bytes (\d{1,15})-(\d{1,15})/(\d{1,15})")


class Form(StrEnum):
    """The forms in which a recording is given out."""

    CSV = "csv"
    JSON_LINES = "jsonl"
    NETCDF = "netcdf"


MEDIA = {
    Form.CSV: ("application/gzip", "csv.gz"),
    Form.JSON_LINES: ("application/jsonl", "jsonl"),
    Form.NETCDF: ("application/netcdf", "nc"),
}


@dataclass(frozen=True, slots=True)
class RecordingFile:
    """A recording as it is given out."""

    name: str
    kind: str
    body: Iterable[bytes]


# Engineers ----------------------------------------------------------------------------------------------------------


async def ask(context: Context, serial: str, asked: RecordingIn, by: str) -> RecordingOut:
    """Asks a device for a stretch. Problem 404 if there is no such device, 409 if enough is asked of it already."""
    now = context.clock.now()
    ends = asked.ends or now
    begins = asked.begins or now - parse_duration(asked.last or "")
    if not begins < ends <= now + timedelta(seconds=1):
        raise ProblemError(422, "bad-values", "to: a device can send only what it has measured; end it now or earlier.")
    async with context.engine.begin() as connection:
        device = await fleet.find_device(connection, serial)
        if device is None:
            raise ProblemError(404, "not-found", f"There is no device {serial}.")
        if device["admission"] != "admitted":
            raise ProblemError(409, "not-admitted", f"{serial} is {device['admission']}, and is told nothing.")
        if device["radio"] is not None or device["coap_lifetime_s"] is not None:
            detail = f"{serial} is on narrow radio or speaks CoAP, which have no words for readings."
            raise ProblemError(409, "not-asked", detail)
        if await recordings.count_open(connection, device["id"]) >= MOST_OPEN:
            detail = f"{serial} has {MOST_OPEN} recordings to send. Wait for them, or cancel one."
            raise ProblemError(409, "too-many-recordings", detail)
        values = {
            "device_id": device["id"],
            "begins": begins,
            "ends": ends,
            "signals": asked.signals,
            "at_most": asked.at_most,
            "asked_by": by,
            "asked_at": now,
            "state": RecordingState.ASKED,
        }
        number = await recordings.add(connection, values)
        what = f"{begins:%Y-%m-%d %H:%M:%S} to {ends:%Y-%m-%d %H:%M:%S}"
        await write_journal(connection, JournalEntry(now, by, "recording asked for", f"recording {number}", what))
        await _tell(connection, context, number)
    return await show(context, number)


async def show(context: Context, number: int, only: str | None = None) -> RecordingOut:
    """One of them. Problem 404 if there is none of that number, or it is of none of the devices ``only``."""
    return RecordingOut.model_validate(await _find(context, number, only))


async def show_all(context: Context, where: str) -> list[RecordingOut]:
    """Those of the devices that a selector picks, the newest first."""
    async with context.engine.connect() as connection:
        rows = await recordings.list_all(connection, parse_selector(where), context.clock.now())
    return [RecordingOut.model_validate(row) for row in rows]


async def cancel(context: Context, number: int, reason: str, by: str, only: str | None = None) -> RecordingOut:
    """A device need not send it any more; what of it has come is dropped. Problem 409 if it has ended."""
    await _find(context, number, only)
    now = context.clock.now()
    async with context.engine.begin() as connection:
        row = await recordings.find(connection, number, change=True)
        if row is None or row["state"] not in OPEN:
            raise ProblemError(409, "already-over", f"Recording {number} has ended already.")
        await _end(connection, context, number, RecordingState.CANCELLED, "", reason)
        await write_journal(connection, JournalEntry(now, by, "recording cancelled", f"recording {number}", reason))
    return await show(context, number)


async def as_file(context: Context, number: int, form: Form, only: str | None = None) -> RecordingFile:
    """A complete recording in one of its forms. Problem 409 if it is not complete, 422 if that form cannot hold it."""
    row = await _find(context, number, only)
    if row["state"] != RecordingState.COMPLETE:
        detail = f"Recording {number} is {row['state']}. `herald recording show {number}` tells how far it is."
        raise ProblemError(409, "not-complete", detail)
    async with context.engine.connect() as connection:
        packed = [part async for part in recordings.parts(connection, number)]
        signals = await recordings.described(connection, row["board"], row["contains"])
    moments = read_moments(packed, row["offset_s"])
    head = {
        "device": row["serial"],
        "board": row["board"],
        "from": row["begins"].isoformat(),
        "to": row["ends"].isoformat(),
    }
    kind, ending = MEDIA[form]
    name = f"{row['serial']}-{row['begins']:%Y%m%dT%H%M%SZ}.{ending}"
    match form:
        case Form.CSV:
            return RecordingFile(name, kind, as_csv(moments, signals))
        case Form.JSON_LINES:
            return RecordingFile(name, kind, as_json_lines(moments, signals, head))
        case Form.NETCDF:
            return RecordingFile(name, kind, [await asyncio.to_thread(as_netcdf, moments, signals, head)])


async def _find(context: Context, number: int, only: str | None) -> StoredRecording:
    async with context.engine.connect() as connection:
        within = None if only is None else (parse_selector(only), context.clock.now())
        row = await recordings.find(connection, number, within=within)
    if row is None:
        raise ProblemError(404, "not-found", f"There is no recording {number}. See `herald recording list`.")
    return row


async def give_up(context: Context) -> None:
    """Ends those of which nothing has come for a week: the device may not know recordings, or not be there any more."""
    async with context.engine.begin() as connection:
        for number in await recordings.stale(connection, context.clock.now() - PATIENCE):
            detail = f"nothing of it came for {PATIENCE.days} days"
            await _end(connection, context, number, RecordingState.FAILED, NoRecording.NO_ANSWER, detail)


# Devices ------------------------------------------------------------------------------------------------------------


async def announce(context: Context, device_id: int, number: int, said: RecordingSaid) -> RecordingHave:
    """Takes what a device has of a stretch; returns from which byte on it is to send. What it announces anew is the
    same file where its sha256 is the same."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        row = await _open(connection, device_id, number)
        if said.reason is not None:
            await _end(connection, context, number, RecordingState.FAILED, said.reason, said.detail)
            return RecordingHave(have=0)
        size = said.size or 0
        if size > row["at_most"]:
            detail = f"it has {size:,} bytes; at most {row['at_most']:,} were asked for"
            await _end(connection, context, number, RecordingState.FAILED, NoRecording.TOO_LARGE, detail)
            return RecordingHave(have=0)  # what it sends of it is refused
        have = row["have"]
        if row["sha256"] != said.sha256:
            await recordings.drop_parts(connection, number)
            have = 0
        told = {"size": size, "sha256": said.sha256, "samples": said.samples, "have": have, "moved_at": now}
        await recordings.change(connection, number, state=RecordingState.COMING, **told)
    return RecordingHave(have=have)


async def take_part(context: Context, device_id: int, number: int, request: Request) -> RecordingHave:
    """Takes bytes of a recording; returns from which byte on the device is to go on. Bytes that are there already are
    passed over. The last ones complete it, if they are those that were announced."""
    begin, length, total = _range_of(request)
    body = bytearray()
    async for piece in request.stream():
        body += piece
        if len(body) > length:
            break
    if len(body) != length:
        raise ProblemError(400, "bad-range", f"Content-Range says {length} bytes; the body has {len(body)}.")
    async with context.engine.begin() as connection:
        row = await _open(connection, device_id, number)
        if row["size"] is None or row["size"] != total:
            detail = f"Content-Range says {total} bytes in all, announced are {row['size'] or 0}. Announce it again."
            raise ProblemError(409, "other-recording", detail)
        new = fits(row["have"], begin, length)
        if new is None or begin + length > total:
            return RecordingHave(have=row["have"])
        await recordings.add_part(connection, number, row["have"], bytes(body[new[0] : new[1]]))
        have = begin + length
        await recordings.change(connection, number, have=have, moved_at=context.clock.now())
        if have < total:
            return RecordingHave(have=have)
        return await _complete(connection, context, {**row, "have": have})


async def _complete(connection: AsyncConnection, context: Context, row: StoredRecording) -> RecordingHave:
    number = row["id"]
    packed = [part async for part in recordings.parts(connection, number)]
    digest = await asyncio.to_thread(_digest, packed)
    if digest != row["sha256"]:
        await recordings.drop_parts(connection, number)
        tries = row["tries"] + 1
        if tries >= MOST_TRIES:
            detail = f"its bytes were not those that were announced, {tries} times"
            await _end(connection, context, number, RecordingState.FAILED, NoRecording.CORRUPTED, detail)
        else:
            await recordings.change(connection, number, have=0, tries=tries)
        return RecordingHave(have=0)
    try:
        samples, names = await asyncio.to_thread(count_samples, packed)
    except Refused as refused:
        await _end(connection, context, number, RecordingState.FAILED, NoRecording.UNREADABLE, str(refused))
    else:
        await recordings.change(connection, number, samples=samples, contains=names)
        await _end(connection, context, number, RecordingState.COMPLETE, "", "", keeps=True)
    return RecordingHave(have=row["have"], complete=True)


def _digest(parts: Iterable[bytes]) -> str:
    told = sha256()
    for part in parts:
        told.update(part)
    return told.hexdigest()


async def _open(connection: AsyncConnection, device_id: int, number: int) -> StoredRecording:
    row = await recordings.find(connection, number, change=True)
    if row is not None and row["admission"] != "admitted":
        raise ProblemError(403, "not-admitted", "The device is not admitted. Ask the engineer to admit it.")
    if row is None or row["device_id"] != device_id:
        raise ProblemError(404, "not-found", "This device is asked for no such recording.")
    if row["state"] not in OPEN:
        raise ProblemError(409, "recording-over", f"Recording {number} is {row['state']}: send no more of it.")
    return row


async def _end(
    connection: AsyncConnection,
    context: Context,
    number: int,
    state: RecordingState,
    reason: str,
    detail: str,
    *,
    keeps: bool = False,
) -> None:
    if not keeps:
        await recordings.drop_parts(connection, number)
    now = context.clock.now()
    await recordings.change(connection, number, state=state, reason=reason, detail=detail, ended_at=now)
    await _tell(connection, context, number)


async def _tell(connection: AsyncConnection, context: Context, number: int) -> None:
    await publish(connection, [FeedEvent(context.clock.now(), EVENT, data={"recording": number})])


def _range_of(request: Request) -> tuple[int, int, int]:
    """From which byte on, how many, and of how many in all."""
    told = CONTENT_RANGE.fullmatch(request.headers.get("content-range", ""))
    if told is None:
        raise ProblemError(400, "bad-range", "Say which bytes these are: Content-Range: bytes 0-65535/1234567.")
    begin, last, total = (int(one) for one in told.groups())
    if not begin <= last < total:
        raise ProblemError(400, "bad-range", f"There are no bytes {begin}-{last} of {total}.")
    if last - begin + 1 > LARGEST_PART:
        raise ProblemError(413, "too-large", f"A part may have at most {LARGEST_PART} bytes.")
    return begin, last - begin + 1, total
