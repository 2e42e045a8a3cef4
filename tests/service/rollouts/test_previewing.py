"""What a plan would do, told before it does anything."""

from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta

import pytest
from sqlalchemy import delete, insert, select

from mellow_herald.client import ProblemError
from mellow_herald.core.foresight import word_of
from mellow_herald.store.tables import ConditionDay, Device
from tests.harness.device import PuppetDevice
from tests.harness.service import RunningService
from tests.service.rollouts.test_rings import THREE, plan


def test_numbers_that_have_changed_since_the_preview_stop_the_start(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    document = plan(THREE)
    counts = service.herald.rollouts.preview(document).counts
    service.herald.devices.decide("retired", [fleet[9].serial], reason="broken")
    with pytest.raises(ProblemError, match="rest: 5 then, 4 now"):
        service.herald.rollouts.start(document, counts=counts)
    assert service.herald.rollouts.list().items == []
    assert service.herald.rollouts.start(document, counts=counts, within=0.5).targeted == 10


def test_a_selection_stands_for_its_selector_and_exceptions_are_counted(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    service.herald.selections.save("field", "site = fernhollow")
    document = plan([{"name": "all"}], target="@field", leave_out="hw_rev = 2")
    preview = service.herald.rollouts.preview(document)
    left_out = sum(device.hw_rev == 2 for device in fleet[2:])
    assert {one.reason: one.devices for one in preview.passed_over} == {"left-out": left_out}
    assert preview.eligible == 8 - left_out
    rows = service.herald.rollouts.preview_devices(document)
    assert len(rows) == 8 and sum(row["passed_over"] == "left-out" for row in rows) == left_out
    with pytest.raises(ProblemError, match="no selection 'nobody'"):
        service.herald.rollouts.preview(document.model_copy(update={"target": "@nobody"}))


def test_a_preview_says_when_to_expect_what_and_how_much_harm_is_possible(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    document = plan(
        [{"name": "bench", "where": "has bench", "soak": "1h"}, {"name": "rest", "soak": "2h"}],
        pace={"at_risk_at_once": 3},
    )
    shown = service.herald.rollouts.preview(document)
    bench, rest = shown.rings
    assert (
        bench.opens == shown.now
        and bench.first_sign is not None
        and bench.first_sign - shown.now <= timedelta(minutes=1)
    )
    assert bench.done is not None and bench.through is not None and bench.done - bench.through == timedelta(hours=1)
    assert rest.opens == bench.done and rest.done > rest.opens + timedelta(hours=2)
    assert (bench.at_risk, bench.unproven, rest.at_risk, rest.unproven, rest.exposed_so_far) == (2, 2, 3, 8, 10)
    assert 0.77 < bench.rules_out < 0.78, "two good ones rule out little: 1 - 0.05 ** (1 / 2)"
    assert shown.bytes == 10 * shown.image_bytes and shown.rate is None
    assert bench.presence == {"online": 2}


def test_many_may_ask_for_a_preview_at_once(service: RunningService, fleet: list[PuppetDevice]) -> None:
    with ThreadPoolExecutor(30) as pool:
        shown = list(pool.map(lambda _: service.herald.rollouts.preview(plan(THREE)).counts, range(30)))
    assert shown == [[2, 3, 5]] * 30


def test_the_preview_foresees_who_can_switch_and_warns_of_a_plan_that_cannot_be_met(
    service: RunningService, fleet: list[PuppetDevice]
) -> None:
    now = service.context.clock.now()
    charging = {"battery": 80, "charging": True}
    for device in fleet:
        device.checkin(condition=charging)
    fresh = service.herald.rollouts.preview(plan([{"name": "all"}]))
    assert {one.unknown for one in fresh.rings[0].foreseen} == {len(fleet)}, "one hour is no history"
    by_day = [word_of(charging if 9 <= hour < 15 else {"battery": 80}) for hour in range(24)]

    async def remember() -> None:
        async with service.context.engine.begin() as connection:
            ids = (await connection.execute(select(Device.id))).scalars().all()
            await connection.execute(delete(ConditionDay))
            rows = [
                {"device_id": one, "day": now.date() - timedelta(days=ago), "hours": by_day}
                for one in ids
                for ago in range(8)
            ]
            await connection.execute(insert(ConditionDay), rows)

    service.call(remember())
    night = {
        "calendar": {"windows": [{"begin": "22:00", "end": "04:00", "use": "switch"}]},
        "device": {"charging": True},
    }
    never = service.herald.rollouts.preview(plan([{"name": "all"}], **night))
    told = {one.condition: one for one in never.rings[0].foreseen}
    assert (told["charger"].expected, told["window"].expected, told["all"].high) == (len(fleet), len(fleet), 0)
    assert any("it can never be met" in warning for warning in never.warnings)
    day = {**night, "calendar": {"windows": [{"begin": "08:00", "end": "16:00"}]}}
    good = service.herald.rollouts.preview(plan([{"name": "all"}], **day))
    assert {one.condition: one.low for one in good.rings[0].foreseen}["all"] == len(fleet)
    assert not any("never be met" in warning for warning in good.warnings)
