"""A second person's yes, and what is heard outside, from the call to the ring that waits for it."""

import json
from collections.abc import Iterator
from typing import Any

import httpx
import pytest

from mellow_herald.client import Herald, ProblemError
from mellow_herald.wire.person import Role, TokenFor
from mellow_herald.wire.plan import PlanRing
from mellow_herald.wire.rollout import PlanEdit
from tests.harness.device import PuppetDevice
from tests.harness.service import RunningService
from tests.harness.team import join
from tests.service.rollouts.test_life import go_through
from tests.service.rollouts.test_rings import plan

RINGS = [
    {"name": "bench", "count": 2, "soak": "0s", "enough": 0.1},
    {"name": "rest", "soak": "0s", "enough": 0.1},
]
APPROVAL = {"rings": ["rest"]}


@pytest.fixture
def fleet(service: RunningService) -> list[PuppetDevice]:
    service.publish("2.4.0").raise_for_status()
    service.publish("2.5.0").raise_for_status()
    code, made = service.code(6), []
    for number in range(6):
        device = PuppetDevice(service.url, f"TA-{number}")
        device.enrol(code).raise_for_status()
        device.checkin()
        made.append(device)
    return made


@pytest.fixture
def colleague(service: RunningService) -> Iterator[Herald]:
    """Another operator, who has neither started nor published anything."""
    with join(service, "brook", [Role.OPERATOR]) as herald:
        yield herald


def through_the_bench(
    service: RunningService, fleet: list[PuppetDevice], **more: Any
) -> tuple[int, list[PuppetDevice]]:
    """A rollout whose first ring's devices are through; with those."""
    rollout_id = service.herald.rollouts.start(plan(RINGS, brake={"firmware_limit": 0.9}, **more)).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    inner = [device for device in fleet if device.checkin().status_code == 200]
    assert len(inner) == 2
    return rollout_id, inner


def asks(service: RunningService, rollout_id: int, what: str) -> Any:
    return service.wait_for(rollout_id, lambda r: r.rings[1].state == "awaiting-go" and r.rings[1].asks == what)


def passage(device: PuppetDevice) -> None:
    """The rest of the way of a device that was told to fetch."""
    device.order = {}
    go_through(device)


# Approvals ---------------------------------------------------------------------------------------------------------


def test_a_ring_waits_for_another_persons_yes_and_keeps_what_they_saw(
    service: RunningService, fleet: list[PuppetDevice], colleague: Herald
) -> None:
    rollout_id, inner = through_the_bench(service, fleet, approval=APPROVAL)
    for device in inner:
        passage(device)
    shown = asks(service, rollout_id, "approval")
    assert "another person with the role operator" in shown.rings[1].asks_why
    assert shown.choices[0].command == f"herald rollout approve {rollout_id}"
    with pytest.raises(ProblemError, match="herald rollout approve"):
        service.herald.rollouts.go(rollout_id, "it looks good")
    own = service.herald.approvals.show(rollout_id)
    assert not own.may and "started this rollout" in (own.why_not or "")
    with pytest.raises(ProblemError, match="another person's approval"):
        service.herald.approvals.approve(rollout_id, "I like it")
    seen = colleague.approvals.show(rollout_id)
    assert seen.may and seen.ring == 1 and seen.devices == 4 and seen.exposed == 2 and seen.hurt == 0
    assert any("firmware brake" in words for words in seen.brakes)
    after = colleague.approvals.approve(rollout_id, "both bench devices are well")
    assert after.rings[1].state == "open", "in the same breath"
    report = service.herald.rollouts.report(rollout_id)
    (given,) = report.approvals
    assert given.by == "brook" and given.ring == 1 and given.shown["exposed"] == 2
    text = service.herald.rollouts.written_report(rollout_id)
    assert "Who approved, and what they saw" in text and "| brook | 2 | both bench devices are well |" in text


def test_who_published_the_release_or_wrote_the_plan_may_not_approve_of_it(
    service: RunningService, fleet: list[PuppetDevice], colleague: Herald
) -> None:
    rollout_id, inner = through_the_bench(service, fleet, approval=APPROVAL)
    colleague.rollouts.edit(rollout_id, PlanEdit(wait_at_most="2h", reason="they are slow"))
    for device in inner:
        passage(device)
    with join(service, "clay", [Role.OPERATOR]):
        asks(service, rollout_id, "approval")
        seen = colleague.approvals.show(rollout_id)
        assert not seen.may and "wrote its plan" in (seen.why_not or "")
    with join(service, "vera", [Role.VIEWER]) as viewer, pytest.raises(ProblemError, match="role operator"):
        viewer.approvals.approve(rollout_id, "why not")


def test_where_nobody_is_left_to_approve_it_stands_still_and_an_earlier_yes_stands(
    service: RunningService, fleet: list[PuppetDevice], colleague: Herald
) -> None:
    rollout_id, inner = through_the_bench(service, fleet, approval=APPROVAL)
    for device in inner:
        passage(device)
    asks(service, rollout_id, "approval")
    service.herald.people.close("brook")
    shown = service.wait_for(rollout_id, lambda r: r.stands_still is not None)
    assert "nobody is left who may give it" in shown.stands_still
    assert {choice.do for choice in shown.choices} == {"halt", "cancel"}
    with join(service, "clay", [Role.OPERATOR]) as another:
        service.wait_for(rollout_id, lambda r: r.stands_still is None)
        another.approvals.approve(rollout_id, "I had a look")
    service.herald.people.close("clay")
    assert service.herald.rollouts.show(rollout_id).rings[1].state == "open"


def test_a_yes_to_rings_that_are_changed_afterwards_counts_no_more(
    service: RunningService, fleet: list[PuppetDevice], colleague: Herald
) -> None:
    rings = [*RINGS[:1], {**RINGS[1], "opens": "by-hand"}]
    document = plan(rings, brake={"firmware_limit": 0.9}, approval=APPROVAL)
    rollout_id = service.herald.rollouts.start(document).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    for device in [one for one in fleet if one.checkin().status_code == 200]:
        passage(device)
    asks(service, rollout_id, "approval")
    colleague.approvals.approve(rollout_id, "well done")
    asks(service, rollout_id, "go")
    changed = [*document.rings[:1], PlanRing(name="rest", count=1, soak="0s", opens=document.rings[1].opens)]
    service.herald.rollouts.edit(rollout_id, PlanEdit(rings=changed, reason="one at a time"))
    asks(service, rollout_id, "approval")
    (given,) = service.herald.approvals.show(rollout_id).approvals
    assert given.void_why == "admin changed the rings to come"


def test_an_approval_that_names_no_ring_of_the_plan_is_refused(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    with pytest.raises(ProblemError, match="no ring of the plan"):
        service.herald.rollouts.preview(plan(RINGS, approval={"rings": ["outer"]}))
    rollout_id, _ = through_the_bench(service, fleet)
    with pytest.raises(ProblemError, match="does not ask for an approval"):
        service.herald.approvals.approve(rollout_id, "anyway")


# Outside evidence --------------------------------------------------------------------------------------------------


def test_a_call_about_a_device_counts_as_bad_until_it_is_withdrawn(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id, inner = through_the_bench(service, fleet, harm={"at_most": 4})
    for device in inner:
        passage(device)
    filed = service.herald.evidence.file(rollout_id, "support-call", "it shows nothing", serial=inner[0].serial)
    assert filed.counts and filed.exposed and not filed.waits
    firmware = service.herald.rollouts.brakes(rollout_id).brakes[0]
    assert (firmware.bad, firmware.seen) == (1, 2)
    shown = service.herald.rollouts.show(rollout_id)
    assert shown.outside is not None and shown.outside.named == 1
    assert shown.budget is not None and shown.budget.hurt == 1, "the budget counts it, too"
    assert shown.states == {"confirmed": 2, **{k: v for k, v in shown.states.items() if k != "confirmed"}}
    again = service.herald.evidence.file(rollout_id, "support-call", "still nothing", serial=inner[0].serial)
    assert service.herald.rollouts.brakes(rollout_id).brakes[0].bad == 1, "once"
    service.herald.evidence.withdraw(rollout_id, filed.id, "its plug was out")
    assert service.herald.rollouts.brakes(rollout_id).brakes[0].bad == 1, "another call stands"
    gone = service.herald.evidence.withdraw(rollout_id, again.id, "the same plug")
    assert gone.withdrawn_by == "admin" and not gone.counts
    assert service.herald.rollouts.brakes(rollout_id).brakes[0].bad == 0
    found = service.herald.evidence.list(rollout_id)
    assert found.withdrawn == 2 and len(found.items) == 2, "what was said stays on record"
    with pytest.raises(ProblemError, match="was withdrawn by admin already"):
        service.herald.evidence.withdraw(rollout_id, again.id, "once more")


def test_calls_enough_halt_the_rollout(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rings = [{"name": "all", "soak": "1h"}]
    rollout_id = service.herald.rollouts.start(plan(rings)).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    for device in fleet[:3]:
        go_through(device)
    for device in fleet[:3]:
        service.herald.evidence.file(rollout_id, "support-call", "its lamp blinks red", serial=device.serial)
    shown = service.wait_for(rollout_id, lambda r: r.state == "halted")
    assert "firmware brake" in (shown.halted_why or "")
    text = service.herald.rollouts.written_report(rollout_id)
    assert "## What was heard outside" in text and "its lamp blinks red" in text


def test_a_call_that_names_no_device_holds_the_next_ring_until_somebody_has_looked(
    service: RunningService, fleet: list[PuppetDevice], colleague: Herald
) -> None:
    rollout_id, inner = through_the_bench(service, fleet)
    filed = service.herald.evidence.file(rollout_id, "support-call", "somebody's scale\nis slow")
    assert filed.waits and not filed.counts
    for device in inner:
        passage(device)
    shown = asks(service, rollout_id, "evidence")
    assert "1 piece of outside evidence" in shown.rings[1].asks_why
    assert shown.choices[0].command == f"herald rollout evidence list {rollout_id}"
    with pytest.raises(ProblemError, match="herald rollout evidence list"):
        service.herald.rollouts.go(rollout_id, "it will be nothing")
    done = colleague.evidence.acknowledge(rollout_id, filed.id, "an old scale of another make", unrelated=True)
    assert done.unrelated and done.acknowledged_by == "brook"
    service.wait_for(rollout_id, lambda r: r.rings[1].state == "open")
    with pytest.raises(ProblemError, match="acknowledged by brook already"):
        colleague.evidence.acknowledge(rollout_id, filed.id, "twice")


def test_a_device_that_does_not_have_the_release_is_the_control(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id, inner = through_the_bench(service, fleet)
    outer = next(device for device in fleet if device not in inner)
    passage(inner[0])
    filed = service.herald.evidence.file(rollout_id, "support-call", "it is slow", serial=outer.serial)
    assert not filed.counts and not filed.waits and not filed.exposed
    found = service.herald.evidence.list(rollout_id)
    assert found.named == 0 and found.named_others == 1 and found.exposed == 1 and found.others == 5
    assert "1 of 5 others (20.0 %)" in found.words
    with pytest.raises(ProblemError, match="and needs no look"):
        service.herald.evidence.acknowledge(rollout_id, filed.id, "seen")


def test_evidence_about_a_device_outside_the_rollout_names_where_it_was(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    first = service.herald.rollouts.start(plan([{"name": "one", "serials": ["TA-0"]}], target="serial = TA-0")).id
    second = service.herald.rollouts.start(plan([{"name": "two"}], target="serial = TA-1")).id
    service.wait_for(first, lambda r: r.rings[0].state == "open")
    with pytest.raises(ProblemError, match=f"not a device of rollout {second}; it was in rollout {first}"):
        service.herald.evidence.file(second, "alarm", "too hot", serial="TA-0")
    with pytest.raises(ProblemError, match="it is in none"):
        service.herald.evidence.file(first, "alarm", "too hot", serial="TA-5")
    with pytest.raises(ProblemError, match="There is no device"):
        service.herald.evidence.file(first, "alarm", "too hot", serial="TA-9")
    with pytest.raises(ProblemError, match="There is no rollout"):
        service.herald.evidence.file(77, "alarm", "too hot")


def test_chosen_kinds_hold_the_rollout_at_once(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id, _ = through_the_bench(service, fleet, evidence={"hold_on": ["alarm"]})
    service.herald.evidence.file(rollout_id, "support-call", "a question")
    assert service.herald.rollouts.show(rollout_id).state == "running"
    service.herald.evidence.file(rollout_id, "alarm", "half of the yard is dark")
    shown = service.herald.rollouts.show(rollout_id)
    assert shown.state == "held" and "half of the yard is dark" in (shown.reason or "")


def event(number: str, **data: Any) -> dict[str, Any]:
    said = {"kind": "support-call", "text": "it shows nothing", **data}
    return {"specversion": "1.0", "id": number, "source": "/help-desk", "type": "help-desk.call", "data": said}


def test_a_ticket_system_sends_events_with_a_token_for_that_alone(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id, inner = through_the_bench(service, fleet)
    passage(inner[0])
    token = service.herald.people.make_token("help desk", 30, TokenFor.EVIDENCE)
    assert token.only_for == "evidence" and token.token is not None
    with Herald(service.url, token=token.token) as desk:
        filed = desk.evidence.send_event(event("1", serial=inner[0].serial))
        assert filed.rollout_id == rollout_id and filed.counts and filed.filed_by == "help desk (admin)"
        assert desk.evidence.send_event(event("1", serial=inner[0].serial)).id == filed.id, "the same one twice"
        assert desk.evidence.send_event(event("2")).waits, "the only rollout that runs"
        assert desk.evidence.send_event({**event("3"), "subject": f"rollout/{rollout_id}/device/{inner[1].serial}"})
        for refused in (
            lambda: desk.rollouts.list(),
            lambda: desk.rollouts.halt(rollout_id, "stop it"),
            lambda: desk.people.make_token("another"),
            lambda: desk.evidence.list(rollout_id),
        ):
            with pytest.raises(ProblemError, match="is for evidence alone"):
                refused()
    assert service.herald.evidence.list(rollout_id).named == 1
    with service.http(token.token) as http:
        binary = http.post(
            "/api/v1/evidence",
            content=json.dumps({"kind": "alarm", "text": "dark"}),
            headers={
                "content-type": "application/json",
                "ce-specversion": "1.0",
                "ce-id": "9",
                "ce-source": "/m",
                "ce-type": "t",
            },
        )
        assert binary.status_code == 201 and binary.json()["source"] == "/m"
        assert send(http, event("4", kind="Bad Kind")).status_code == 422
        missing = send(http, {**event("5"), "data": {"kind": "alarm"}})
        assert missing.status_code == 422 and "text is missing" in missing.json()["detail"]
        assert send(http, event("6", serial="nobody")).status_code == 404
        assert send(http, event("7", text="x" * 70_000)).status_code == 413


def send(http: httpx.Client, body: dict[str, Any]) -> httpx.Response:
    headers = {"content-type": "application/cloudevents+json"}
    return http.post("/api/v1/evidence", content=json.dumps(body), headers=headers)


def test_an_event_that_fits_several_rollouts_must_say_which(service: RunningService, fleet: list[PuppetDevice]) -> None:
    for serial in ("TA-0", "TA-1"):
        service.herald.rollouts.start(plan([{"name": "one"}], name=serial, target=f"serial = {serial}"))
    with service.http(service.token) as http:
        answer = send(http, event("1"))
        assert answer.status_code == 422 and "2, 1 run" in answer.json()["detail"]
        assert send(http, event("1", rollout=2)).status_code == 201
