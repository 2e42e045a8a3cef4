"""A worker's memory of devices: enough to answer a check-in that brings nothing new without asking the database.

It may answer "nothing" or send the call to the intake; it never hands out an order. Anything that could make an
order stand raises ``epoch`` through the feed, and what was remembered before no longer counts. While the feed has
not been read for two seconds, the memory is not used at all.
"""

import secrets
import time
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, cast

from mellow_herald.core.foresight import HourMarks
from mellow_herald.core.selector import Node, matches
from mellow_herald.core.token import DeviceToken, make_token, read_token
from mellow_herald.service.calls.glance import Glance
from mellow_herald.store.rows import StoredPulse
from mellow_herald.wire.device import CheckinIn, Condition

FEED_MAY_BE_OLD = 2.0
USUAL_INTERVAL_S = 300
TOKENS_KEPT = 32_768


@dataclass(slots=True)
class Remembered:
    """Of a device's last call, when no order stood: what a call ``follows`` as that brings nothing new and comes next,
    in one number; there are a million of these."""

    epoch: int
    follows: int
    interval_s: int


@dataclass(frozen=True, slots=True)
class Intervals:
    """How often the devices of a board check in (s), and those that a selector picks; the first that matches counts."""

    usual_s: int
    exceptions: tuple[tuple[Node, int], ...] = ()

    def of(self, facts: Mapping[str, Any]) -> int:
        """The interval of a device with these facts."""
        return next((seconds for node, seconds in self.exceptions if matches(node, facts)), self.usual_s)


class Memory:
    """Tokens' generations, MAC keys, boards' check-in intervals (s), which of their components are updated in place,
    and last words, in one process."""

    def __init__(self) -> None:
        self.epoch = 0
        self.generations: dict[int, int] = {}
        self.admissions = 0
        self.mac_keys: dict[int, bytes] = {}
        self.intervals: dict[str, Intervals] = {}
        self.in_place: dict[str, frozenset[str]] = {}
        self.pulses: dict[int, dict[str, Any]] = {}
        self.hour_marks = HourMarks()
        # Why the last beat of this process could not be written; nothing if it was.
        self.beat_failed = ""
        # How far the machine's clock is ahead of the time that has passed.
        self.clock_ahead = timedelta()
        self._tokens: dict[bytes, DeviceToken] = {}
        self._checkins: dict[int, Remembered] = {}
        self._feed_read = 0.0

    def feed_was_read(self) -> None:
        """The feed is known up to now."""
        self._feed_read = time.monotonic()

    @property
    def feed_age(self) -> float:
        """Seconds since the feed was read."""
        return time.monotonic() - self._feed_read

    @property
    def usable(self) -> bool:
        """Whether the feed was read lately enough to trust what is remembered."""
        return self.feed_age < FEED_MAY_BE_OLD

    def who(self, authorization: bytes) -> int | None:
        """The device that this ``Authorization`` names, or None if its token is not (or no longer) good."""
        token = self._tokens.get(authorization)
        if token is None:
            scheme, _, text = authorization.partition(b" ")
            token = read_token(text.decode("latin-1"), self.mac_keys) if scheme.lower() == b"bearer" else None
            if token is None:
                return None
            if len(self._tokens) >= TOKENS_KEPT:
                self._tokens.clear()
            self._tokens[authorization] = token
        # Looked up with every call, so that a token that was read before a revocation is of no use after it.
        return token.device_id if self.generations.get(token.device_id) == token.generation else None

    def take_keys(self, mac_keys: dict[int, bytes]) -> None:
        """Reads tokens with these MAC keys, and no others, from now on."""
        self.mac_keys = mac_keys
        self._tokens.clear()

    def issue(self, device_id: int, generation: int) -> str:
        """A token for a device, made with the newest MAC key."""
        key_id = max(self.mac_keys)
        return make_token(DeviceToken(device_id, generation, key_id), self.mac_keys[key_id])

    @property
    def first_generation(self) -> int:
        """With which generation tokens begin: each restore adds a MAC key and begins another thousand, so that none is
        given out that a device may have had after the backup."""
        return (max(self.mac_keys) - 1) * 1000 + 1

    def unchanged(self, device_id: int, seen: Glance, at: datetime) -> int | None:
        """When the device is to call again (s), if its check-in brings nothing new; then its pulse is noted, too."""
        remembered = self._checkins.get(device_id)
        if (
            remembered is None
            or remembered.epoch != self.epoch
            or seen.place != remembered.follows
            or seen.is_news
            or not self.usable
        ):
            return None
        remembered.follows = seen.place_of_next
        interval_s = remembered.interval_s
        self.note_pulse(device_id, seen, at, interval_s, interval_s)
        return interval_s

    def interval_of(self, device: Mapping[str, Any]) -> int:
        """How often a device checks in (s); who is on narrow radio or speaks CoAP has an interval of its own."""
        own = device["radio_interval_s"] or device["coap_lifetime_s"]
        if own is not None:
            return int(own)
        intervals = self.intervals.get(device["board"])
        if intervals is None:
            return USUAL_INTERVAL_S
        return intervals.of({**device["labels"], **device}) if intervals.exceptions else intervals.usual_s

    def remember(self, device_id: int, seen: Glance, interval_s: int, epoch: int) -> None:
        """Remembers a check-in to which no order stood. ``epoch`` is the one before the database was asked."""
        self._checkins[device_id] = Remembered(epoch, seen.place_of_next, interval_s)

    def admit(self, device_id: int, generation: int | None) -> None:
        """Makes the token of this generation good, and no other (None: none at all)."""
        self.admissions += 1
        if generation is None:
            self.generations.pop(device_id, None)
        else:
            self.generations[device_id] = generation
        self.forget(device_id)

    def forget(self, device_id: int) -> None:
        """Forgets what a device said."""
        self._checkins.pop(device_id, None)

    def note_pulse(
        self, device_id: int, checkin: CheckinIn | Glance, at: datetime, interval_s: int, next_s: int
    ) -> None:
        """Keeps a device's call for the next batch write."""
        self.pulses[device_id] = {
            "device_id": device_id,
            "seen_at": at,
            "boots": checkin.boots,
            "seq": checkin.seq,
            "interval_s": interval_s,
            "next_s": next_s,
            "condition": checkin.condition,
            "readings": checkin.readings,
            "odd": None,
        }

    def take_pulses(self) -> list[StoredPulse]:
        """The calls to write now."""
        taken, self.pulses = self.pulses, {}
        for pulse in taken.values():
            if isinstance(pulse["condition"], Condition):
                pulse["condition"] = pulse["condition"].model_dump(exclude_none=True)
        return cast(list[StoredPulse], list(taken.values()))

    def put_back(self, pulses: Iterable[StoredPulse]) -> None:
        """Keeps calls that could not be written, unless the device has called since."""
        for pulse in pulses:
            self.pulses.setdefault(pulse["device_id"], dict(pulse))


def new_secret() -> bytes:
    """A fresh MAC key."""
    return secrets.token_bytes(32)
