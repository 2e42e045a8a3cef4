from datetime import UTC, datetime, timedelta

import pytest

from mellow_herald.core.radio.air import Region
from mellow_herald.core.radio.completion import expected_share
from mellow_herald.core.radio.loss import Loss
from mellow_herald.core.radio.session import (
    Air,
    earliest,
    gps_seconds,
    largest_fragment,
    lay_out,
    synchronised_until,
)
from mellow_herald.core.refusal import Refused

NOON = datetime(2026, 11, 23, 12, tzinfo=UTC)


def test_gps_seconds_by_hand() -> None:
    # 17,123 days from 1980-01-06 to 2026-11-23, twelve hours, 18 leap seconds.
    assert gps_seconds(NOON) == 17_123 * 86_400 + 43_200 + 18


def test_sixty_one_kilobytes_over_a_yard() -> None:
    layout = lay_out(61_000, Air(Region.EU868, 4, 40, 15))
    assert (layout.fragments, layout.coded) == (1525, 229)
    # 56 bytes of SF8: 8 + ceil(444 / 32) * 5 = 78 symbols and 12.25 of preamble, of 2.048 ms each; a tenth of the time.
    assert layout.on_air == pytest.approx(90.25 * 2.048e-3)
    assert layout.length == pytest.approx(1754 * layout.on_air * 10)
    assert 2 ** (layout.time_out - 1) < layout.length + 8 <= 2**layout.time_out
    assert expected_share(layout, [Loss(0.08, 5)] * 3 + [Loss(1.0)]) == pytest.approx(0.75, abs=0.01)
    assert expected_share(layout, []) == 0.0


@pytest.mark.parametrize(
    ("size", "air", "code", "advice"),
    [
        (61_000, Air(Region.EU868, 0, 49, 15), "bad-fragment", "1 to 48 bytes"),
        (61_000, Air(Region.EU868, 0, 40, 15), "session-too-long", "faster data rate"),
        (700_000, Air(Region.US915, 13, 40, 0), "too-many-fragments", "larger fragments"),
        (39, Air(Region.EU868, 5, 40, 0), "too-few-fragments", "smaller fragments"),
    ],
)
def test_what_cannot_be_sent_is_refused_with_what_to_do(size: int, air: Air, code: str, advice: str) -> None:
    with pytest.raises(Refused) as refused:
        lay_out(size, air)
    assert refused.value.kind == code and advice in str(refused.value)


def test_a_fragment_is_what_the_least_member_can_take() -> None:
    assert largest_fragment(Region.EU868, 4) == 219
    assert largest_fragment(Region.EU868, 4, [200, 64, 100]) == 64
    assert largest_fragment(Region.US915, 8, [200]) == 50


def test_the_slowest_member_tells_when_a_session_can_begin() -> None:
    fast, slow = (timedelta(minutes=1), 5), (timedelta(minutes=10), 3)
    assert earliest(NOON, [fast, slow]) == NOON + timedelta(minutes=36)
    assert earliest(NOON, []) == NOON
    assert synchronised_until(NOON) == NOON + timedelta(seconds=50_000)
