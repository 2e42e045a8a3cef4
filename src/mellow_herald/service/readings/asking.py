"""Asking for readings: series for plots, programs and tables."""

import csv
import io
from collections.abc import Iterable, Iterator
from datetime import datetime, timedelta

from mellow_herald.core.readings.buckets import MOST_POINTS, By, divide
from mellow_herald.core.readings.signal import SignalKind
from mellow_herald.core.selector import parse_selector
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.store.readings import asking, signals
from mellow_herald.store.readings.asking import Picked
from mellow_herald.wire.readings import LastValueOut, Point, SeriesOne, SeriesOut, SignalOut

# Series of single devices in one answer, and devices that are looked at in one question.
MOST_SERIES, MOST_DEVICES, MOST_WORDS = 200, 20_000, 20_000
LATELY = timedelta(minutes=15)
DIGITS = 7


async def list_signals(context: Context, board: str | None, only: str | None = None) -> list[SignalOut]:
    """All signals, or those of one board: declared, asked for, sent, sent lately, by the devices ``only``."""
    now, within = context.clock.now(), None if only is None else parse_selector(only)
    async with context.engine.connect() as connection:
        rows = await signals.list_seen(connection, now, now - LATELY, board, within)
    return [
        SignalOut(
            **{name: value for name, value in row.items() if name in SignalOut.model_fields},
            usual=None if row["usual_low"] is None else [row["usual_low"], row["usual_high"]],
            bytes=row["size"],
        )
        for row in rows
    ]


async def latest(context: Context, where: str, signal: str | None, limit: int) -> list[LastValueOut]:
    """What devices sent last, with its age."""
    now, node = context.clock.now(), parse_selector(where)
    async with context.engine.connect() as connection:
        rows = await signals.latest(connection, node, now, signal=signal, limit=limit)
    return [
        LastValueOut(
            serial=row["serial"],
            signal=row["name"],
            kind=SignalKind(row["kind"]),
            unit=row["unit"],
            declared=row["declared"],
            at=row["last_at"],
            arrived_at=row["arrived_at"],
            age_s=(now - row["last_at"]).total_seconds(),
            value=row["value"],
            text=row["text"],
        )
        for row in rows
    ]


async def series(
    context: Context,
    signal: str,
    where: str,
    begin: datetime,
    end: datetime,
    *,
    points: int = 1000,
    by: By = By.DEVICE,
    rollout_id: int | None = None,
) -> SeriesOut:
    """The series of a signal. Problem 404 if no board has it and no device has sent it, 422 for an empty stretch."""
    node, now = parse_selector(where), context.clock.now()
    try:
        division = divide(begin, min(end, now + timedelta(minutes=10)), min(points, MOST_POINTS))
    except ValueError:
        raise ProblemError(422, "bad-values", "to: the stretch of time ends before it begins.") from None
    most = MOST_SERIES if by is By.DEVICE else MOST_DEVICES
    async with context.engine.connect() as connection:
        known = [row for row in await signals.of_boards(connection) if row["name"] == signal]
        if not known:
            raise ProblemError(404, "not-found", f"Nobody has declared or sent {signal}. See `herald signal list`.")
        picked = await asking.pick(connection, node, now, by, most + 1, rollout_id)
        cut, picked = len(picked) > most, picked[:most]
        kinds = [SignalKind(row["kind"]) for row in known]
        kind = SignalKind.NUMBER if SignalKind.NUMBER in kinds else kinds[0]
        found: dict[str, list[Point]] = {key: [] for key in _keys(picked)}
        if kind is SignalKind.NUMBER:
            precise = any(row["precise"] for row in known)
            for bucket in await asking.series(connection, picked, signal, division):
                numbers = {name: _digits(bucket[name], precise=precise) for name in ("least", "most", "mean", "last")}
                found[bucket["key"]].append(Point(at=bucket["at"], count=bucket["count"], **numbers))
        else:
            for word in await asking.list_words(connection, picked, signal, division, MOST_WORDS):
                found[word["key"]].append(Point(at=word["at"], count=1, text=word["text"]))
    return SeriesOut(
        now=now,
        signal=signal,
        unit=known[0]["unit"],
        kind=kind,
        begin=division.begin,
        end=division.end,
        step_s=division.step_s,
        level=division.level.value,
        devices=len(picked),
        cut=cut,
        series=[SeriesOne(key=key, points=each) for key, each in found.items()],
    )


def _keys(picked: Iterable[Picked]) -> list[str]:
    return sorted({one["key"] for one in picked})


def _digits(value: float, *, precise: bool) -> float:
    """A number as it was kept: what is more than the digits that it has is of no meaning."""
    return value if precise else float(f"{value:.{DIGITS}g}")


def as_csv(told: SeriesOut) -> Iterator[str]:
    """A series as CSV (RFC 4180): one line for each bucket, or each word."""
    line = io.StringIO()
    writer = csv.writer(line)
    numeric = told.kind is SignalKind.NUMBER
    numbers = ["count", f"least ({told.unit})", "most", "mean", "last"]
    writer.writerow(["series", "at", *(numbers if numeric else ["text"])])
    for one in told.series:
        for point in one.points:
            values = [point.count, point.least, point.most, point.mean, point.last]
            writer.writerow([one.key, point.at.isoformat(), *(values if numeric else [point.text])])
        yield line.getvalue()
        line.seek(0)
        line.truncate()
    yield line.getvalue()
