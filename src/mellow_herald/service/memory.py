"""A worker's memory of devices: enough to answer a check-in that brings nothing new without asking the database.

It may answer "nothing" or send the call to the intake; it never hands out an order. Anything that could make an
order stand raises ``epoch`` through the feed, and what was remembered before no longer counts. While the feed has
not been read for two seconds, the memory is not used at all.
"""

import secrets
import time
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from mellow_herald.core.selector import Node, matches
from mellow_herald.core.token import DeviceToken, make_token, read_token
from mellow_herald.wire.device import CheckinIn

FEED_MAY_BE_OLD = 2.0
USUAL_INTERVAL_S = 300


@dataclass(slots=True)
class Remembered:
    """What a device said last, when no order stood."""

    epoch: int
    boots: int
    seq: int
    running: dict[str, Any]
    standby: dict[str, Any]
    updater: int
    settings_digest: str | None
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
    """Tokens' generations, MAC keys, boards' check-in intervals (s) and last words, in one process."""

    def __init__(self) -> None:
        self.epoch = 0
        self.generations: dict[int, int] = {}
        self.mac_keys: dict[int, bytes] = {}
        self.intervals: dict[str, Intervals] = {}
        self.pulses: dict[int, dict[str, Any]] = {}
        self._words: dict[int, Remembered] = {}
        self._feed_read = 0.0

    def feed_was_read(self) -> None:
        """The feed is known up to now."""
        self._feed_read = time.monotonic()

    @property
    def usable(self) -> bool:
        """Whether the feed was read lately enough to trust what is remembered."""
        return time.monotonic() - self._feed_read < FEED_MAY_BE_OLD

    def who(self, token: str) -> int | None:
        """The device that this token belongs to, or None if the token is not (or no longer) good."""
        said = read_token(token, self.mac_keys)
        if said is None or self.generations.get(said.device_id) != said.generation:
            return None
        return said.device_id

    def issue(self, device_id: int, generation: int) -> str:
        """A token for a device, made with the newest MAC key."""
        key_id = max(self.mac_keys)
        return make_token(DeviceToken(device_id, generation, key_id), self.mac_keys[key_id])

    def nothing_new(self, device_id: int, said: CheckinIn, at: datetime) -> Remembered | None:
        """What is remembered of the device, if its check-in brings nothing new; then its pulse is noted, too."""
        known = self._words.get(device_id)
        if (
            known is None
            or known.epoch != self.epoch
            or said.after_restart
            or said.boots != known.boots
            or said.seq != known.seq + 1
            or said.updater != known.updater
            or said.settings_digest != known.settings_digest
            or said.running != known.running
            or said.standby != known.standby
            or not self.usable
        ):
            return None
        known.seq = said.seq
        self.note_pulse(device_id, said, at, known.interval_s, known.interval_s)
        return known

    def interval_of(self, device: Mapping[str, Any]) -> int:
        """How often a device checks in (s)."""
        intervals = self.intervals.get(device["board"])
        if intervals is None:
            return USUAL_INTERVAL_S
        return intervals.of({**device["labels"], **device}) if intervals.exceptions else intervals.usual_s

    def remember(self, device_id: int, said: CheckinIn, interval_s: int, epoch: int) -> None:
        """Remembers a check-in to which no order stood. ``epoch`` is the one before the database was asked."""
        self._words[device_id] = Remembered(
            epoch, said.boots, said.seq, said.running, said.standby, said.updater, said.settings_digest, interval_s
        )

    def forget(self, device_id: int) -> None:
        """Forgets what a device said."""
        self._words.pop(device_id, None)

    def note_pulse(self, device_id: int, said: CheckinIn, at: datetime, interval_s: int, next_s: int) -> None:
        """Keeps a device's call for the next batch write."""
        self.pulses[device_id] = {
            "device_id": device_id,
            "seen_at": at,
            "boots": said.boots,
            "seq": said.seq,
            "interval_s": interval_s,
            "next_s": next_s,
            "condition": said.condition,
            "readings": said.readings,
            "odd_boots": None,
            "odd_seq": None,
        }

    def take_pulses(self) -> list[dict[str, Any]]:
        """The calls to write now."""
        taken, self.pulses = self.pulses, {}
        for pulse in taken.values():
            pulse["condition"] = pulse["condition"].model_dump(exclude_none=True)
        return list(taken.values())


def new_secret() -> bytes:
    """A fresh MAC key."""
    return secrets.token_bytes(32)
