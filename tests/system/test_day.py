"""The whole day of a bad release: halted, gone on with without the revision that it hurts, and that brought the fix."""

import tomllib
from pathlib import Path

import pytest

from mellow_herald.core.digest import sha256_hex
from mellow_herald.core.keys import private_from_pem
from mellow_herald.demo import scenario
from mellow_herald.sim.fleet import chip_path
from mellow_herald.sim.hardware import running_image
from mellow_herald.wire.plan import PlanDocument
from tests.harness.flight import DEVICES, OTHERS, Flight
from tests.harness.patience import until
from tests.harness.some import some

pytestmark = pytest.mark.system
HURT = "hw_rev = 2"


def plan_for(flight: Flight, version: str, target: str, rings: list[dict[str, object]]) -> PlanDocument:
    document = tomllib.loads(flight.place.plan(version).read_text())
    document |= {"rings": rings, "target": target, "name": f"{version} of the day"}
    document["brake"] = {"firmware_limit": 0.3, "hard_stop": 2, "watch_by": ["hw_rev"]}
    document.pop("pace", None)
    return PlanDocument.model_validate(document)


def test_a_bad_release_is_halted_goes_on_without_whom_it_hurts_and_they_get_the_fix(folder: Path) -> None:
    flight = Flight(folder)
    try:
        flight.serve()
        herald = flight.signed_in()
        flight.prepare(herald, (scenario.OLD, scenario.NEW))
        key = private_from_pem(flight.place.signing_key.read_bytes())
        flight.fly()
        until(lambda: herald.overview().presence.get("online") == DEVICES + OTHERS)
        scales = tomllib.loads(flight.place.plan(scenario.NEW).read_text())["target"]
        hurt = {one.serial for one in some(herald.devices.each(where=f"({scales}) and {HURT}"), 3)}

        # The bad release: nobody foresaw that it does not boot on one revision.
        rings = [{"name": "first", "count": 9, "spread_over": ["hw_rev"], "soak": "1m"}, {"name": "rest", "soak": "1m"}]
        bad = herald.rollouts.start(plan_for(flight, scenario.NEW, scales, rings)).id
        until(lambda: herald.rollouts.show(bad).state == "halted")
        until(lambda: herald.rollouts.show(bad).at_risk == 0)
        halted = herald.rollouts.show(bad)
        assert halted.outcome == "halted" and set(halted.harm) == {"crashed"} and halted.ever_bad >= 2
        told = herald.rollouts.suspects(bad)
        best = told.suspects[0] if told.suspects else told.candidate
        assert best is not None and best.selector == HURT, "the leading candidate, however few there are"
        failures = some(herald.rollouts.failures(bad, logs=True).items, 2)
        assert {one.serial for one in failures} <= hurt and all(one.log and one.reason == "crashed" for one in failures)
        assert {one.try_number for one in failures} == {1}, "nobody was given the same bad image twice"

        herald.rollouts.resume(bad, "it is the second revision alone", leave_out=HURT)
        until(lambda: herald.rollouts.show(bad).state == "finished")
        done = herald.rollouts.show(bad)
        assert [ring.state for ring in done.rings] == ["done", "done"], "all rings came through"
        assert (done.outcome, done.ever_bad, done.harm) == ("carried-out", halted.ever_bad, halted.harm)
        assert done.halted_why == halted.reason and done.moved_bytes >= halted.moved_bytes > 0

        # The fix, for those that were left out.
        herald.releases.publish(flight.place.firmware(scenario.FIXED), key=key)
        fix = plan_for(flight, scenario.FIXED, f"({scales}) and {HURT}", [{"name": "all", "soak": "1m", "enough": 0.5}])
        fixed = herald.rollouts.start(fix).id
        until(lambda: herald.rollouts.show(fixed).state == "finished")
        assert herald.rollouts.show(fixed).outcome == "carried-out"

        digests = {v: sha256_hex(flight.place.firmware(v).read_bytes()) for v in (scenario.NEW, scenario.FIXED)}
        for attempt in some(herald.rollouts.attempts(bad, limit=100).items, 6):
            _, digest = running_image(chip_path(flight.place.flash, attempt.serial))
            assert (digest == digests[scenario.NEW]) == (attempt.state == "confirmed"), attempt
            assert (attempt.serial in hurt) == attempt.left_out
        brought = [one for one in herald.rollouts.attempts(fixed, limit=100).items if one.state == "confirmed"]
        for attempt in some(brought, 2):
            assert running_image(chip_path(flight.place.flash, attempt.serial))[1] == digests[scenario.FIXED]

        report = herald.rollouts.written_report(bad)
        for words in (
            "Outcome: carried-out.",
            f"It was halted: {halted.reason}.",
            "this is round 2",
            f"It left out {HURT}",
            f"Ever bad: {halted.ever_bad} ({halted.ever_bad} crashed)",
            "## Devices that went wrong",
            "it is the second revision alone",
            f"`{HURT}`",
        ):
            assert words in report, words
        overview = herald.overview()
        assert [(one.id, one.outcome) for one in overview.ended] == [(fixed, "carried-out"), (bad, "carried-out")]
        herald.close()
    finally:
        flight.stop()
