"""Two releases compared by lot, from the plan to the choice, as devices and people see it."""

from datetime import timedelta
from typing import Any

import pytest

from mellow_herald.client import ProblemError
from mellow_herald.core.digest import sha256_hex
from mellow_herald.wire.rehearsal import RehearsalIn
from tests.harness.device import PuppetDevice
from tests.harness.firmware import LINE, make_bytes
from tests.harness.patience import until
from tests.harness.service import RunningService
from tests.service.rehearsals.test_rehearsals import done as finished_by
from tests.service.rollouts.test_rings import BOARD, journalled, plan

DEVICES = 12
RINGS = [
    {"name": "early", "count": 8, "spread_over": ["hw_rev"], "enough": 0},
    {"name": "rest", "enough": 0},
]
OLD, NEW = f"{BOARD}/{LINE}/2.5.0", f"{BOARD}/{LINE}/2.5.1"
ARMS = [{"name": "old filter", "release": OLD}, {"name": "new filter", "release": NEW}]
LIMITS = {"firmware_limit": 0.9, "min_good": 0}


@pytest.fixture
def fleet(service: RunningService) -> list[PuppetDevice]:
    for version in ("2.4.0", "2.5.0", "2.5.1"):
        service.publish(version).raise_for_status()
    code, made = service.code(DEVICES), []
    for number in range(DEVICES):
        device = PuppetDevice(service.url, f"TA-{number:02}", hw_rev=1 + number % 2)
        device.enrol(code).raise_for_status()
        device.checkin()
        made.append(device)
    return made


def start(service: RunningService, **more: Any) -> int:
    given = {"release": OLD, "arms": ARMS, "brake": LIMITS, **more}
    rollout_id = service.herald.rollouts.start(plan(RINGS, **given)).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    return rollout_id


def arms(service: RunningService, rollout_id: int) -> dict[str, list[str]]:
    """The serials that got each release by lot."""
    found: dict[str, list[str]] = {}
    for one in service.herald.rollouts.attempts(rollout_id).items:
        found.setdefault(one.arm or "", []).append(one.serial)
    return found


def told(device: PuppetDevice) -> str:
    """Which version the device is told to fetch."""
    order = device.checkin().json()
    assert order["order"] == "fetch"
    envelope = device.get(f"/manifests/{order['manifest']}")
    envelope.raise_for_status()
    return next(v for v in ("2.5.0", "2.5.1") if v.encode() in envelope.content)


def go(device: PuppetDevice, version: str, *, good: bool = True) -> None:
    """The rest of its passage."""
    device.stage(version)
    order = device.checkin().json()
    assert order["order"] == "switch"
    device.report("installing")
    if good:
        device.switch()
        device.checkin(after_restart=True)
        device.order = order
        device.report("proving", tests=[{"name": "clock", "passed": True}])
        device.report("confirmed")
    else:
        device.boots += 1
        device.report("reverted", reason="self-test-failed", detail="load-cell reads 0 counts")


def test_half_of_each_stratum_gets_each_release_and_the_rest_the_one_that_is_chosen(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id, by_serial = start(service), {device.serial: device for device in fleet}
    lots = arms(service, rollout_id)
    assert {name: len(serials) for name, serials in lots.items()} == {"old filter": 4, "new filter": 4}
    for serials in lots.values():
        assert sorted(by_serial[serial].hw_rev for serial in serials) == [1, 1, 2, 2]
    for name, serials in lots.items():
        version = "2.5.0" if name == "old filter" else "2.5.1"
        for serial in serials:
            assert told(by_serial[serial]) == version
            go(by_serial[serial], version, good=name == "old filter")
    asked = service.wait_for(rollout_id, lambda r: r.rings[1].asks == "choice")
    assert asked.choices[0].command == f"herald rollout compare {rollout_id}"
    with pytest.raises(ProblemError, match="herald rollout compare"):
        service.herald.rollouts.go(rollout_id, "on with it")
    seen = service.herald.comparison.show(rollout_id)
    old, new = seen.arms
    assert [(one.given, one.exposed, one.good, one.bad, one.counted, one.counted_bad) for one in seen.arms] == [
        (4, 4, 4, 0, 4, 0),
        (4, 4, 0, 4, 4, 4),
    ]
    assert seen.difference == 1 and seen.low < 1 <= seen.high and old.high < 1 and new.low > 0
    assert (seen.evidence > 4, seen.differ, seen.chosen) == (True, False, None), "eight devices prove little"
    with pytest.raises(ProblemError, match="Choose 'old filter' or 'new filter'"):
        service.herald.comparison.choose(rollout_id, "2.6.0", "a guess")
    chosen = service.herald.comparison.choose(rollout_id, "old filter", "the other one fails")
    assert (chosen.chosen, chosen.rings[1].state) == ("old filter", "open")
    drawn = {serial for serials in lots.values() for serial in serials}
    rest = [device for device in fleet if device.serial not in drawn]
    assert [told(device) for device in rest] == ["2.5.0"] * 4
    for device in rest:
        go(device, "2.5.0")
    done = service.wait_for(rollout_id, lambda r: r.state == "finished")
    assert done.targeted == 12 == sum(done.states.values())
    after = service.herald.comparison.show(rollout_id)
    assert (after.chosen, [one.counted for one in after.arms]) == ("old filter", [4, 4]), "the rest got it by no lot"
    entry = journalled(service, "rollout old filter chosen")
    assert entry.why == "the other one fails" and "new filter 4 bad of 4" in entry.data["shown"]
    with pytest.raises(ProblemError, match="was chosen"):
        service.herald.comparison.choose(rollout_id, "new filter", "second thoughts")


def test_who_has_not_switched_turns_to_the_chosen_one_and_who_is_about_to_keeps_its_own(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id, by_serial = start(service), {device.serial: device for device in fleet}
    mine = [by_serial[serial] for serial in arms(service, rollout_id)["new filter"]]
    switching, staged, fetching, waiting = mine
    for device in (switching, staged, fetching):
        assert told(device) == "2.5.1"
    switching.stage("2.5.1")
    assert switching.checkin().json()["order"] == "switch"
    staged.stage("2.5.1")
    other = f"/manifests/{fetching.order['manifest']}"
    service.herald.comparison.choose(rollout_id, "2.5.0", "we know enough")
    assert fetching.get(other).status_code == 403, "only its own attempt's release"
    for device in (staged, fetching, waiting):
        assert told(device) == "2.5.0"
        go(device, "2.5.0")
        assert device.digest != sha256_hex(make_bytes("2.5.1"))
    switching.report("installing")
    order = switching.order
    switching.switch()
    switching.checkin(after_restart=True)
    switching.order = order
    switching.report("proving", tests=[{"name": "clock", "passed": True}])
    switching.report("confirmed")
    (own,) = [one for one in service.herald.rollouts.attempts(rollout_id).items if one.serial == switching.serial]
    assert (own.state, own.arm) == ("confirmed", "new filter")
    assert [one.given for one in service.herald.comparison.show(rollout_id).arms] == [4, 1]


def test_a_bad_arm_halts_and_is_gone_from_the_next_round(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id, by_serial = start(service, brake={**LIMITS, "hard_stop": 1}), {d.serial: d for d in fleet}
    bad, *others = [by_serial[serial] for serial in arms(service, rollout_id)["new filter"]]
    assert told(bad) == "2.5.1"
    go(bad, "2.5.1", good=False)
    halted = service.wait_for(rollout_id, lambda r: r.state == "halted" and r.states.get("called-off") == 7)
    assert "choose" in [one.do for one in halted.choices]
    service.herald.comparison.choose(rollout_id, "old filter", "the new one fails")
    assert others[0].checkin().status_code == 204, "nothing goes on before somebody resumes"
    service.herald.rollouts.resume(rollout_id, "with the old one alone")
    service.wait_for(rollout_id, lambda r: r.states.get("queued", 0) >= 7)
    assert [told(device) for device in others] == ["2.5.0"] * 3
    with pytest.raises(ProblemError, match="not chosen"):
        attempt = next(one for one in service.herald.rollouts.attempts(rollout_id).items if one.serial == bad.serial)
        service.herald.rollouts.retry(attempt.id, "once more")


def test_who_soaks_is_undecided_and_nobody_exposed_later_counts_before_it(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rings = [{**RINGS[0], "soak": "1h"}, RINGS[1]]
    rollout_id = service.herald.rollouts.start(plan(rings, release=OLD, arms=ARMS, brake=LIMITS)).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    lots, by_serial = arms(service, rollout_id), {device.serial: device for device in fleet}
    soaks, fails = by_serial[lots["old filter"][0]], by_serial[lots["new filter"][0]]
    assert (told(soaks), told(fails)) == ("2.5.0", "2.5.1")
    go(soaks, "2.5.0")
    go(fails, "2.5.1", good=False)

    def counts() -> list[tuple[int, ...]]:
        arms_now = service.herald.comparison.show(rollout_id).arms
        return [(one.exposed, one.undecided, one.good, one.bad, one.counted) for one in arms_now]

    assert counts() == [(1, 1, 0, 0, 0), (1, 0, 0, 1, 0)]
    service.pass_time(timedelta(hours=1))
    assert counts() == [(1, 1, 0, 0, 0), (1, 0, 0, 1, 0)], "it may have gone wrong since it was heard of last"
    soaks.checkin()
    until(lambda: counts() == [(1, 0, 1, 0, 1), (1, 0, 0, 1, 1)])


def test_the_other_release_is_needed_until_it_is_chosen_against(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id = start(service)
    newer = next(one for one in service.herald.releases.list().items if one.version == "2.5.1")
    crossings = service.herald.releases.lineage(BOARD, LINE).crossings
    assert [(one.id, one.version) for one in crossings] == [(rollout_id, "2.5.0 or 2.5.1")]
    assert list(service.herald.releases.foresee_withdrawal(newer.id).rollouts) == [rollout_id]
    service.herald.comparison.choose(rollout_id, "old filter", "cheaper")
    assert not service.herald.releases.foresee_withdrawal(newer.id).rollouts


def test_a_rollout_of_one_release_compares_nothing(service: RunningService, fleet: list[PuppetDevice]) -> None:
    rollout_id = start(service, arms=[])
    for asked in (service.herald.comparison.show, lambda r: service.herald.comparison.choose(r, "x", "why not")):
        with pytest.raises(ProblemError, match="brings one release"):
            asked(rollout_id)
    with pytest.raises(ProblemError, match=r"There is no release .*/9\.9\.9"):
        start(service, arms=[ARMS[0], {"name": "none", "release": f"{BOARD}/{LINE}/9.9.9"}])


def test_preview_approver_and_report_show_both(service: RunningService, fleet: list[PuppetDevice]) -> None:
    document = plan(RINGS, release=OLD, arms=ARMS, brake=LIMITS, approval={"rings": ["rest"], "not_the_starter": False})
    shown = service.herald.rollouts.preview(document)
    assert [(one.name, one.devices, one.share) for one in shown.arms] == [
        ("old filter", 4, 0.5),
        ("new filter", 4, 0.5),
    ]
    rollout_id, by_serial = service.herald.rollouts.start(document).id, {device.serial: device for device in fleet}
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    for name, serials in arms(service, rollout_id).items():
        for serial in serials:
            told(by_serial[serial])
            go(by_serial[serial], "2.5.0" if name == "old filter" else "2.5.1")
    service.wait_for(rollout_id, lambda r: r.rings[1].asks == "choice")
    assert "No ring asks" in (service.herald.approvals.show(rollout_id).why_not or ""), "what of is not known yet"
    service.herald.comparison.choose(rollout_id, "2.5.1", "newer")
    service.wait_for(rollout_id, lambda r: r.rings[1].asks == "approval")
    seen = service.herald.approvals.show(rollout_id)
    assert seen.may and "0 bad of 4" in seen.compared[0] and seen.compared[-1] == "new filter was chosen for the rest"
    service.herald.approvals.approve(rollout_id, "as good")
    service.wait_for(rollout_id, lambda r: r.rings[1].state == "open")
    report = service.herald.rollouts.report(rollout_id)
    assert report.comparison is not None and report.comparison.chosen == "new filter"
    text = service.herald.rollouts.written_report(rollout_id)
    assert "## Its two releases side by side" in text and "| new filter (chosen) | " in text
    page = service.herald.rollouts.written_report(rollout_id, "html")
    assert "Its two releases side by side" in page


def test_what_one_arm_leaves_the_other_has() -> None:
    for share, other in ((0.7, 0.3), (None, 0.5)):
        first = {**ARMS[0], **({"share": share} if share else {})}
        assert plan(RINGS, release=OLD, arms=[first, ARMS[1]]).to_plan().arms[1].share == other


def test_a_fault_of_one_arm_is_rehearsed(service: RunningService, fleet: list[PuppetDevice]) -> None:
    document = plan(RINGS, release=OLD, arms=ARMS, brake=LIMITS)
    new = 'arm = "new filter"'
    faults = [f"{new}: 1 crashed", f"{new} and hw_rev = 2: 1 crashed", f"not {new}: 1 crashed"]
    made = service.herald.rehearsals.ask(RehearsalIn(plan=document, faults=faults, runs=10))
    done = until(lambda: finished_by(service, made.id))
    assert done.result is not None
    hurt = [one.hurt.middle for one in done.result.faults]
    # Of the eight that the lot decides about; the rest of four is taken to get the first.
    assert hurt == [4, 2, 8]


def test_a_choice_while_it_is_held_gives_nobody_anything_before_it_goes_on(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    rollout_id, by_serial = start(service), {device.serial: device for device in fleet}
    device = by_serial[arms(service, rollout_id)["new filter"][0]]
    service.herald.rollouts.hold(rollout_id, "a look first")
    held = service.herald.comparison.choose(rollout_id, "old filter", "known for a year")
    assert (held.state, held.chosen) == ("held", "old filter")
    assert device.checkin().status_code == 204
    service.herald.rollouts.resume(rollout_id, "looked at")
    assert told(device) == "2.5.0"


def test_a_choice_that_breaks_off_in_its_middle_has_changed_nothing(
    service: RunningService, fleet: list[PuppetDevice], monkeypatch: pytest.MonkeyPatch
) -> None:
    rollout_id, by_serial = start(service), {device.serial: device for device in fleet}
    device = by_serial[arms(service, rollout_id)["new filter"][0]]

    async def away(*_: object) -> None:
        raise ConnectionRefusedError(111, "Connection refused")

    with monkeypatch.context() as patched, service.http(service.token) as http:
        patched.setattr("mellow_herald.service.rollouts.comparing.renew_orders", away)
        asked = {"arm": "old filter", "reason": "known for a year"}
        assert http.post(f"/api/v1/rollouts/{rollout_id}/choose", json=asked).status_code == 503
    assert service.herald.comparison.show(rollout_id).chosen is None
    assert told(device) == "2.5.1"
    service.herald.comparison.choose(rollout_id, "old filter", "known for a year")
    assert told(device) == "2.5.0"
    assert journalled(service, "rollout old filter chosen").why == "known for a year"
