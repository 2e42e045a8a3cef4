import pytest

from mellow_herald.core.radio.air import CHANNELS, DATA_RATES, DataRate, Region, data_rate, interval, time_on_air
from mellow_herald.core.refusal import Refused


@pytest.mark.parametrize(
    ("spreading", "milliseconds"), [(7, 118), (8, 205), (9, 370), (10, 698), (11, 1479), (12, 2793)]
)
def test_sixty_four_bytes_on_the_air(spreading: int, milliseconds: int) -> None:
    assert round(time_on_air(DataRate(spreading, 125_000, 51), 64) * 1000) == milliseconds


def test_a_frame_by_hand() -> None:
    # SF7, 125 kHz: a symbol lasts 1.024 ms. 20 bytes: 8 + ceil((160 - 28 + 28) / 28) * 5 = 38 symbols, and 12.25 of
    # preamble. With a CRC: (160 + 16) / 28 is 7 groups as well, no more; of SF12 by low data rate (176 - 48 + 28) / 40.
    assert time_on_air(DataRate(7, 125_000, 51), 20) == pytest.approx(50.25 * 1.024e-3)
    assert time_on_air(DataRate(7, 125_000, 51), 20, crc=True) == pytest.approx((12.25 + 8 + 7 * 5) * 1.024e-3)
    assert time_on_air(DataRate(12, 125_000, 51), 20) == pytest.approx((12.25 + 8 + 4 * 5) * 32.768e-3)
    assert time_on_air(DataRate(None, 50_000, 222), 64) == pytest.approx(75 * 8 / 50_000)


def test_a_tenth_of_the_time_is_allowed_and_no_more() -> None:
    on_air = time_on_air(data_rate(Region.EU868, 4), 64)
    assert 2.0 < interval(CHANNELS[Region.EU868], on_air) < 2.1
    assert interval(CHANNELS[Region.US915], on_air) == on_air


def test_an_unknown_data_rate_names_those_that_there_are() -> None:
    with pytest.raises(Refused, match="in US915 there is no downlink data rate 5") as refused:
        data_rate(Region.US915, 5)
    assert "8, 9, 10, 11, 12, 13" in str(refused.value)
    assert all(rate.payload for rates in DATA_RATES.values() for rate in rates.values())
