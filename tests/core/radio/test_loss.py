import random
from itertools import islice

import pytest

from mellow_herald.core.radio.coding import Decoder, MemoryFlash, NotEnoughMemoryError
from mellow_herald.core.radio.completion import complete_share, wanted_redundancy
from mellow_herald.core.radio.loss import Loss, coded_count, measure


@pytest.mark.parametrize(("rate", "burst"), [(0.08, 1), (0.08, 5), (0.2, 10), (0.5, 3)])
def test_a_pattern_has_the_loss_it_is_of(rate: float, burst: float) -> None:
    seen = measure([*islice(Loss(rate, burst).pattern(random.Random(1)), 200_000)])
    assert seen is not None
    assert seen.rate == pytest.approx(rate, rel=0.08)
    assert seen.burst == pytest.approx(burst, rel=0.08)


def test_of_nothing_sent_no_loss_is_told() -> None:
    assert measure([]) is None
    assert measure([False] * 5) == Loss(0.0, 1.0)
    assert measure([True] * 4) == Loss(1.0, 4.0)
    assert measure([True, True, False, True]) == Loss(0.75, 1.5)


@pytest.mark.parametrize("burst", [1, 10, 30])
def test_the_share_that_completes_is_what_devices_do(burst: int) -> None:
    """Real decoders over drawn losses, against the forecast: 200 devices, within five points."""
    count, coded, done = 200, coded_count(200, 15), 0
    for seed in range(200):
        decoder = Decoder(count, MemoryFlash(count, 1))
        pattern = Loss(0.08, burst).pattern(random.Random(seed))
        try:
            for number in range(1, count + coded + 1):
                if not next(pattern):
                    decoder.take(number, b"\0")
        except NotEnoughMemoryError:
            continue
        done += decoder.complete
    assert done / 200 == pytest.approx(complete_share(count, coded, Loss(0.08, burst)), abs=0.05)


def test_longer_bursts_need_more_parity() -> None:
    wanted = [wanted_redundancy(512, Loss(0.08, burst), 0.97, 100) for burst in (1, 5, 10, 30)]
    assert wanted == sorted(wanted) and wanted[0] < wanted[-1] <= 40
    assert wanted_redundancy(512, Loss(0.0), 0.97, 100) == 0
    assert wanted_redundancy(512, Loss(0.9, 40), 0.97, 30) == 30, "no more than is allowed"


def test_who_misses_more_than_memory_can_make_up_for_does_not_complete() -> None:
    assert complete_share(2000, 2000, Loss(0.5)) == 0.0
    assert complete_share(2000, 0, Loss(0.0)) == 1.0
    assert complete_share(20, 40, Loss(1.0)) == 0.0
