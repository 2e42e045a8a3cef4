"""How a group's session would go: what is sent, how long it takes, when it can begin, who will need no repair."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum

from mellow_herald.core.radio.air import Region
from mellow_herald.core.radio.coding import MOST_FRAGMENTS, fragment_count
from mellow_herald.core.radio.completion import expected_share, wanted_redundancy
from mellow_herald.core.radio.loss import Loss
from mellow_herald.core.radio.session import Air, Layout, earliest, largest_fragment, lay_out
from mellow_herald.core.radio.transmission import answers_take, expected_length, spread_for
from mellow_herald.core.refusal import Refused

# Of who was never in a session nothing is known: a yard as yards are.
USUAL_LOSS = Loss(0.08, 5)
# So large a share is to need no repair, if so much redundancy (%) gives it: more would keep all waiting for a few.
WANTED_SHARE, MOST_REDUNDANCY = 0.9, 50
# Where nobody says otherwise, fragments are no longer than this (bytes): who loses one loses less.
USUAL_FRAGMENT = 40
# A receiver that is on takes so much of a small battery's day (3.6 V, 2,400 mAh lasting five years) in a second, %.
LISTENING_PERCENT_S = 11e-3 / (2.4 / (5 * 365) * 3600) * 100
LITTLE, MUCH = 50.0, 400.0
# Lines that tell nothing new, and bursts that are longer than most.
SPARE, MORE_FOR_BURSTS = 5, 1.3


class Energy(StrEnum):
    """What listening to a session costs a device, against what its battery gives in a day."""

    LOW = "low"
    MEDIUM = "medium"
    HIGH = "high"


@dataclass(frozen=True, slots=True)
class Asked:
    """How a plan wants devices to be sent to; what is None is computed."""

    region: Region
    data_rate: int
    fragment: int | None = None
    redundancy: int | None = None


@dataclass(frozen=True, slots=True)
class Listener:
    """A device of a group: how often it speaks, how many messages its set-up still takes, what it loses (None: that is
    not known), and the largest fragment it takes (bytes; None: any)."""

    every: timedelta
    messages: int
    loss: Loss | None = None
    most_fragment: int | None = None


@dataclass(frozen=True, slots=True)
class Forecast:
    """A session as it is expected to go."""

    air: Air
    layout: Layout
    length: timedelta
    earliest: datetime
    share: float
    measured: int

    @property
    def energy(self) -> Energy:
        """What listening costs, for as long as it is expected to last."""
        percent = self.length.total_seconds() * LISTENING_PERCENT_S
        return Energy.LOW if percent < LITTLE else Energy.MEDIUM if percent < MUCH else Energy.HIGH


def forecast_session(size: int, asked: Asked, group: Sequence[Listener], now: datetime) -> Forecast:
    """How a block of so many bytes would come to a group; ``Refused`` if it cannot be sent so."""
    takes = [one.most_fragment for one in group if one.most_fragment is not None]
    most = largest_fragment(asked.region, asked.data_rate, takes)
    fragment = min(most, USUAL_FRAGMENT) if asked.fragment is None else asked.fragment
    if fragment > most:
        raise Refused(
            "bad-fragment",
            f"a fragment of {fragment} bytes does not go: {most} is the most that every device takes.",
            f"Use at most {most}, or leave radio.fragment out.",
        )
    losses = [_rounded(one.loss or USUAL_LOSS) for one in group]
    redundancy = asked.redundancy
    if redundancy is None:
        count = max(2, fragment_count(size, fragment))
        redundancy = wanted_redundancy(count, _typical(losses), WANTED_SHARE, MOST_REDUNDANCY)
    air = Air(asked.region, asked.data_rate, fragment, redundancy)
    layout = lay_out(size, air)
    return Forecast(
        air,
        layout,
        expected_length(layout, len(group)),
        earliest(now, [(one.every, one.messages) for one in group]),
        expected_share(layout, losses),
        sum(one.loss is not None for one in group),
    )


def forecast_repair(
    air: Air, whole: Layout, missing: Sequence[tuple[int, Listener]], highest: int, now: datetime
) -> Forecast:
    """How parity that was not sent before (from fragment ``highest`` + 1 on) would come to devices that miss so many
    fragments each: as much as the one that misses most can be expected to need, and as much again for those with bad
    luck. ``whole`` is how the block was sent at first."""
    losses = [_rounded(one.loss or USUAL_LOSS) for _, one in missing]
    needed = max(
        math.ceil((count + SPARE) / (1 - min(0.9, loss.rate)) * MORE_FOR_BURSTS)
        for (count, _), loss in zip(missing, losses, strict=True)
    )
    # Once it is asked, what is still missing is known, and so much more is sent.
    again = min(needed, MOST_FRAGMENTS - highest - needed)
    length = whole.apart * (needed + max(0, again))
    layout = Layout(needed, max(0, again), whole.on_air, whole.apart, length, whole.time_out)
    group = [one for _, one in missing]
    return Forecast(
        air,
        layout,
        timedelta(seconds=whole.apart * needed) + answers_take(spread_for(len(group))),
        earliest(now, [(one.every, one.messages) for one in group]),
        sum(1 - loss.rate**2 for loss in losses) / len(losses),
        sum(one.loss is not None for one in group),
    )


def _rounded(loss: Loss) -> Loss:
    """Devices that lose about the same are looked at together."""
    return Loss(round(loss.rate * 50) / 50, float(max(1, round(loss.burst))))


def _typical(losses: Sequence[Loss]) -> Loss:
    """The loss of a device that loses more than most: three quarters lose less."""
    if not losses:
        return USUAL_LOSS
    ordered = sorted(losses, key=lambda one: (one.rate, one.burst))
    return ordered[min(len(ordered) - 1, 3 * len(ordered) // 4)]
