"""Runs the benchmarks, prints a line per figure and writes ``bench/results.json``."""

import json
from pathlib import Path

from bench import (
    brake,
    checkins,
    commands,
    downloads,
    fleet,
    fragments,
    halting,
    harm,
    million,
    readings,
    rehearsal,
    reports,
    rings,
    sessions,
    uploads,
    waking,
)


def main() -> None:
    """Measures and prints."""
    results = [
        *checkins.measure(),
        checkins.measure_memory(),
        reports.measure(),
        *downloads.measure(),
        *uploads.measure(),
        *commands.measure(),
        *fleet.measure(),
        *rings.measure(),
        *brake.measure(),
        *harm.measure(),
        *fragments.measure(),
        *sessions.measure(),
        *readings.measure(),
        *rehearsal.measure(),
        *halting.measure(),
        *waking.measure(),
        *million.measure(),
    ]
    for figure in results:
        print(figure.line())
    out = Path(__file__).parent / "results.json"
    out.write_text(json.dumps([figure.as_json() for figure in results], indent=2) + "\n")


if __name__ == "__main__":
    main()
