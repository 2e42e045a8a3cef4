"""Going through the course with one device."""

import time
from collections.abc import Callable, Sequence

from mellow_herald.bench_test.bench import Bench
from mellow_herald.bench_test.course import COURSE
from mellow_herald.bench_test.station import Finding, NotTriedError, Outcome, Station, WrongError


async def go_through(
    bench: Bench, stations: Sequence[Station] = COURSE, tell: Callable[[Finding], None] = lambda _: None
) -> list[Finding]:
    """Goes through stations, in order; tells each finding as it is there. A device that does something wrong goes on
    with the next station."""
    findings: list[Finding] = []
    for station in stations:
        finding = bench.finding = Finding(station.name, station.title, station.sentence)
        began = time.monotonic()
        already = len(bench.desk.wrong)
        try:
            if findings and bench.desk.last_checkin is None:
                raise NotTriedError("it never checked in")
            await station.run(bench)
        except WrongError as error:
            finding.wrong.append(str(error))
        except NotTriedError as error:
            finding.outcome = Outcome.NOT_TRIED
            finding.seen.append(str(error))
        finally:
            bench.desk.attempt, bench.desk.before = None, None
        finding.wrong += list(dict.fromkeys(bench.desk.wrong[already:]))
        if finding.wrong:
            finding.outcome = Outcome.WRONG
        finding.seconds = time.monotonic() - began
        findings.append(finding)
        tell(finding)
    return findings
