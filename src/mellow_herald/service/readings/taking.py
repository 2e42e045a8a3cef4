"""Taking readings in: the one place where they are written down, beside devices' other calls and never in their way.

Calls are gathered for some milliseconds, cut into minutes, written by COPY in one transaction over connections of their
own, and only then answered. When more wait than can be written soon, the rest is told to come again (429): a device
keeps what it has.
"""

import asyncio
import zlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

import cbor2
import numpy as np
from pydantic import ValidationError
from pydantic_core import from_json
from starlette.requests import Request

from mellow_herald.core.readings.batch import MOST_UNDECLARED, Taken, clock_offset, kind_of, split
from mellow_herald.core.readings.signal import SignalKind
from mellow_herald.service.apart import apart
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError, away, say_trouble
from mellow_herald.store.readings import landing, signals
from mellow_herald.store.readings.landing import Landed, Sender
from mellow_herald.store.trouble import is_away
from mellow_herald.wire.readings import ReadingsIn, ReadingsOut, RefusedValue

MOST_BYTES = 1024 * 1024
GATHER_SECONDS = 0.01
BATCH, MOST_WAITING = 128, 512
LATER_S = 5
MOST_SHOWN = 100
CBOR, GZIP = "application/cbor", "gzip"


@dataclass(slots=True)
class Call:
    """One call of a device, waiting for its answer."""

    device_id: int
    message: ReadingsIn
    done: "asyncio.Future[ReadingsOut]"
    answer: ReadingsOut | ProblemError = field(default_factory=lambda: ReadingsOut(taken=0))


@dataclass(frozen=True, slots=True)
class Known:
    """A signal as taking needs it."""

    id: int
    kind: SignalKind
    declared: bool


class ReadingsIntake:
    """Takes calls, batches them, answers them."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._waiting: asyncio.Queue[Call] = asyncio.Queue()
        self._signals: dict[tuple[str, str], Known] = {}
        self._epoch = 0

    async def take(self, device_id: int, message: ReadingsIn) -> ReadingsOut:
        """Writes readings down; says what of them was not taken. A 429 problem if too many wait already."""
        if self._waiting.qsize() >= MOST_WAITING:
            raise ProblemError(
                429,
                "too-many-readings",
                f"More readings come in than can be written down. Keep these, and send them in {LATER_S} s.",
                {"Retry-After": str(LATER_S)},
            )
        done: asyncio.Future[ReadingsOut] = asyncio.get_running_loop().create_future()
        await self._waiting.put(Call(device_id, message, done))
        return await done

    async def run(self) -> None:
        """Works until cancelled."""
        while True:
            calls = [await self._waiting.get()]
            await asyncio.sleep(GATHER_SECONDS)
            while len(calls) < BATCH and not self._waiting.empty():
                calls.append(self._waiting.get_nowait())
            for call, error in await apart(calls, self._work):
                say_trouble("a device's readings could not be written down", error, device=call.device_id)
                self._signals.clear()
                if not call.done.done():
                    call.done.set_exception(away() if is_away(error) else _not_written())

    async def _work(self, calls: Sequence[Call]) -> None:
        now, epoch = self._context.clock.now(), self._context.memory.epoch
        if epoch != self._epoch:  # a board may have been changed, and what it declares with it
            self._signals.clear()
            self._epoch = epoch
        async with self._context.engine.begin() as connection:
            devices = await landing.senders(connection, sorted({call.device_id for call in calls}))
            await self._learn(connection, calls, devices, now)
            beyond = await self._beyond(connection, calls, devices)
            rows: list[Landed] = []
            offsets: dict[int, float] = {}
            newest: dict[tuple[int, int], dict[str, Any]] = {}
            for call in calls:
                device = devices.get(call.device_id)
                if device is None or device["admission"] != "admitted":
                    detail = "The device is not admitted. Ask the engineer to admit it."
                    call.answer = ProblemError(403, "not-admitted", detail)
                    continue
                before = offsets.get(device["id"], device["offset_s"] or 0.0)
                offset = offsets[device["id"]] = clock_offset(call.message.sent_at, now.timestamp(), before)
                cost = call.message.cost
                if offset != before or cost is not None:
                    told = None if cost is None else cost.model_dump(exclude_none=True)
                    await landing.note_clock(connection, device["id"], offset, told, now)
                taken = self._split(call, device, offset, now, beyond.get(call.device_id, frozenset()))
                rows += self._rows(device, taken, newest, now)
                call.answer = _answer(taken)
            if rows:
                await landing.land(connection, rows)
                await signals.note_latest(connection, [newest[key] for key in sorted(newest)])
        for call in calls:
            if call.done.done():  # the device hung up while we worked
                continue
            if isinstance(call.answer, ProblemError):
                call.done.set_exception(call.answer)
            else:
                call.done.set_result(call.answer)

    def _split(self, call: Call, device: Sender, offset: float, now: datetime, beyond: frozenset[str]) -> Taken:
        """All blocks of a call; the values of a signal are counted over them."""
        whole, counted = Taken([], []), dict[str, int]()
        for block in call.message.blocks:
            times = block.at + offset + np.array(block.after_ms, np.float64) / 1000
            known = {name: self._signals.get((device["board"], name)) for name in block.values}
            kinds = {name: one.kind for name, one in known.items() if one is not None}
            part = split(times, block.values, kinds, now.timestamp(), beyond)
            whole.pieces += part.pieces
            whole.known += part.known
            for one in part.refused:
                whole.refused.append(type(one)(one.signal, one.index + counted.get(one.signal, 0), one.why))
            for name, column in block.values.items():
                counted[name] = counted.get(name, 0) + len(column)
        return whole

    def _rows(
        self, device: Sender, taken: Taken, newest: dict[tuple[int, int], dict[str, Any]], now: datetime
    ) -> list[Landed]:
        rows: list[Landed] = []
        for piece in taken.pieces:
            signal = self._signals[device["board"], piece.signal].id
            minute = datetime.fromtimestamp(piece.minute, UTC)
            words = piece.texts or None
            numbers = None if words else piece.values
            rows.append((device["id"], signal, minute, piece.offsets, numbers, words))
            last = datetime.fromtimestamp(piece.minute + int(piece.offsets[-1]) / 1000, UTC)
            key = device["id"], signal
            if key not in newest or newest[key]["last_at"] <= last:
                newest[key] = {
                    "device_id": device["id"],
                    "signal_id": signal,
                    "last_at": last,
                    "arrived_at": now,
                    "value": None if numbers is None else float(numbers[-1]),
                    "text": words[-1] if words else None,
                }
        return rows

    async def _learn(
        self, connection: Any, calls: Sequence[Call], devices: Mapping[int, Sender], now: datetime
    ) -> None:
        """Comes to know every signal that is named; one that nobody has declared is noted as such."""
        named: dict[tuple[str, str], Any] = {}
        for call in calls:
            device = devices.get(call.device_id)
            for block in call.message.blocks if device is not None else ():
                for name, column in block.values.items():
                    if (device["board"], name) not in self._signals:  # type: ignore[index]
                        named.setdefault((device["board"], name), column)  # type: ignore[index]
        if not named:
            return
        for _ in range(2):
            for row in await signals.of_boards(connection, {board for board, _ in named}):
                self._signals[row["board"], row["name"]] = Known(row["id"], SignalKind(row["kind"]), row["declared"])
            new = [(*key, kind_of(column)) for key, column in named.items() if key not in self._signals]
            if not new:
                return
            await signals.note_undeclared(connection, new, now)

    async def _beyond(
        self, connection: Any, calls: Sequence[Call], devices: Mapping[int, Sender]
    ) -> dict[int, frozenset[str]]:
        """The names that are too many, by device: those that nobody declared, beyond the first fifty that it sent."""
        sent: dict[int, dict[str, None]] = {}
        for call in calls:
            if call.device_id in devices:
                board, names = devices[call.device_id]["board"], sent.setdefault(call.device_id, {})
                names.update((name, None) for block in call.message.blocks for name in block.values)
                for name in [name for name in names if self._signals[board, name].declared]:
                    del names[name]
        sent = {device_id: names for device_id, names in sent.items() if names}
        if not sent:
            return {}
        before = await signals.names_sent(connection, sorted(sent))
        found: dict[int, frozenset[str]] = {}
        for device_id, names in sent.items():
            board = devices[device_id]["board"]
            undeclared = {name for name in before.get(device_id, ()) if not self._declared(board, name)}
            new = [name for name in names if name not in undeclared]
            found[device_id] = frozenset(new[max(0, MOST_UNDECLARED - len(undeclared)) :])
        return found

    def _declared(self, board: str, name: str) -> bool:
        known = self._signals.get((board, name))
        return known is not None and known.declared


def _answer(taken: Taken) -> ReadingsOut:
    shown = [RefusedValue(signal=one.signal, index=one.index, kind=one.why.value) for one in taken.refused[:MOST_SHOWN]]
    return ReadingsOut(taken=taken.count, refused_count=len(taken.refused), refused=shown)


def _not_written() -> ProblemError:
    detail = "These readings alone could not be written down, for what is in them; the service's log says why."
    return ProblemError(503, "not-recorded", detail, {"Retry-After": "60"})


async def read_message(request: Request) -> ReadingsIn:
    """The readings in a call: JSON or CBOR, maybe packed by gzip. Problem 413 if they are more than 1 MiB unpacked,
    400 if they cannot be read, 422 if they are not of their shape."""
    kind = request.headers.get("content-type", "").partition(";")[0].strip().lower()
    packed = request.headers.get("content-encoding", "").strip().lower()
    if packed not in ("", "identity", GZIP):
        raise ProblemError(415, "bad-encoding", f"Content-Encoding {packed!r} is not known here; use gzip, or none.")
    body = bytearray()
    async for piece in request.stream():
        body += piece
        if len(body) > MOST_BYTES:
            raise _too_large()
    data = _unpacked(bytes(body)) if packed == GZIP else bytes(body)
    if kind == CBOR:
        return _of_cbor(data)
    try:
        said = from_json(data, allow_inf_nan=True)
    except ValueError as error:
        raise ProblemError(400, "bad-json", f"The readings are no JSON: {error}.") from None
    return _checked(ReadingsIn.model_validate(said))


def _of_cbor(data: bytes) -> ReadingsIn:
    try:
        said = cbor2.loads(data)
        return _checked(ReadingsIn.model_validate(said))
    except ValidationError:
        raise
    except Exception as error:  # whatever is in bytes that nobody vouches for
        raise ProblemError(400, "bad-cbor", f"The readings are no CBOR: {error}.") from None


def _checked(message: ReadingsIn) -> ReadingsIn:
    for number, block in enumerate(message.blocks):
        for name, column in block.values.items():
            if len(column) != len(block.after_ms):
                raise ProblemError(
                    422,
                    "bad-values",
                    f"blocks.{number}.values.{name[:64]}: {len(column)} values for {len(block.after_ms)} times; write"
                    " null where there is none.",
                )
    return message


def _unpacked(packed: bytes) -> bytes:
    unpacking = zlib.decompressobj(wbits=16 + zlib.MAX_WBITS)
    try:
        data = unpacking.decompress(packed, MOST_BYTES + 1)
    except zlib.error as error:
        raise ProblemError(400, "bad-encoding", f"The readings are not packed by gzip: {error}.") from None
    if len(data) > MOST_BYTES or unpacking.unconsumed_tail:
        raise _too_large()
    if not unpacking.eof:
        raise ProblemError(400, "bad-encoding", "The readings that are packed by gzip are cut off.")
    return data


def _too_large() -> ProblemError:
    return ProblemError(
        413, "too-large", f"Readings may have at most {MOST_BYTES} bytes, unpacked too. Send less at once."
    )
