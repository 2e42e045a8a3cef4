"""In a large fleet the report is kept for a while, but never longer than a decision stands."""

import pytest

from mellow_herald.core import limits
from mellow_herald.service import kept
from tests.harness.device import PuppetDevice
from tests.harness.service import RunningService
from tests.service.rollouts.test_life import begin, fleet

__all__ = ["fleet"]


def test_a_report_that_is_kept_misses_no_decision(
    service: RunningService, fleet: list[PuppetDevice], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(limits, "LARGE", 0)
    monkeypatch.setattr(kept, "TIMES", 100_000)
    rollout_id = begin(service)
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    rollouts = service.herald.rollouts
    rollouts.halt(rollout_id, "support calls")
    halted = rollouts.report(rollout_id)
    assert halted.rollout.state == "halted"
    rollouts.resume(rollout_id, "they were about something else")
    resumed = rollouts.report(rollout_id)
    assert resumed.rollout.state == "running" and resumed.now > halted.now
    rollouts.halt(rollout_id, "once more")
    again = rollouts.report(rollout_id)
    assert again.rollout.state == "halted" and again.now > resumed.now, "not the one of the first halt"
