"""The tree of gateways: who is cut off while one restarts, and which alarms that explains."""

from datetime import timedelta

import pytest

from mellow_herald.client import ProblemError
from tests.harness.service import RunningService
from tests.service.rollouts.test_rings import plan
from tests.service.rollouts.test_switch_order import enrolled, switched

YARD = {"TA-G": None, "TA-Y": "TA-G", "TA-1": "TA-Y", "TA-2": "TA-Y", "TA-far": "TA-missing"}


def test_the_tree_has_each_device_after_its_gateway(service: RunningService) -> None:
    enrolled(service, YARD)
    tree = service.herald.devices.tree()
    assert [node.serial for node in tree.nodes] == ["TA-G", "TA-Y", "TA-1", "TA-2", "TA-missing", "TA-far"]
    nodes = {node.serial: node for node in tree.nodes}
    assert (nodes["TA-G"].behind, nodes["TA-Y"].behind, nodes["TA-missing"].known) == (3, 2, False)
    assert nodes["TA-1"].presence == "online" and nodes["TA-1"].cut_off is None
    part = service.herald.devices.tree("TA-Y")
    assert [node.serial for node in part.nodes] == ["TA-Y", "TA-1", "TA-2"] and part.total == 3
    assert len(service.herald.devices.tree(limit=2).nodes) == 2 and service.herald.devices.tree(limit=2).total == 6
    with pytest.raises(ProblemError, match="Nothing is known to be behind TA-1"):
        service.herald.devices.tree("TA-1")


def test_who_is_behind_a_restarting_gateway_is_cut_off_and_what_they_noticed_is_explained(
    service: RunningService,
) -> None:
    devices = enrolled(service, YARD)
    gateway, sensor = devices["TA-G"], devices["TA-1"]
    rollout_id = service.herald.rollouts.start(plan([{"name": "gateway"}], target="serial = TA-G")).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    gateway.checkin()
    gateway.stage()
    assert gateway.checkin().json()["order"] == "switch"
    gateway.report("installing")
    nodes = {node.serial: node for node in service.herald.devices.tree().nodes}
    cut = nodes["TA-1"].cut_off
    assert cut is not None and (cut.by, cut.expected_back) == ("TA-G", None), "no restart of it is known yet"
    assert nodes["TA-G"].cut_off is None and nodes["TA-far"].cut_off is None
    assert service.herald.devices.show("TA-1").cut_off == cut
    gateway.switch()
    service.pass_time(timedelta(seconds=40))
    gateway.report("proving")
    gateway.report("confirmed")
    now = service.context.clock.now()
    alarms = [
        {
            "kind": "upstream-lost",
            "about": "TA-Y",
            "at": (now - timedelta(seconds=20)).isoformat(),
            "text": "no answer",
        },
        {"kind": "battery-low", "about": "TA-1", "at": now.isoformat(), "text": "12 % left"},
        {"kind": "door-open", "about": "port 3"},
    ]
    assert sensor.checkin(alarms=alarms).is_success
    assert sensor.checkin(alarms=alarms[:2]).is_success, "one that is told again is the same one"
    found = {one.kind: one for one in service.herald.devices.alarms()}
    assert len(service.herald.devices.alarms()) == 3
    assert found["upstream-lost"].rollout_id == rollout_id, "the gateway before its gateway restarted"
    assert found["battery-low"].rollout_id is None and found["door-open"].rollout_id is None
    overview = service.herald.overview()
    assert overview.alarms_unexplained == 2 and {one.kind for one in overview.alarms} == {"battery-low", "door-open"}
    assert [one.kind for one in service.herald.devices.alarms(rollout_id=rollout_id)] == ["upstream-lost"]
    assert {one.kind for one in service.herald.devices.show("TA-Y").alarms} == {"upstream-lost"}
    (node,) = [one for one in service.herald.devices.tree().nodes if one.serial == "TA-G"]
    assert node.restart_s is not None and 39 < node.restart_s < 60
    harm = service.herald.rollouts.show(rollout_id)
    assert (harm.ever_bad, harm.harm) == (0, {}), "an alarm counts nowhere"


def test_an_alarm_long_after_the_restart_is_nobodys_update(service: RunningService) -> None:
    devices = enrolled(service, {"TA-G": None, "TA-1": "TA-G"})
    rollout_id = service.herald.rollouts.start(plan([{"name": "gateway"}], target="serial = TA-G")).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    devices["TA-G"].checkin()
    devices["TA-G"].stage()
    devices["TA-G"].checkin()
    switched(devices["TA-G"])
    service.pass_time(timedelta(hours=2))
    devices["TA-1"].checkin(alarms=[{"kind": "upstream-lost", "about": "TA-G"}])
    (alarm,) = service.herald.devices.alarms(explained=False)
    assert alarm.kind == "upstream-lost"


def test_bad_alarms_are_told_and_take_nothing_else_along(service: RunningService) -> None:
    device = enrolled(service, {"TA-1": None})["TA-1"]
    assert device.checkin(alarms=[{"kind": "no name"}]).status_code == 422
    assert device.checkin(alarms=[{"kind": "x"}] * 21).status_code == 422
    assert device.checkin(alarms=[{"kind": "x", "at": 12}]).status_code == 422
    assert device.checkin().is_success and service.herald.devices.alarms() == []
    future = (service.context.clock.now() + timedelta(days=900)).isoformat()
    device.checkin(alarms=[{"kind": "ahead", "about": "TA-1", "at": future}])
    (alarm,) = service.herald.devices.alarms("TA-1")
    assert alarm.at <= service.context.clock.now(), "a clock that is ahead noticed it just now"
