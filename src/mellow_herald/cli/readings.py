"""Readings over time, in a terminal."""

import csv
import sys
from datetime import timedelta
from typing import TYPE_CHECKING, Annotated, Literal

import typer

from mellow_herald.cli.output import AsJson, moment_of, print_json

if TYPE_CHECKING:
    from mellow_herald.wire.readings import SeriesOut

By = Literal["device", "version", "hw_rev", "ring"]


def readings(
    which: Annotated[str, typer.Argument(metavar="SERIAL", help="The device, or with --where a selector.")],
    signal: Annotated[str, typer.Argument(metavar="SIGNAL", help="Which signal: temperature.")],
    where: Annotated[bool, typer.Option("--where", help="SERIAL is a selector: 'site = fernhollow'.")] = False,
    last: Annotated[str, typer.Option("--last", help="How far back: 30m, 1h, 2d.")] = "1h",
    begin: Annotated[str | None, typer.Option("--from", help="From when (2026-05-02T08:00:00Z).")] = None,
    end: Annotated[str | None, typer.Option("--to", help="Until when; now if it is not said.")] = None,
    by: Annotated[By, typer.Option("--by", help="What makes up a line.")] = "device",
    rollout: Annotated[int | None, typer.Option("--rollout", help="With --by ring: of which rollout.")] = None,
    points: Annotated[int, typer.Option("--points", min=1, max=5000, help="In at most so many buckets.")] = 200,
    as_csv: Annotated[bool, typer.Option("--csv", help="As CSV, as it is when it goes into a pipe.")] = False,
    as_json: AsJson = False,
) -> None:
    """Plot a signal of a device over time; as CSV into a pipe."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.core.duration import parse_duration

    until = None if end is None else moment_of(end, "--to")
    since = None if begin is None else moment_of(begin, "--from")
    with connect() as herald:
        if since is None:
            # The service's time, which may run faster than ours.
            at = until or herald.overview().now
            since, until = at - parse_duration(last), until or at + timedelta(seconds=1)
        selector = which if where else f"serial = {which}"
        told = herald.readings.series(
            signal, where=selector, begin=since, end=until, points=points, by=by, rollout=rollout
        )
    if as_json:
        print_json(told)
    elif as_csv or not sys.stdout.isatty():
        _print_csv(told)
    else:
        from mellow_herald.cli.plots import plot_series

        plot_series(told)


def _print_csv(told: "SeriesOut") -> None:
    writer = csv.writer(sys.stdout)
    words = told.kind.value != "number"
    writer.writerow(["series", "at", *(["text"] if words else ["count", "least", "most", "mean", "last"])])
    for one in told.series:
        for point in one.points:
            numbers = [point.count, point.least, point.most, point.mean, point.last]
            writer.writerow([one.key, point.at.isoformat(), *([point.text] if words else numbers)])
