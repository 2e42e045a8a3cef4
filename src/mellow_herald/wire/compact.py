"""The device protocol in a few dozen bytes, for devices on narrow radio: CBOR (RFC 8949) maps with small numbers as
keys. What the keys mean is docs/radio-network.md; what a message becomes is that of the protocol by HTTP.

A check-in and a report go up, an order comes down. Digests go whole: by them, and nothing else, is known what runs.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import IntEnum
from typing import Any, TypeVar

from pydantic import ValidationError

from mellow_herald.core import cbor
from mellow_herald.core.attempt import REPORTABLE, DownloadStep, State
from mellow_herald.core.order import Order
from mellow_herald.core.radio.session import gps_seconds
from mellow_herald.core.refusal import Refused
from mellow_herald.wire.device import CheckinIn, Clearance, OrderOut, ReportIn

Choice = TypeVar("Choice")
PORT = 10
# What is sent at the region's slowest usual rate still has room for it (bytes).
MOST_UPLINK = 222
HALF = 2**31
# In the order in which they were numbered: a new one goes to the end.
STATES = (
    State.DOWNLOADING,
    State.STAGED,
    State.INSTALLING,
    State.PROVING,
    State.CONFIRMED,
    State.FAILED,
    State.REVERTED,
)
STEPS = (DownloadStep.FETCH, DownloadStep.VERIFY, DownloadStep.ERASE, DownloadStep.WRITE)
ORDERS = (Order.FETCH, Order.SWITCH, Order.SWITCH_BACK, Order.ABANDON, Order.STAY)
assert set(STATES) == REPORTABLE


class Key(IntEnum):
    """What a value is."""

    KIND = 0
    BOOTS = 1
    SEQ = 2
    FLAGS = 3
    RUNNING = 4
    STANDBY = 5
    BATTERY = 6
    UPDATER = 7
    SETTINGS = 8
    UPTIME = 9
    AIR = 10
    ATTEMPT = 11
    TRY = 12
    STATE = 13
    REASON = 14
    STEP = 15
    PERCENT = 16
    DETAIL = 17
    DIGESTS = 18
    LOG = 19
    ORDER = 20
    MANIFEST = 21
    CLEARANCE = 22
    TRIAL = 23
    TO = 24


CHECKIN, REPORT, ORDER = 1, 2, 3
READY, TRIAL, AFTER_RESTART, CHARGING, BUSY, URGENT = 1, 2, 4, 8, 16, 32


@dataclass(frozen=True, slots=True)
class Heard:
    """What a device received of its last session: fragments that were sent while it listened, those of them that it
    lost, in how many bursts, and how many it made up for by parity."""

    sent: int
    lost: int
    bursts: int
    recovered: int


def encode_checkin(checkin: CheckinIn, heard: Heard | None = None) -> bytes:
    """A check-in as it goes up."""
    condition = checkin.condition
    flags = (
        READY * checkin.ready
        | TRIAL * checkin.trial
        | AFTER_RESTART * checkin.after_restart
        | CHARGING * bool(condition.charging)
        | BUSY * bool(condition.busy)
    )
    message: dict[int, Any] = {
        Key.KIND: CHECKIN,
        Key.BOOTS: checkin.boots,
        Key.SEQ: checkin.seq,
        Key.FLAGS: flags,
        Key.RUNNING: _contents(checkin.running),
        Key.UPDATER: checkin.updater,
        Key.UPTIME: checkin.uptime_s,
    }
    if checkin.standby:
        message[Key.STANDBY] = _contents(checkin.standby)
    if condition.battery is not None:
        message[Key.BATTERY] = condition.battery
    if checkin.settings_digest is not None:
        message[Key.SETTINGS] = bytes.fromhex(checkin.settings_digest)
    if heard is not None:
        message[Key.AIR] = [heard.sent, heard.lost, heard.bursts, heard.recovered]
    return _encode(message)


def encode_report(report: Mapping[str, Any]) -> bytes:
    """A report, with the fields that it has by HTTP, as it goes up. What tells most stays; of its words, and of its log
    after them, as much as there is room for."""
    message: dict[int, Any] = {
        Key.KIND: REPORT,
        Key.BOOTS: report["boots"],
        Key.SEQ: report["seq"],
        Key.ATTEMPT: report["attempt"],
        Key.TRY: report.get("try", 1),
        Key.STATE: STATES.index(State(report["state"])),
    }
    if report.get("reason"):
        message[Key.REASON] = report["reason"]
    if report.get("step"):
        message[Key.STEP] = STEPS.index(DownloadStep(report["step"]))
    if report.get("percent") is not None:
        message[Key.PERCENT] = report["percent"]
    if report.get("digests"):
        message[Key.DIGESTS] = {name: bytes.fromhex(one) for name, one in report["digests"].items()}
    for key, text in ((Key.DETAIL, report.get("detail", "")), (Key.LOG, report.get("log", ""))):
        # The end of a log tells more than its beginning; of a sentence it is the other way round.
        room = max(0, MOST_UPLINK - len(_encode(message)) - 4)
        data = text.encode()
        cut = data[-room:] if key is Key.LOG and room else data[:room]
        if cut:
            message[key] = cut.decode(errors="ignore")
    return _encode(message)


def encode_order(order: OrderOut, now: datetime) -> bytes:
    """An order as it goes down. Leave to switch holds until an instant (GPS seconds): it may wait for hours until the
    device hears it."""
    assert order.order is not None
    message: dict[int, Any] = {
        Key.KIND: ORDER,
        Key.ORDER: ORDERS.index(order.order),
        Key.FLAGS: URGENT * order.urgent,
        Key.TRIAL: order.trial_s,
        Key.TRY: order.try_number,
    }
    if order.attempt is not None:
        message[Key.ATTEMPT] = order.attempt
    if order.manifest is not None:
        message[Key.MANIFEST] = bytes.fromhex(order.manifest)
    if order.clearance is not None:
        message[Key.CLEARANCE] = [order.clearance.number, gps_seconds(now) + order.clearance.seconds]
    if order.to is not None:
        message[Key.TO] = {name: bytes.fromhex(digest) for name, digest in order.to.items()}
    return _encode(message)


def read_uplink(payload: bytes) -> tuple[CheckinIn, Heard | None] | ReportIn:
    """A device's check-in, with what it received of its last session, or its report; ``Refused`` if it is neither."""
    message = _read(payload)
    try:
        match message.get(Key.KIND):
            case 1:
                heard = message.get(Key.AIR)
                return _checkin(message), None if heard is None else Heard(*(int(number) for number in heard))
            case 2:
                return _report(message)
    except (ValidationError, KeyError, IndexError, TypeError, ValueError, AttributeError) as error:
        raise Refused("bad-message", f"the message cannot be read: {_plain(error)}.") from None
    raise Refused("bad-message", "the message is neither a check-in nor a report.")


def read_order(payload: bytes, now: datetime, next_checkin_s: int) -> OrderOut:
    """An order as a device takes it, by its own clock; ``Refused`` if it is none."""
    message = _read(payload)
    if message.get(Key.KIND) != ORDER:
        raise Refused("bad-message", "the message is not an order.")
    try:
        clearance, to, manifest = message.get(Key.CLEARANCE), message.get(Key.TO), message.get(Key.MANIFEST)
        left = 0 if clearance is None else (clearance[1] - gps_seconds(now) + HALF) % 2**32 - HALF
        return OrderOut(
            order=_one_of(ORDERS, message[Key.ORDER]),
            attempt=message.get(Key.ATTEMPT),
            try_number=message[Key.TRY],
            manifest=None if manifest is None else manifest.hex(),
            to=None if to is None else {name: digest.hex() for name, digest in to.items()},
            clearance=None if clearance is None else Clearance(number=clearance[0], seconds=max(0, left)),
            trial_s=message[Key.TRIAL],
            urgent=bool(message[Key.FLAGS] & URGENT),
            next_checkin_s=next_checkin_s,
        )
    except (ValidationError, KeyError, IndexError, TypeError, AttributeError) as error:
        raise Refused("bad-message", f"the order cannot be read: {_plain(error)}.") from None


def _checkin(message: Mapping[int, Any]) -> CheckinIn:
    flags, settings = message[Key.FLAGS], message.get(Key.SETTINGS)
    condition: dict[str, Any] = {"charging": bool(flags & CHARGING), "busy": bool(flags & BUSY), "link": "radio"}
    if Key.BATTERY in message:
        condition["battery"] = message[Key.BATTERY]
    return CheckinIn.model_validate(
        {
            "boots": message[Key.BOOTS],
            "seq": message[Key.SEQ],
            "ready": bool(flags & READY),
            "trial": bool(flags & TRIAL),
            "after_restart": bool(flags & AFTER_RESTART),
            "running": _slots(message[Key.RUNNING]),
            "standby": _slots(message.get(Key.STANDBY, {})),
            "updater": message[Key.UPDATER],
            "uptime_s": message[Key.UPTIME],
            "condition": condition,
            "settings_digest": None if settings is None else settings.hex(),
        }
    )


def _report(message: Mapping[int, Any]) -> ReportIn:
    step = message.get(Key.STEP)
    return ReportIn.model_validate(
        {
            "boots": message[Key.BOOTS],
            "seq": message[Key.SEQ],
            "attempt": message[Key.ATTEMPT],
            "try": message[Key.TRY],
            "state": _one_of(STATES, message[Key.STATE]),
            "reason": message.get(Key.REASON),
            "step": None if step is None else _one_of(STEPS, step),
            "percent": message.get(Key.PERCENT),
            "detail": message.get(Key.DETAIL, ""),
            "log": message.get(Key.LOG, ""),
            "digests": {name: digest.hex() for name, digest in message.get(Key.DIGESTS, {}).items()},
        }
    )


def _contents(contents: Mapping[str, Any]) -> dict[str, list[Any]]:
    return {name: [bytes.fromhex(one.digest), one.floor, one.slot] for name, one in contents.items()}


def _slots(told: Mapping[str, Any]) -> dict[str, dict[str, Any]]:
    return {name: {"digest": one[0].hex(), "floor": one[1], "slot": one[2]} for name, one in told.items()}


def _one_of(choices: Sequence[Choice], number: int) -> Choice:
    if not 0 <= number < len(choices):
        raise IndexError(f"there is no number {number}")
    return choices[number]


def _encode(message: Mapping[int, Any]) -> bytes:
    return cbor.encode({int(key): value for key, value in message.items()})


def _read(payload: bytes) -> Mapping[int, Any]:
    message = cbor.decode(payload)
    if not isinstance(message, dict):
        raise Refused("bad-message", "the message is not a CBOR map.")
    return message


def _plain(error: Exception) -> str:
    if isinstance(error, ValidationError):
        first = error.errors()[0]
        return f"{'.'.join(str(part) for part in first['loc'])}: {first['msg']}"
    return str(error) or type(error).__name__
