"""A model of the fleet: each device as its own history tells, and in which hours it can be served.

Times are hours since the rehearsal's beginning. A device lives the week to come as it lived the last one, begun some
days earlier or later in each run, so that no run depends on what happened at one hour.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import TypeVar
from zoneinfo import ZoneInfo

import numpy as np
import numpy.typing as npt

from mellow_herald.core.calendar import Use, is_open
from mellow_herald.core.foresight import DAYS, HOURS, Flags, Words, met_to_fetch, met_to_switch
from mellow_herald.core.plan import Plan

Numbers = npt.NDArray[np.float64]
Places = npt.NDArray[np.int64]
Waits = npt.NDArray[np.uint8]
Row = TypeVar("Row", bound=np.generic)
WEEK = DAYS * HOURS
NEVER = 255
# The plan's key behind each condition.
KEYS = {
    "links": "device.links",
    "battery": "device.battery_at_least",
    "charger": "device.charging",
    "device-busy": "device.not_busy",
    "owner": "owner",
    "windows": "calendar.windows",
}


@dataclass(frozen=True, slots=True)
class Column:
    """A fact of each device: its ``values``, and for each device the place of its own."""

    values: Sequence[str]
    codes: Places


def column_of(texts: Sequence[str]) -> Column:
    """The column of these texts."""
    values = list(dict.fromkeys(texts))
    place = {value: n for n, value in enumerate(values)}
    return Column(values, np.array([place[text] for text in texts], np.int64))


@dataclass(frozen=True, slots=True)
class Fleet:
    """The devices that a plan would serve, ring by ring, and what is known of each.

    ``ring`` is its position; ``interval`` of its check-ins and ``restart`` (how long it takes) in hours, ``switches``
    how long switches took lately from leave to confirmed (any device's; empty if none is known), ``rate`` in
    bytes a second; ``words`` what it said in the hours of the last week (``core.foresight``); ``link_allowed`` whether
    the plan lets it download over its link; ``zone`` the place of its time zone in ``zones``; ``gateway`` the place of
    the gateway before it, -1 for none; ``facts`` those that are watched, or by which devices fail together. ``own``
    tells of which devices the history is their own, and not what is usual for such a device."""

    ring: Places
    interval: Numbers
    rate: Numbers
    words: Words
    link_allowed: Flags
    zone: Places
    zones: Sequence[ZoneInfo]
    gateway: Places
    own: Flags
    restart: float = 30 / 3600
    switches: Numbers = field(default_factory=lambda: np.empty(0))
    facts: Mapping[str, Column] = field(default_factory=dict)

    @property
    def size(self) -> int:
        """How many devices there are."""
        return len(self.ring)


@dataclass(frozen=True, slots=True)
class Hours:
    """For each device and hour of the week, after how many hours it is next heard of, can next fetch, and can next
    switch (0: in this hour, ``NEVER``: not in a week). ``met_to_fetch`` and ``met_to_switch`` leave the plan's windows
    out: who waits for these alone is not set aside."""

    call: Waits
    fetch: Waits
    switch: Waits
    needs_fetch: Waits
    needs_switch: Waits


def without_gaps(words: Words) -> Words:
    """Fills the hours of which nothing is known: those in which nobody at all was heard (the service was away, not the
    devices), and for each device those before it was first heard of. They are taken to be as the same hour of another
    day, or else as the device was when it was last heard of. Hours in which others were heard, and it was not, stay."""
    heard = words != 0
    known = heard.any(axis=0) & np.logical_or.accumulate(heard, axis=1)
    found = np.where(known, words, 0).astype(np.int16)
    for days in range(1, DAYS):
        if known.all():
            return found
        other, there = np.roll(found, HOURS * days, axis=1), np.roll(known, HOURS * days, axis=1)
        fill = ~known & there
        found, known = np.where(fill, other, found), known | fill
    last = WEEK - 1 - np.argmax(heard[:, ::-1], axis=1)
    usual = words[np.arange(len(words)), last]
    return np.where(known, found, usual[:, None]).astype(np.int16)


@dataclass(frozen=True, slots=True)
class Blocked:
    """What of a plan each device (``fetch`` and ``switch``: places in ``reasons``) never met in its last week, before
    it may download and before it may switch; the first place is for who met all of it."""

    reasons: Sequence[str]
    fetch: Places
    switch: Places


class Week:
    """The hours in which a plan can serve each device in the week to come, as its last one was. ``blocked`` tells what
    keeps devices from ever being served."""

    def __init__(self, fleet: Fleet, plan: Plan, now: datetime) -> None:
        words = np.ascontiguousarray(fleet.words.T)
        heard = words != 0
        to_download, to_go = met_to_fetch(words, plan.needs), met_to_switch(words, plan.needs)
        fetch, switch = heard & fleet.link_allowed, heard
        for one in to_download.values():
            fetch = fetch & one
        for one in to_go.values():
            switch = switch & one
        call, to_fetch, to_switch = next_of(heard), next_of(fetch), next_of(switch)
        self._usual = Hours(call, to_fetch, to_switch, to_fetch, to_switch)
        self._windows = None
        if plan.calendar.windows:
            may_fetch, may_switch = (_open(fleet, plan, now, use) for use in (Use.FETCH, Use.SWITCH))
            self._windows = (fetch, may_fetch, switch, may_switch)
            to_download, to_go = {**to_download, "windows": may_fetch}, {**to_go, "windows": may_switch}
            fetch, switch = fetch & may_fetch, switch & may_switch
        links = np.broadcast_to(fleet.link_allowed, heard.shape)
        reasons = ["", *(f"never as {key} wants it" for key in KEYS.values()), "never all that the plan wants at once"]
        self.blocked = Blocked(
            reasons, _blocking(heard, {**to_download, "links": links}, fetch), _blocking(heard, to_go, switch)
        )

    def begun(self, shift: int) -> Hours:
        """If it begins as the last one did ``shift`` days after its beginning."""
        usual = self._usual
        call, fetch, switch = (_later(waits, shift) for waits in (usual.call, usual.fetch, usual.switch))
        if self._windows is None:
            return Hours(call, fetch, switch, fetch, switch)
        # The plan's windows are where they are in the coming week, on whichever day the last one begins.
        met, may_fetch, met_later, may_switch = self._windows
        return Hours(
            call,
            next_of(_later(met, shift) & may_fetch),
            next_of(_later(met_later, shift) & may_switch),
            fetch,
            switch,
        )


def _blocking(heard: Flags, conditions: Mapping[str, Flags], together: Flags) -> Places:
    """The place of the first condition that a device never met while it was heard of; the last where it met each, but
    never all together; 0 where it did, or was never heard of."""
    never = ~together.any(axis=0) & heard.any(axis=0)
    found = np.where(never, len(KEYS) + 1, 0)
    for place, name in reversed(list(enumerate(KEYS, 1))):
        if name in conditions:
            found[never & ~(heard & conditions[name]).any(axis=0)] = place
    return found


def _later(rows: npt.NDArray[Row], shift: int) -> npt.NDArray[Row]:
    return np.roll(rows, -HOURS * shift, axis=0) if shift else rows


def _open(fleet: Fleet, plan: Plan, now: datetime, use: Use) -> Flags:
    """In which hours of the coming week (rows) the plan's windows are open for each device."""
    middle = [now + timedelta(hours=hour + 0.5) for hour in range(WEEK)]
    by_zone = np.array(
        [[is_open(plan.calendar.windows, use, zone, at) for at in middle] for zone in fleet.zones], np.bool_
    )
    return np.asarray(by_zone.T[:, fleet.zone], np.bool_)


def next_of(flags: Flags) -> Waits:
    """After how many hours a flag is next set, for each hour of a week that repeats itself (rows) and each device."""
    absent = ~flags
    waits = np.empty(flags.shape, np.uint8)
    row = np.full(flags.shape[1], NEVER, np.uint8)
    # Twice round, from the end: the week that follows tells what the last hours wait for.
    for hour in reversed(range(2 * WEEK)):
        np.minimum(row, NEVER - 1, out=row)
        row += 1
        row *= absent[hour % WEEK]
        if hour < WEEK:
            waits[hour] = row
    waits[waits > WEEK] = NEVER
    return waits


def at_hour(waits: Waits, some: Places, at: Numbers) -> npt.NDArray[np.uint8]:
    """The waits of some devices at the hours in which these times lie."""
    places = at.astype(np.int64)
    if len(places) and places.max() >= WEEK:  # seldom, and a remainder takes longer than all the rest here
        places %= WEEK
    places *= waits.shape[1]
    places += some
    return waits.ravel().take(places)
