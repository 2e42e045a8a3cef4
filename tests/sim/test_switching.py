"""What a device of updater 2 switches to, what it vouches for, and what it tells first."""

from typing import Any

import pytest

from mellow_herald.core.order import Order
from mellow_herald.sim.bootloader import APP, Slot
from mellow_herald.sim.uplink import NoAnswerError
from mellow_herald.wire.device import CheckinIn, Clearance, OrderOut
from tests.harness.firmware import load_image, make_bytes, make_image
from tests.harness.some import some
from tests.sim.test_device import StringedUplink, chip, live

NEW, OLD = make_image("2.5.0"), make_image("2.4.0")


async def test_it_says_what_is_on_trial_and_names_what_it_vouches_for() -> None:
    uplink = StringedUplink(NEW)
    await live(uplink)
    assert uplink.reports[-1]["state"] == "confirmed" and uplink.reports[-1]["digests"] == {APP: NEW.digest}
    trials = [(said.running[APP].digest, said.trial) for said in uplink.checkins]
    assert (NEW.digest, True) in trials and (OLD.digest, True) not in trials
    assert all(said.updater == 2 for said in some(uplink.checkins))


async def test_updater_1_says_neither() -> None:
    uplink = StringedUplink(load_image(make_bytes("2.5.0", updater=1)))
    await live(uplink)
    assert "digests" not in uplink.reports[-1]
    assert not any(said.trial for said in uplink.checkins if said.updater == 1)


class Insisting(StringedUplink):
    """Orders a switch to the same image once more, whatever was said, until the device has answered to that."""

    def __init__(self, to: str, order: Order = Order.SWITCH) -> None:
        super().__init__(NEW)
        self.again, self.order, self.insisted = to, order, 0

    async def checkin(self, said: CheckinIn, wait_s: int = 0) -> OrderOut:
        confirmed = [report for report in self.reports if report["state"] == "confirmed"]
        if not confirmed or self.insisted > 1:
            if self.insisted > 1:
                self.over.set()
            return await super().checkin(said, wait_s)
        self.checkins.append(said)
        self.insisted += 1
        clearance = Clearance(number=2, seconds=600)
        return OrderOut(
            order=self.order,
            attempt=1,
            manifest=self.digest,
            to={APP: self.again},
            clearance=clearance,
            trial_s=30,
            next_checkin_s=60,
        )


async def test_told_to_switch_to_what_runs_already_it_says_so_and_stays() -> None:
    uplink = Insisting(NEW.digest)
    device = await live(uplink)
    assert device.running is Slot.B and device.hardware.record.boots == 2
    assert [one["digests"] for one in uplink.reports if one["state"] == "confirmed"] == [{APP: NEW.digest}] * 3


@pytest.mark.parametrize("order", [Order.SWITCH, Order.SWITCH_BACK])
async def test_it_never_switches_to_anything_but_what_it_is_told(order: Order) -> None:
    uplink = Insisting("e" * 64, order)
    device = await live(uplink)
    assert device.running is not None and device.hardware.image(APP, device.running) == make_bytes("2.5.0")
    assert all(said.running[APP].digest == NEW.digest for said in some(one for one in uplink.checkins if one.boots > 1))


async def test_an_order_that_does_not_say_to_what_moves_nothing() -> None:
    uplink = StringedUplink(NEW)
    uplink.to = {}
    asked = 0
    checkin = uplink.checkin

    async def few(said: CheckinIn, wait_s: int = 0) -> OrderOut:
        nonlocal asked
        asked += 1
        if asked > 6:
            uplink.over.set()
        return await checkin(said, wait_s)

    uplink.checkin = few  # type: ignore[method-assign]
    device = await live(uplink)
    assert device.running is Slot.A and uplink.states()[-1] == "staged"


async def test_no_order_is_acted_upon_while_reports_are_kept() -> None:
    """The service may not know yet what happened: what it ordered may not stand once it does."""
    uplink, happened = StringedUplink(NEW), list[str]()
    report, checkin, refused = uplink.report, uplink.checkin, [0]

    async def lose_some(reports: list[dict[str, Any]]) -> OrderOut:
        staged = any(one["state"] == "staged" for one in reports)
        if staged and refused[0] < 3:
            refused[0] += 1
            happened.append("kept")
            raise NoAnswerError
        happened.append(reports[-1]["state"])
        return await report(reports)

    async def clear_at_once(said: CheckinIn, wait_s: int = 0) -> OrderOut:
        if refused[0] > 0 and "staged" not in happened:
            happened.append("cleared")
            clearance = Clearance(number=1, seconds=600)
            return OrderOut(
                order=Order.SWITCH,
                attempt=1,
                manifest=uplink.digest,
                to=uplink.to,
                clearance=clearance,
                trial_s=30,
                next_checkin_s=60,
            )
        return await checkin(said, wait_s)

    uplink.report, uplink.checkin = lose_some, clear_at_once  # type: ignore[method-assign]
    await live(uplink, chip())
    assert happened.index("staged") < happened.index("installing")
    assert happened.count("cleared") >= 1, "it was told to, and told first what was new"
