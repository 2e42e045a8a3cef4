"""How often devices are told to call."""

from datetime import timedelta

import pytest

from mellow_herald.core.rhythm import calls_every

HOUR = timedelta(hours=1)


@pytest.mark.parametrize(
    ("usual", "soak", "live", "expected"),
    [
        (300, None, False, 300),
        (300, None, True, 75),
        (300, HOUR, False, 300),
        (300, timedelta(minutes=5), False, 150),
        (300, timedelta(seconds=4), False, 10),
        (300, timedelta(minutes=4), True, 30),
        (20, None, True, 10),
        (5, None, False, 5),
    ],
)
def test_who_has_something_at_hand_or_soaks_calls_more_often(
    usual: int, soak: timedelta | None, live: bool, expected: int
) -> None:
    assert calls_every(usual, soak=soak, live=live) == expected
