"""What a rehearsal found, as it is shown."""

import math
from datetime import datetime, timedelta

from mellow_herald.core.rehearsal.answers import Answer, RingAnswer, Spread
from mellow_herald.core.rehearsal.rehearse import Ask, Rehearsed
from mellow_herald.service.rehearsals.loading import Model
from mellow_herald.store.rehearsals import StoredRehearsal
from mellow_herald.wire.rehearsal import (
    LeverOut,
    NeverServed,
    NumberSpread,
    RehearsedFan,
    RehearsedFault,
    RehearsedOut,
    RehearsedRing,
    Share,
    TimeSpread,
)


def result_of(rehearsed: Rehearsed, ask: Ask, row: StoredRehearsal, model: Model, took: float) -> RehearsedOut:
    """The answers with their times as instants."""
    devices = [int((ask.fleet.ring == position).sum()) for position in range(len(ask.plan.rings))]
    return RehearsedOut(
        devices=ask.fleet.size,
        assumed=model.assumed,
        assumptions=list(model.assumptions),
        faults=[
            _fault(text, answer, ask, devices) for text, answer in zip(row["faults"], rehearsed.answers, strict=True)
        ],
        levers=[
            LeverOut(key=one.key, words=one.words, sooner_s=one.sooner * 3600, spared=one.spared)
            for one in rehearsed.levers
        ],
        took_s=took,
    )


def _fault(text: str, answer: Answer, ask: Ask, devices: list[int]) -> RehearsedFault:
    names = [ring.name for ring in ask.plan.rings]
    fan = answer.fan
    return RehearsedFault(
        fault=text,
        finishes=answer.finishes,
        done=_times(answer.done, ask.now),
        halts=answer.halts,
        halted_by=[Share(words=words, share=share) for words, share in answer.halted_by],
        stands=[Share(words=words, share=share, ring=names[ring]) for ring, words, share in answer.stands],
        rings=[_ring(name, count, one, ask.now) for name, count, one in zip(names, devices, answer.rings, strict=True)],
        exposed=_numbers(answer.exposed),
        hurt=_numbers(answer.hurt),
        hurt_unseen=_numbers(answer.hurt_unseen),
        served=_numbers(answer.served),
        never=[NeverServed(words=words, devices=count, share=count / ask.fleet.size) for words, count in answer.never],
        bytes=_numbers(answer.bytes),
        peak=_numbers(answer.peak),
        fan=RehearsedFan(
            at=[ask.now + timedelta(hours=at) for at in fan.at],
            good_low=[one.low for one in fan.good],
            good=[one.middle for one in fan.good],
            good_high=[one.high for one in fan.good],
            hurt_low=[one.low for one in fan.hurt],
            hurt=[one.middle for one in fan.hurt],
            hurt_high=[one.high for one in fan.hurt],
        ),
    )


def _ring(name: str, devices: int, one: RingAnswer, now: datetime) -> RehearsedRing:
    return RehearsedRing(
        name=name,
        devices=devices,
        opens=_times(one.opens, now),
        ends=_times(one.ends, now),
        exposed=_numbers(one.exposed),
        hurt=_numbers(one.hurt),
    )


def _times(spread: Spread, now: datetime) -> TimeSpread:
    def at(hours: float) -> datetime | None:
        return now + timedelta(hours=hours) if math.isfinite(hours) else None

    return TimeSpread(low=at(spread.low), middle=at(spread.middle), high=at(spread.high))


def _numbers(spread: Spread) -> NumberSpread:
    return NumberSpread(low=spread.low, middle=spread.middle, high=spread.high)
