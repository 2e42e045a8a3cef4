"""A session under way: what is sent next, when devices are asked how they stand, and when it ends.

That all have enough is never assumed: it ends early only when each has said so.
"""

import math
from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from enum import StrEnum

from mellow_herald.core.radio.member import Member
from mellow_herald.core.radio.session import Layout

# Each answer takes the gateway this long (s) to hear, with what is lost by two that answer together.
ANSWER_S = 2.0
LARGEST_SPREAD = 7
# After each round of answers some parity more than was missed is sent before the next.
MORE = 1.15
# Nobody answers: some fragments are sent all the same before they are asked again.
AGAIN_AFTER = 16


# So often devices are asked, as a rule: after the last fragment itself, and after the parity that was missed then.
ROUNDS = 2


class Outcome(StrEnum):
    """How a transmission ended: every device said that it has the block; all was sent; it was halted."""

    ALL_COMPLETE = "all-complete"
    ALL_SENT = "all-sent"
    HALTED = "halted"


@dataclass(frozen=True, slots=True)
class Sent:
    """How far a transmission is: fragments sent, since when answers are waited for (None: they are not), after how many
    fragments it was asked last, and after how many it is asked next."""

    fragments: int = 0
    answers_until: datetime | None = None
    asked_after: int | None = None
    ask_next_after: int | None = None


@dataclass(frozen=True, slots=True)
class SendFragment:
    """Fragment ``number`` is to be sent."""

    number: int


@dataclass(frozen=True, slots=True)
class AskStatus:
    """Devices are to be asked how they stand: all, or those that have not all (``everybody`` false)."""

    everybody: bool


@dataclass(frozen=True, slots=True)
class WaitUntil:
    """Nothing is to be done before."""

    at: datetime


@dataclass(frozen=True, slots=True)
class End:
    """It is over."""

    outcome: Outcome


Move = SendFragment | AskStatus | WaitUntil | End


def spread_for(members: int) -> int:
    """The BlockAckDelay by which so many answers are spread over 2**(delay + 4) seconds."""
    return min(LARGEST_SPREAD, max(0, math.ceil(math.log2(max(1.0, members * ANSWER_S))) - 4))


def answers_take(spread: int) -> timedelta:
    """How long answers are waited for, with a little reserve."""
    return timedelta(seconds=2.0 ** (spread + 4) + 2)


def expected_length(layout: Layout, members: int) -> timedelta:
    """How long a session with so many members takes, with the answers that are waited for."""
    return timedelta(seconds=layout.length) + ROUNDS * answers_take(spread_for(members))


def next_move(
    sent: Sent, layout: Layout, members: Iterable[Member], begins_at: datetime, now: datetime, *, halted: bool
) -> Move:
    """What is to be done now. ``members`` are those that were ready at the beginning; a halt stops at once."""
    if halted:
        return End(Outcome.HALTED)
    there = [member for member in members if not member.problem]
    if sent.fragments and all(member.complete for member in there):
        return End(Outcome.ALL_COMPLETE)
    if sent.answers_until is not None and now < sent.answers_until:
        return WaitUntil(sent.answers_until)
    every = layout.fragments + layout.coded
    due = layout.fragments if sent.ask_next_after is None else min(sent.ask_next_after, every)
    if sent.fragments >= due and sent.asked_after != sent.fragments:
        return AskStatus(everybody=sent.asked_after is None)
    if sent.fragments >= every:
        return End(Outcome.ALL_SENT)
    return WaitUntil(begins_at) if now < begins_at else SendFragment(sent.fragments + 1)


def fragment_sent(sent: Sent) -> Sent:
    """One more was sent."""
    return replace(sent, fragments=sent.fragments + 1, answers_until=None)


def asked(sent: Sent, spread: int, now: datetime) -> Sent:
    """They were asked."""
    return replace(sent, asked_after=sent.fragments, answers_until=now + answers_take(spread))


def answered(sent: Sent, members: Iterable[Member]) -> Sent:
    """The time for answers is over: when they are asked next follows from what the one that misses most has told."""
    missing = [m.missing for m in members if m.missing and not m.complete and not m.problem]
    wanted = math.ceil(max(missing) * MORE) + 1 if missing else AGAIN_AFTER
    return replace(sent, answers_until=None, ask_next_after=sent.fragments + wanted)
