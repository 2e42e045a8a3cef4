"""The device protocol in a few dozen bytes."""

from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core import cbor
from mellow_herald.core.attempt import REASONS, State
from mellow_herald.core.order import Order
from mellow_herald.core.radio.session import gps_seconds
from mellow_herald.core.refusal import Refused
from mellow_herald.wire import compact
from mellow_herald.wire.device import CheckinIn, Clearance, OrderOut, ReportIn

NOON = datetime(2026, 11, 23, 12, tzinfo=UTC)
NEW, OLD = "ab" * 32, "cd" * 32


def checkin(**more: Any) -> CheckinIn:
    fields = {
        "boots": 3,
        "seq": 7,
        "ready": True,
        "updater": 2,
        "running": {"app": {"digest": OLD, "floor": 4, "slot": "a"}},
        "condition": {"battery": 71, "charging": False, "busy": False, "link": "radio"},
        **more,
    }
    return CheckinIn.model_validate(fields)


def test_a_check_in_comes_out_as_it_went_in_and_fits_a_frame() -> None:
    full = checkin(
        standby={"app": {"digest": NEW, "floor": 5, "slot": "b"}},
        settings_digest="ef" * 32,
        uptime_s=86_400 * 365,
        trial=True,
        after_restart=True,
        boots=100_000,
        seq=100_000,
    )
    heard = compact.Heard(1759, 140, 41, 103)
    payload = compact.encode_checkin(full, heard)
    assert len(payload) <= 170 < compact.MOST_UPLINK
    assert compact.read_uplink(payload) == (full, heard)
    # What nothing is said of stays unsaid.
    plain = compact.encode_checkin(checkin(condition={"charging": True, "busy": True, "link": "radio"}))
    read = compact.read_uplink(plain)
    assert isinstance(read, tuple) and read[0].condition.battery is None and read[0].condition.busy and read[1] is None


def test_by_hand() -> None:
    """A map of six: kind 2, boot 1, number 2, attempt 9, try 1, state 1 (staged)."""
    report = {"boots": 1, "seq": 2, "attempt": 9, "try": 1, "state": "staged"}
    assert compact.encode_report(report) == bytes.fromhex("a60002010102020b090c010d01")


@given(
    state=st.sampled_from(compact.STATES),
    detail=st.text(max_size=400),
    log=st.text(max_size=400),
    percent=st.none() | st.integers(0, 100),
)
def test_a_report_fits_whatever_is_said(state: State, detail: str, log: str, percent: int | None) -> None:
    detail, log = detail.replace("\0", ""), log.replace("\0", "")
    reason = sorted(REASONS[state])[-1] if state in REASONS else None
    report = {"boots": 4, "seq": 9, "attempt": 70_000, "try": 2, "state": state.value, "reason": reason}
    payload = compact.encode_report({**report, "detail": detail, "log": log, "percent": percent})
    assert len(payload) <= compact.MOST_UPLINK
    read = compact.read_uplink(payload)
    assert isinstance(read, ReportIn)
    assert (read.state, read.reason, read.attempt, read.try_number, read.percent) == (state, reason, 70_000, 2, percent)
    assert detail.startswith(read.detail) and log.endswith(read.log)


def test_leave_to_switch_ends_at_an_instant_however_late_it_is_heard() -> None:
    order = OrderOut(
        order=Order.SWITCH,
        attempt=5,
        manifest=NEW,
        to={"app": NEW},
        clearance=Clearance(number=41, seconds=600),
        next_checkin_s=1,
    )
    payload = compact.encode_order(order, NOON)
    assert len(payload) <= 110
    for late, left in ((0, 600), (599, 1), (600, 0), (7200, 0)):
        read = compact.read_order(payload, NOON + timedelta(seconds=late), 600)
        assert read.clearance == Clearance(number=41, seconds=left)
        assert (read.order, read.to, read.manifest, read.next_checkin_s) == (Order.SWITCH, {"app": NEW}, NEW, 600)
    # The time of the packages begins anew every 136 years; the instant is told right over that, too.
    around = NOON + timedelta(seconds=2**32 - gps_seconds(NOON) - 100)
    read = compact.read_order(compact.encode_order(order, around), around + timedelta(seconds=150), 600)
    assert read.clearance == Clearance(number=41, seconds=450)


@pytest.mark.parametrize(
    ("message", "words"),
    [
        ({0: 9}, "neither a check-in nor a report"),
        ({0: 2, 1: 1, 2: 1, 11: 1, 12: 1, 13: 99}, "there is no number 99"),
        ({0: 2, 1: 1, 2: 1, 11: 1, 12: 1, 13: 5}, "needs a reason"),
        ({0: 2, 1: 1, 2: -1, 11: 1, 12: 1, 13: 0}, "greater than or equal to 0"),
        ({0: 1, 1: 1, 2: 1, 3: 0, 4: {"app": [b"\1", 0, "a"]}, 7: 2, 9: 0}, "digest"),
        ({0: 1, 1: 1}, "3"),
        ([1, 2], "not a CBOR map"),
    ],
)
def test_what_cannot_be_read_is_refused_with_the_reason(message: Any, words: str) -> None:
    with pytest.raises(Refused, match=words):
        compact.read_uplink(cbor.encode(message))


@given(st.binary(max_size=80))
def test_any_bytes_are_refused_and_nothing_else(payload: bytes) -> None:
    for read in (compact.read_uplink, lambda data: compact.read_order(data, NOON, 600)):
        try:
            read(payload)  # type: ignore[operator]
        except Refused:
            continue
