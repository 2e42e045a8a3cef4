"""What was rehearsed of a rollout, beside what happened."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta

from mellow_herald.wire.rehearsal import NumberSpread, RehearsalOut, RehearsedFault, TimeSpread
from mellow_herald.wire.report import ReportOut

HEADS = ("ring", "done, by the rehearsal", "done", "hurt, by the rehearsal", "hurt", "")


@dataclass(frozen=True, slots=True)
class Compared:
    """One fault of a rehearsal beside what happened: a ``title``, and a row for each ring."""

    title: str
    rows: list[list[str]]


def compare(report: ReportOut) -> Iterator[Compared]:
    """Every rehearsed fault of the plan, the newest rehearsal first."""
    for rehearsal in report.rehearsals:
        if rehearsal.result is None:
            continue
        for fault in rehearsal.result.faults:
            shares = f"done in {fault.finishes:.0%}, halted in {fault.halts:.0%} of all runs"
            yield Compared(f"rehearsal {rehearsal.id} {fault.named}: {shares}", [*_rows(report, rehearsal, fault)])


def _rows(report: ReportOut, rehearsal: RehearsalOut, fault: RehearsedFault) -> Iterator[list[str]]:
    rollout = report.rollout
    # A plan without a start of its own begins when it is started: so much later than it was rehearsed.
    moved = rollout.plan.calendar.start is None and rollout.started_at is not None
    shift = rollout.started_at - rehearsal.asked_at if moved and rollout.started_at else timedelta()
    for ring, seen in zip(fault.rings, report.rings, strict=False):
        out = []
        if outside(seen.done_at, ring.ends, shift):
            out.append("done outside the fan")
        if not ring.hurt.low <= seen.bad <= ring.hurt.high:
            out.append("hurt outside the fan")
        yield [
            ring.name,
            times(ring.ends, shift),
            _told(seen.done_at),
            numbers(ring.hurt),
            str(seen.bad),
            "; ".join(out) or "within",
        ]


def within(at: datetime | None, spread: TimeSpread, shift: timedelta) -> bool:
    """Whether a time lies between its 10 % and 90 % quantiles; never is later than any."""
    if at is None:
        return spread.high is None
    early = spread.low is not None and at >= spread.low + shift
    return early and (spread.high is None or at <= spread.high + shift)


def outside(at: datetime | None, spread: TimeSpread, shift: timedelta) -> bool:
    """Whether a time is told to lie outside of its fan: not if it is told by the same minute as one of its ends."""
    return not within(at, spread, shift) and _told(at) not in _quantiles(spread, shift)


def times(spread: TimeSpread, shift: timedelta) -> str:
    """Quantiles of a time, in words."""
    told = _quantiles(spread, shift)
    return told[0] if len(set(told)) == 1 else " … ".join(told)


def _quantiles(spread: TimeSpread, shift: timedelta) -> list[str]:
    return [_told(None if at is None else at + shift) for at in (spread.low, spread.middle, spread.high)]


def _told(at: datetime | None) -> str:
    return "never" if at is None else f"{at:%d %b %H:%M}"


def numbers(spread: NumberSpread) -> str:
    """Quantiles of a number, in words."""
    same = spread.low == spread.high
    return f"{spread.middle:.0f}" if same else f"{spread.middle:.0f} ({spread.low:.0f} … {spread.high:.0f})"
