"""What is foreseen of a session, held against made-up groups and against the air itself."""

import random
from datetime import UTC, datetime, timedelta

import pytest

from mellow_herald.core.radio.air import DATA_RATES, Region
from mellow_herald.core.radio.forecast import (
    USUAL_LOSS,
    Asked,
    Energy,
    Listener,
    forecast_repair,
    forecast_session,
)
from mellow_herald.core.radio.keys import GroupSession
from mellow_herald.core.radio.loss import Loss
from mellow_herald.core.radio.packages import encode, fragments
from mellow_herald.core.radio.transmission import ROUNDS, answers_take, spread_for
from mellow_herald.core.refusal import Refused
from mellow_herald.sim.radio.ether import Ether

NOON = datetime(2026, 11, 23, 12, tzinfo=UTC)
SIZE = 61_000
TEN = timedelta(minutes=10)


def group(count: int, **more: object) -> list[Listener]:
    return [Listener(TEN, 6, **more) for _ in range(count)]  # type: ignore[arg-type]


def test_sixty_sensors_and_61_kilobytes() -> None:
    one = forecast_session(SIZE, Asked(Region.EU868, 4, 40, 15), group(60), NOON)
    assert (one.layout.fragments, one.layout.coded, one.air.fragment) == (1525, 229, 40)
    assert one.layout.on_air == pytest.approx(0.185, abs=0.001) and one.layout.apart == pytest.approx(1.85, abs=0.01)
    assert one.earliest == NOON + TEN * 6 * 1.2
    assert timedelta(minutes=54) < one.length < timedelta(minutes=64)
    assert one.measured == 0 and 0.9 < one.share < 1
    assert one.energy is Energy.HIGH
    quick = forecast_session(2_000, Asked(Region.US915, 13, 200), group(3), NOON)
    assert quick.energy is Energy.LOW


def test_the_fragment_is_the_least_that_any_member_can_take() -> None:
    members = [*group(3), Listener(TEN, 6, None, 24)]
    assert forecast_session(SIZE, Asked(Region.EU868, 4), members, NOON).air.fragment == 24
    with pytest.raises(Refused, match="24 is the most that every device takes"):
        forecast_session(SIZE, Asked(Region.EU868, 4, 40), members, NOON)


def test_redundancy_follows_from_what_was_measured() -> None:
    def wanted(loss: Loss | None) -> int:
        return forecast_session(20_000, Asked(Region.EU868, 4), group(10, loss=loss), NOON).air.redundancy

    assert wanted(Loss(0.01)) < wanted(None) < wanted(Loss(0.2, 5)) <= wanted(Loss(0.3, 10))
    assert wanted(None) == wanted(USUAL_LOSS)


def test_a_repair_is_as_long_as_the_one_that_misses_most_needs() -> None:
    whole = forecast_session(SIZE, Asked(Region.EU868, 4, 40, 15), group(3), NOON)
    short = [(12, Listener(TEN, 4, Loss(0.08, 5))), (80, Listener(TEN, 4, Loss(0.1, 5)))]
    repair = forecast_repair(whole.air, whole.layout, short, 1754, NOON)
    assert 80 / 0.9 < repair.layout.fragments < 150, "parity, and no more than for bad luck"
    assert repair.layout.coded == repair.layout.fragments, "and as much again, once it is asked"
    assert repair.length < whole.length / 5
    assert repair.earliest == NOON + TEN * 4 * 1.2
    near_the_end = forecast_repair(whole.air, whole.layout, short, 16_250, NOON)
    assert near_the_end.layout.fragments + near_the_end.layout.coded + 16_250 <= 16_383


@pytest.mark.parametrize(("region", "rate"), [(region, rate) for region in Region for rate in DATA_RATES[region]])
def test_length_and_air_agree_at_each_data_rate(region: Region, rate: int) -> None:
    asked = Asked(region, rate, 40, 15)
    if (region, rate) == (Region.EU868, 0):
        with pytest.raises(Refused, match="a session lasts 9:06:08 at most"):
            forecast_session(SIZE, asked, group(1), NOON)
        return
    one = forecast_session(SIZE, asked, group(1), NOON)
    ether, session = Ether(region, NOON, random.Random(1)), GroupSession.derive(bytes(16), 1)
    payload = encode([fragments.DataFragment(0, 1, bytes(40))])
    sent, free_at = 0, NOON
    while sent < 100:
        free_at = ether.send(session.frame(sent, 201, payload), one.air.frequency, rate)
        ether.play(free_at)
        sent += 1
    fragments_take = (free_at - NOON) / 100 * (one.layout.fragments + one.layout.coded)
    assert fragments_take / timedelta(seconds=one.layout.length) == pytest.approx(1, abs=0.01)
    assert (fragments_take + ROUNDS * answers_take(spread_for(1))) / one.length == pytest.approx(1, abs=0.01)
