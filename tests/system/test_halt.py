"""The moment of a halt, hammered: several workers, thousands of devices, and their own flash as the witness."""

import asyncio
import os
import subprocess
import time
from contextlib import suppress
from pathlib import Path

import pytest

from mellow_herald.client import Herald
from tests.harness.crowd import NEW, OLD, Crowd, Member, plan, prepare
from tests.harness.flight import Flight
from tests.harness.patience import until
from tests.harness.some import some

pytestmark = pytest.mark.system
DEVICES = int(os.environ.get("HERALD_TEST_CROWD", "1000"))
WORKERS, AT_RISK = 3, 120
HAMMERED_SECONDS = 3.0


async def hammer(crowd: Crowd, herald: Herald, rollout_id: int) -> None:
    """Everybody who has staged asks for clearance again and again; those who get it fail or confirm, until the brake
    has halted and for a while after that."""
    waiting = list(crowd.members)
    halted_at: float | None = None

    async def ask(member: Member) -> None:
        before = member.boots_image
        await crowd.check_in(member)
        if member.boots_image == NEW and before == OLD:
            await crowd.report(member, "installing", "proving")
            bad = member.hw_rev == 2
            if bad:
                member.boots_image, member.standby = OLD, NEW  # its boot loader went back
                await crowd.report(member, "reverted", reason="crashed")
            else:
                await crowd.report(member, "confirmed")

    deadline = time.monotonic() + 60
    while halted_at is None or time.monotonic() < halted_at + HAMMERED_SECONDS:
        assert time.monotonic() < deadline, "the brake did not halt"
        for at in range(0, len(waiting), 200):
            await crowd.each(waiting[at : at + 200], ask)
            if halted_at is None and herald.rollouts.show(rollout_id).state == "halted":
                halted_at = time.monotonic()
        waiting = [member for member in waiting if not member.clearances]


def test_once_a_halt_is_committed_no_other_flash_ever_boots_the_image(folder: Path) -> None:
    flight = Flight(folder)
    try:
        parent: subprocess.Popen[bytes] = flight.serve("--workers", str(WORKERS))
        herald = flight.signed_in()
        code, crowd = prepare(herald, DEVICES), Crowd(flight.port, DEVICES)

        async def play() -> int:
            await crowd.open()
            await crowd.each(crowd.members, lambda member: crowd.enrol(member, code))
            await crowd.each(crowd.members, crowd.check_in)
            rollout_id = herald.rollouts.start(plan(pace={"at_risk_at_once": AT_RISK})).id
            until(lambda: herald.rollouts.show(rollout_id).rings[0].state == "open")
            await crowd.each(crowd.members, crowd.stage)
            await hammer(crowd, herald, rollout_id)
            await crowd.each(crowd.members, crowd.check_in)
            crowd.close()
            return rollout_id

        rollout_id = asyncio.run(play())
        assert parent.poll() is None
        until(lambda: herald.rollouts.show(rollout_id).live == 0)
        check(herald, crowd, rollout_id)
    finally:
        with suppress(UnboundLocalError):
            herald.close()
        flight.stop()


def check(herald: Herald, crowd: Crowd, rollout_id: int) -> None:
    """The halt's number stands between those who may have booted the image and all others."""
    shown = herald.rollouts.show(rollout_id)
    assert shown.state == "halted" and "firmware brake" in (shown.reason or "")
    number = shown.halt_number
    assert number is not None
    told = {member.serial: member for member in crowd.members if member.clearances}
    assert all(one < number for one in some(one for member in told.values() for one in member.clearances))
    seen, after = {}, None
    while True:
        page = herald.rollouts.attempts(rollout_id, limit=1000, after=after)
        seen |= {attempt.serial: attempt for attempt in page.items}
        if (after := page.next) is None:
            break
    assert len(seen) == DEVICES
    exposed = {serial for serial, attempt in seen.items() if attempt.exposed_at is not None}
    assert exposed == told.keys(), "those on the wire are exactly those with a number below the halt's"
    assert all(seen[serial].clearance == member.clearances[-1] for serial, member in some(told.items()))
    assert {m.serial for m in crowd.members if m.boots_image == NEW} <= exposed
    assert sum(shown.states.values()) == shown.targeted == DEVICES
    good = {serial for serial, attempt in seen.items() if attempt.state == "confirmed"}
    assert good == {m.serial for m in crowd.members if m.boots_image == NEW}
    assert shown.harm.get("crashed", 0) == len(exposed) - len(good) > 0
