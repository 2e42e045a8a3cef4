"""A fleet that rings are drawn from."""

import pytest

from mellow_herald.service.rollouts import opening
from tests.harness.device import PuppetDevice
from tests.harness.firmware import BOARD, LINE
from tests.harness.service import RunningService

RELEASE = f"{BOARD}/{LINE}/2.5.0"


@pytest.fixture(autouse=True)
def rings_that_open_late(monkeypatch: pytest.MonkeyPatch) -> None:
    """An answer waits for the ring that it has let open, on a slow machine, too."""
    monkeypatch.setattr(opening, "OPENS_WITHIN", 60.0)


@pytest.fixture
def fleet(service: RunningService) -> list[PuppetDevice]:
    """Ten devices on 2.4.0; hw_rev 1, 2, 3 in turn, the first two on the bench."""
    service.publish("2.4.0").raise_for_status()
    service.publish("2.5.0").raise_for_status()
    code, made = service.code(), []
    for number in range(10):
        device = PuppetDevice(service.url, f"TA-{number}", hw_rev=1 + number % 3)
        labels = {"bench": "window"} if number < 2 else {"site": "fernhollow"}
        device.enrol(code, labels=labels).raise_for_status()
        device.checkin()
        made.append(device)
    return made
