"""Somebody who is narrowed to a yard sees and steers its devices, and no others."""

import httpx
import pytest

from mellow_herald.client import Herald, HeraldError, ProblemError
from mellow_herald.wire.fleet import CodeIn
from mellow_herald.wire.person import Role
from tests.harness.device import PuppetDevice
from tests.harness.firmware import BOARD, LINE
from tests.harness.service import RunningService
from tests.harness.some import some
from tests.harness.team import add_person

ONLY = "site = fernhollow"


@pytest.fixture
def fleet(service: RunningService) -> dict[str, PuppetDevice]:
    """Three devices in each of two yards."""
    for version in ("2.4.0", "2.5.0"):
        service.publish(version).raise_for_status()
    made = {}
    for site in ("fernhollow", "quillmere"):
        code = service.herald.codes.make(CodeIn(board=BOARD, line=LINE, labels={"site": site})).code
        for number in range(3):
            device = made[f"TA-{site}-{number}"] = PuppetDevice(service.url, f"TA-{site}-{number}")
            device.enrol(code or "").raise_for_status()
            device.checkin()
    return made


@pytest.fixture
def linnet(service: RunningService) -> Herald:
    """An operator of one yard."""
    http = add_person(service, "linnet", Role.OPERATOR, only=ONLY)
    return Herald(service.url, token=http.headers["authorization"].removeprefix("Bearer "))


def refused(kind: str, status: int, call: object, *given: object) -> None:
    with pytest.raises(ProblemError) as told:
        call(*given)  # type: ignore[operator]
    problem = told.value.problem
    assert (problem.status, problem.type.rpartition(":")[2]) == (status, kind), problem


def test_lists_counts_and_exports_have_only_theirs(
    service: RunningService, fleet: dict[str, PuppetDevice], linnet: Herald
) -> None:
    assert linnet.people.whoami().only == ONLY
    page = linnet.devices.list()
    assert page.total == 3 and {one.labels["site"] for one in some(page.items, 3)} == {"fernhollow"}
    assert linnet.devices.list(where="site = quillmere or hw_rev = 1").total == 3
    assert b"".join(linnet.devices.export()).count(b"quillmere") == 0
    now = linnet.overview()
    assert sum(now.presence.values()) == 3 and sum(one.devices for one in now.versions) == 3
    assert linnet.devices.show("TA-fernhollow-1").serial == "TA-fernhollow-1"
    refused("not-found", 404, linnet.devices.show, "TA-quillmere-1")
    refused("narrowed", 403, linnet.journal.list)
    refused("narrowed", 403, linnet.codes.list)
    refused("narrowed", 403, linnet.metrics)


def test_what_they_decide_reaches_no_other_device(
    service: RunningService, fleet: dict[str, PuppetDevice], linnet: Herald
) -> None:
    linnet.devices.decide("retired", where="serial ~ *-0", reason="sold")
    told = {one.serial: one.admission for one in service.herald.devices.list().items}
    assert [serial for serial, state in told.items() if state == "retired"] == ["TA-fernhollow-0"]
    with pytest.raises(ProblemError, match="TA-quillmere-1"):
        linnet.devices.decide("retired", ["TA-fernhollow-1", "TA-quillmere-1"], reason="sold")
    assert service.herald.devices.show("TA-fernhollow-1").admission == "admitted", "nothing of it was done"


def test_a_plan_of_theirs_goes_to_their_devices_and_others_rollouts_are_not_theirs(
    service: RunningService, fleet: dict[str, PuppetDevice], linnet: Herald
) -> None:
    assert linnet.rollouts.preview(service.plan()).eligible == 3
    theirs = linnet.rollouts.start(service.plan()).id
    service.wait_for(theirs, lambda shown: shown.rings[0].state == "open")
    attempts = linnet.rollouts.attempts(theirs).items
    assert {one.serial for one in attempts} == {serial for serial in fleet if "fernhollow" in serial}
    assert "fernhollow" in service.herald.rollouts.show(theirs).plan.target
    linnet.rollouts.halt(theirs, "support calls come in")

    whole = service.herald.rollouts.start(service.plan().model_copy(update={"target": "site = quillmere"})).id
    service.wait_for(whole, lambda shown: shown.rings[0].state == "open")
    assert [one.id for one in linnet.rollouts.list().items] == [theirs]
    assert [one.id for one in linnet.overview().moving] == [theirs]
    refused("not-found", 404, linnet.rollouts.show, whole)
    refused("not-found", 404, linnet.rollouts.halt, whole, "it is not theirs")
    refused("not-found", 404, linnet.readings.before_and_after, whole, "battery")
    other = service.herald.rollouts.attempts(whole).items[0]
    refused("not-found", 404, linnet.rollouts.call_off, other.id, "it is not theirs")
    assert service.herald.rollouts.show(whole).state == "running"
    linnet.rollouts.resume(theirs, "it was nothing")


def test_no_selector_of_theirs_gets_out_of_what_they_are_narrowed_to(
    service: RunningService, fleet: dict[str, PuppetDevice], linnet: Herald
) -> None:
    out = "site = quillmere) or (site = quillmere"
    service.herald.selections.save("all", f"board = {BOARD}")
    for act in (
        lambda: linnet.rollouts.preview(service.plan().model_copy(update={"target": out})),
        lambda: linnet.rollouts.start(service.plan().model_copy(update={"target": out})),
        lambda: linnet.devices.list(where=out),
        lambda: linnet.devices.decide("retired", where=out, reason="sold"),
    ):
        with pytest.raises((HeraldError, ValueError), match="selector goes wrong"):
            act()
    assert linnet.rollouts.preview(service.plan().model_copy(update={"target": "@all"})).eligible == 3
    assert {one.admission for one in service.herald.devices.list().items} == {"admitted"}


def test_event_streams_say_that_something_happened_not_to_whom(
    service: RunningService, fleet: dict[str, PuppetDevice], linnet: Herald
) -> None:
    headers = {"authorization": str(linnet._http.headers["authorization"])}
    with (
        httpx.Client(base_url=service.url, headers=headers, timeout=60, trust_env=False) as http,
        http.stream("GET", "/api/v1/events") as stream,
    ):
        lines = stream.iter_lines()
        next(lines)
        service.herald.devices.decide("retired", ["TA-quillmere-2"], reason="sold")
        told = next(line for line in lines if line.startswith("data: "))
        assert "quillmere" not in told and '"device_id":null' in told and '"data":{}' in told
        # What they are narrowed to changes: the stream ends, and what they see is another.
        service.herald.people.set_roles("linnet", [Role.OPERATOR], only="site = quillmere")
        for _ in lines:  # comes to its end
            pass
    assert linnet.devices.list().total == 3 and linnet.devices.show("TA-quillmere-1").serial
    assert service.herald.people.set_roles("linnet", [Role.VIEWER]).only == "site = quillmere", "it stays"
    assert service.herald.people.set_roles("linnet", [Role.VIEWER], only=False).only is None
    assert linnet.devices.list().total == 6


def test_who_decides_for_all_cannot_be_narrowed(service: RunningService) -> None:
    with service.http(service.token) as http:
        body = {"name": "rowan", "roles": ["publisher"], "only": ONLY}
        assert "what publisher may is for all devices" in http.post("/api/v1/people", json=body).json()["detail"]
        assert http.post("/api/v1/people", json={**body, "roles": ["viewer"], "only": "site ="}).status_code == 422
        assert http.post("/api/v1/people", json={**body, "roles": ["viewer"]}).status_code == 201
        answer = http.put("/api/v1/people/rowan/roles", json={"roles": ["admin"]})
        assert answer.status_code == 422 and "what admin may is for all" in answer.json()["detail"]
