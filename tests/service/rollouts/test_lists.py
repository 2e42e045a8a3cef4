"""A list of devices as a rollout's target: looked at line by line before the start, and frozen with it."""

from pathlib import Path

import pytest

from mellow_herald.client import ProblemError
from mellow_herald.wire.plan import PlanDocument
from tests.harness.device import PuppetDevice
from tests.harness.service import PASSWORD, RunningService
from tests.harness.terminal import Terminal

LIST = "serial\nTA-1\nTA-2\nTA-1\nTA-9\nTA-3\n"


@pytest.fixture
def fleet(service: RunningService) -> list[PuppetDevice]:
    service.publish("2.4.0")
    service.publish("2.5.0")
    made = [PuppetDevice(service.url, f"TA-{number}") for number in (1, 2, 3, 4)]
    for device in made:
        device.enrol(service.code()).raise_for_status()
        device.checkin()
    service.herald.devices.decide("retired", ["TA-3"], reason="lost in a storm")
    return made


def with_target(service: RunningService, target: str) -> PlanDocument:
    return PlanDocument.model_validate({**service.plan().model_dump(mode="json"), "target": target})


def test_a_list_is_looked_at_line_by_line_and_frozen(service: RunningService, fleet: list[PuppetDevice]) -> None:
    kept = service.herald.devices.keep_list(LIST, board="comb-s1", line="hive-scale")
    assert [(one.line_number, one.serial, one.kind) for one in kept.remarks] == [
        (4, "TA-1", "doubled"),
        (5, "TA-9", "unknown"),
        (6, "TA-3", "not-admitted"),
    ]
    assert (kept.devices, kept.counts) == (4, {"doubled": 1, "unknown": 1, "not-admitted": 1})
    other = service.herald.devices.keep_list("TA-1\nTA-2", board="skep-g1", line="yard-gateway")
    assert {one.kind for one in other.remarks} == {"wrong-board"} and other.id != kept.id
    assert service.herald.devices.keep_list("TA-1\nTA-2", board="comb-s1", line="feed-pump").counts == {"wrong-line": 2}
    assert service.herald.devices.keep_list(LIST).id == kept.id, "the same list has the same number"
    assert service.herald.devices.kept_list(kept.id).serials == ["TA-1", "TA-2", "TA-3", "TA-9"]

    plan = with_target(service, kept.target)
    preview = service.herald.rollouts.preview(plan)
    assert (preview.counts, preview.targeted) == ([2], 3)
    rollout = service.herald.rollouts.start(plan)
    assert rollout.targeted == 3 and rollout.plan.target == f"in_list = {kept.id}"
    attempts = service.wait_for(rollout.id, lambda r: sum(r.states.values()) == 2)
    assert attempts.passed_over == {"not-admitted": 1}
    assert {one.serial for one in service.herald.rollouts.attempts(rollout.id).items} == {"TA-1", "TA-2"}
    both = f"in_list = {kept.id} and serial != TA-1"
    assert [one.serial for one in service.herald.devices.list(where=both).items] == ["TA-2", "TA-3"]
    assert service.herald.devices.list(where=f"in_list != {kept.id}").total == 2 - 1
    assert service.herald.devices.list(where="in_list > 0").total == 0


def test_what_is_no_list_is_refused(service: RunningService) -> None:
    service.publish("2.5.0")
    for text, says in (("", "names no device"), ("TA 1", "line 1")):
        with pytest.raises(ProblemError, match=says):
            service.herald.devices.keep_list(text)
    with service.http(service.token) as http:
        answer = http.post("/api/v1/lists", content=b"\xff\xfe\x00", headers={"content-type": "text/plain"})
        assert answer.status_code == 422 and "UTF-8" in answer.text
    with pytest.raises(ProblemError, match="no list 77"):
        service.herald.devices.kept_list(77)
    with pytest.raises(ProblemError, match=r"There is no list 77\. Send the list"):
        service.herald.rollouts.preview(with_target(service, "in_list = 77"))
    named = PlanDocument.model_validate({**service.plan().model_dump(mode="json"), "target": "", "target_file": "x"})
    with pytest.raises(ProblemError, match="no list 0"):
        service.herald.rollouts.preview(named)


def test_a_plan_file_names_its_list(service: RunningService, fleet: list[PuppetDevice], tmp_path: Path) -> None:
    terminal = Terminal(service, tmp_path)
    terminal.good("sign-in", "--name", "admin", stdin=f"{PASSWORD}\n")
    (tmp_path / "yards.txt").write_text(LIST)
    plan = tmp_path / "plan.toml"
    plan.write_text(
        'name = "by list"\nrelease = "comb-s1/hive-scale/2.5.0"\ntarget_file = "yards.txt"\n[[rings]]\nname = "all"\n'
    )
    assert "good" in terminal.good("rollout", "check", plan)
    shown = terminal.run("rollout", "preview", plan)
    assert shown.returncode == 0 and "yards.txt:5: TA-9 unknown" in shown.stderr, shown
    assert "names 4 devices (1 doubled, 1 unknown, 1 not-admitted): list 1" in shown.stderr
    assert "3 targeted, 2 eligible" in shown.stdout
    assert "Rollout 1 started" in terminal.good("rollout", "start", plan, "--yes")
    plan.write_text(plan.read_text().replace("target_file", 'target = "board = comb-s1"\ntarget_file'))
    assert "either target, or target_file" in terminal.run("rollout", "check", plan).stdout
    plan.write_text(
        'name = "by list"\nrelease = "comb-s1/hive-scale/2.5.0"\ntarget_file = "none.txt"\n[[rings]]\nname = "all"\n'
    )
    assert "none.txt cannot be read" in terminal.bad(1, "rollout", "start", plan, "--yes")
