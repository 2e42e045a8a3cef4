"""A harm budget, as engineers plan it and devices live under it."""

from datetime import timedelta

import pytest

from mellow_herald.client import ProblemError
from mellow_herald.core.harm.budget import HarmBudget
from mellow_herald.core.harm.forecast import good_waves
from mellow_herald.wire.rollout import PlanEdit
from tests.harness.device import PuppetDevice
from tests.harness.service import RunningService
from tests.service.rollouts.test_harm import restart
from tests.service.rollouts.test_life import go_through
from tests.service.rollouts.test_rings import plan

NO_HALT = {"firmware_limit": 0.9, "watch_by": ["hw_rev"]}


@pytest.fixture
def fleet(service: RunningService) -> list[PuppetDevice]:
    """Twelve devices on 2.4.0, of two hardware revisions; three sites."""
    service.publish("2.4.0").raise_for_status()
    service.publish("2.5.0").raise_for_status()
    code, made = service.code(12), []
    for number in range(12):
        device = PuppetDevice(service.url, f"TA-{number:02d}", hw_rev=1 + number // 8)
        device.enrol(code, labels={"site": f"site-{number // 4}"}).raise_for_status()
        device.checkin()
        made.append(device)
    return made


def started(service: RunningService, **more: object) -> int:
    rings = [{"name": "all", "soak": "0s", "enough": 0.1}]
    rollout_id = service.herald.rollouts.start(plan(rings, **{"brake": NO_HALT, **more})).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    return rollout_id


def staged(fleet: list[PuppetDevice]) -> None:
    for device in fleet:
        device.checkin()
        device.stage()


def given_leave(fleet: list[PuppetDevice]) -> list[PuppetDevice]:
    return [device for device in fleet if device.checkin().json()["order"] == "switch"]


def ends(device: PuppetDevice, *, good: bool) -> None:
    device.report("installing")
    if not good:
        device.report("proving")
        device.report("reverted", reason="crashed")
        return
    restart(device)
    device.report("confirmed")


def next_wave(service: RunningService, rollout_id: int, number: int) -> int:
    """Waits until that wave has begun, and tells how many it may hold."""
    shown = service.wait_for(
        rollout_id, lambda r: r.budget is not None and r.budget.wave is not None and r.budget.wave.number >= number
    )
    assert shown.budget is not None and shown.budget.wave is not None and shown.budget.wave.number == number
    return shown.budget.wave.size


def test_leave_is_given_in_waves_that_grow_as_devices_do_well(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = started(service, harm={"at_most": 3})
    staged(fleet)
    assert next_wave(service, rollout_id, 1) == 3
    first = given_leave(fleet)
    assert len(first) == 3, "as many as may be hurt, whatever the release is like"
    waiting = service.herald.rollouts.attempts(rollout_id, waiting_for="harm-budget").items
    assert len(waiting) == 9 and "harm budget" in str(waiting[0].waiting)
    shown = service.herald.rollouts.show(rollout_id).budget
    assert shown is not None and (shown.hurt, shown.at_risk, shown.free) == (0, 3, 0)
    assert "3 of 3 devices of wave 1 have leave, 3 devices undecided" in shown.words
    for device in first:
        ends(device, good=True)
    size = next_wave(service, rollout_id, 2)
    assert 3 <= size < 9
    second = given_leave([device for device in fleet if device not in first])
    assert len(second) == size
    entries = [e.what for e in service.herald.journal.list(subject=f"rollout {rollout_id}").items]
    assert "wave 1 begins" in entries and "wave 2 begins" in entries


def test_a_budget_that_is_used_up_stands_still_names_the_choices_and_goes_on_when_it_is_raised(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = started(service, harm={"at_most": 2})
    staged(fleet)
    next_wave(service, rollout_id, 1)
    for device in given_leave(fleet):
        ends(device, good=False)
    shown = service.wait_for(rollout_id, lambda r: r.stands_still is not None)
    assert "harm budget is used up: 2 of at most 2 devices were hurt" in (shown.stands_still or "")
    assert shown.budget is not None and shown.budget.used_up and shown.budget.free == 0
    raising = next(choice for choice in shown.choices if choice.do == "budget")
    assert raising.command == f"herald rollout edit {rollout_id} --harm-at-most 4" and raising.devices == 12
    assert {"failures", "halt", "cancel"} <= {choice.do for choice in shown.choices}
    assert not given_leave(fleet[2:])
    with pytest.raises(ProblemError, match="--harm-at-most N"):
        service.herald.rollouts.go(rollout_id, "go on all the same")
    asked = PlanEdit(harm_at_most=4, reason="both have the same cracked antenna")
    preview = service.herald.rollouts.preview_edit(rollout_id, asked)
    assert [one.key for one in preview.changes] == ["harm.at_most"] and "2 more may be" in preview.effects[0]
    service.herald.rollouts.edit(rollout_id, asked)
    assert next_wave(service, rollout_id, 2) == 2
    service.wait_for(rollout_id, lambda r: r.stands_still is None)
    assert len(given_leave(fleet[2:])) == 2
    report = service.herald.rollouts.report(rollout_id)
    assert [wave.number for wave in report.waves] == [1, 2] and report.waves[1].hurt == 2
    text = service.herald.rollouts.written_report(rollout_id, "md")
    assert "## Its harm budget" in text and "wave 2: up to 2 devices: of 2 decided 2 were hurt" in text


def test_a_sure_budget_counts_those_at_risk_as_if_they_were_hurt(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = started(service, harm={"at_most": 4, "sure": True}, pace={"at_risk_at_once": 3})
    staged(fleet)
    first = given_leave(fleet)
    assert len(first) == 3, "the pace still binds"
    ends(first[0], good=False)
    ends(first[1], good=True)
    # One hurt and one at risk: two more may be.
    rest = [device for device in fleet if device not in first]
    second = given_leave(rest)
    assert len(second) == 2
    for device in (first[2], *second):
        ends(device, good=False)
    shown = service.wait_for(rollout_id, lambda r: r.stands_still is not None)
    assert shown.budget is not None and shown.budget.hurt == 4 and shown.budget.used_up
    assert not given_leave([device for device in rest if device not in second])


def test_clusters_get_so_many_devices_at_a_time_and_a_new_value_no_more_than_is_left(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = started(service, harm={"at_most": 4, "cluster_by": "site", "of_a_cluster": 2})
    staged(fleet)
    assert next_wave(service, rollout_id, 1) == 2
    sites = [f"site-{fleet.index(device) // 4}" for device in given_leave(fleet)]
    assert sites == ["site-0", "site-0", "site-1", "site-1"]


def test_who_does_not_answer_is_hurt_and_a_soak_that_goes_on_is_not_decided(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rings = [{"name": "all", "soak": "10m", "enough": 0.1}]
    started_id = service.herald.rollouts.start(plan(rings, brake=NO_HALT, harm={"at_most": 3})).id
    service.wait_for(started_id, lambda r: r.rings[0].state == "open")
    staged(fleet)
    next_wave(service, started_id, 1)
    first = given_leave(fleet)
    for device in first:
        ends(device, good=True)
    service.pass_time(timedelta(minutes=5))
    shown = service.herald.rollouts.show(started_id).budget
    assert shown is not None and shown.wave is not None and shown.wave.undecided == 3
    service.pass_time(timedelta(minutes=6))
    for device in first:
        device.checkin()
    assert next_wave(service, started_id, 2) >= 3


def test_the_preview_tells_how_long_a_good_release_takes_under_it(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    document = plan([{"name": "all", "soak": "1h"}], harm={"at_most": 2, "wave_at_most": 4})
    shown = service.herald.rollouts.preview(document)
    assert shown.budget is not None and shown.budget.waves == good_waves(HarmBudget(2, widest=4), [12])
    assert shown.budget.done is not None and shown.budget.done_without is not None
    assert shown.budget.done - shown.budget.done_without > timedelta(hours=3)
    assert shown.rings[0].done == shown.budget.done
    assert any("up to 4 more (wave_at_most)" in words for words in shown.budget.words)


@pytest.mark.parametrize(
    ("harm", "says"),
    [
        ({"at_most": 0}, "greater than or equal to 1"),
        ({"at_most": 2, "certainty": 1.0}, "less than or equal to 0.9999"),
        ({"at_most": 2, "of_a_cluster": 3, "cluster_by": "site"}, "none would ever be given leave"),
        ({"at_most": 2.5}, "integer"),
    ],
)
def test_a_budget_that_makes_no_sense_is_refused_with_what_to_do(
    service: RunningService, fleet: list[PuppetDevice], harm: dict[str, object], says: str
) -> None:
    document = plan([{"name": "all"}]).model_dump(mode="json") | {"harm": harm}
    with service.http(service.token) as engineer:
        answer = engineer.post("/api/v1/previews", json=document)
    assert answer.status_code == 422 and says in answer.text


def test_a_rollout_without_a_budget_cannot_be_given_one(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = started(service)
    go_through(fleet[0])
    with pytest.raises(ProblemError, match="has no harm budget"):
        service.herald.rollouts.edit(rollout_id, PlanEdit(harm_at_most=4, reason="be careful"))
