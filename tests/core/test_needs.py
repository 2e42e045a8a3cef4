from datetime import UTC, datetime, timedelta
from typing import Any

import pytest

from mellow_herald.core.attempt import State, WaitingFor
from mellow_herald.core.needs import Needs, explain, missing, obstacles

NOW = datetime(2026, 6, 1, 12, tzinfo=UTC)
UNTIL = NOW + timedelta(hours=2)


@pytest.mark.parametrize(
    ("needs", "condition", "fetching", "switching"),
    [
        (Needs(), {}, None, None),
        (Needs(), {"battery": 29}, WaitingFor.BATTERY, WaitingFor.BATTERY),
        (Needs(), {"battery": 30}, None, None),
        (Needs(), {"battery": 3, "charging": True}, None, None),
        (Needs(charging=True), {"battery": 90}, WaitingFor.CHARGER, WaitingFor.CHARGER),
        (Needs(links=("wifi",)), {"link": "cellular"}, WaitingFor.LINK, None),
        (Needs(links=("wifi",)), {"link": "wifi"}, None, None),
        (Needs(), {"busy": True}, None, WaitingFor.DEVICE_BUSY),
        (Needs(), {"owner": "postponed"}, None, WaitingFor.OWNER_POSTPONED),
        (Needs(urgent=True), {"owner": "postponed"}, None, None),
        (Needs(urgent=True), {"owner": "must-consent"}, None, WaitingFor.OWNER_CONSENT),
        (Needs(urgent=True), {"battery": 5}, WaitingFor.BATTERY, WaitingFor.BATTERY),
    ],
)
def test_what_is_missing_before_a_download_and_before_a_switch(
    needs: Needs, condition: dict[str, Any], fetching: WaitingFor | None, switching: WaitingFor | None
) -> None:
    found = [missing(needs, condition, switching=switch) for switch in (False, True)]
    assert [one[0] if one else None for one in found] == [fetching, switching]


@pytest.mark.parametrize(
    ("state", "waiting_for", "condition", "words", "until"),
    [
        (State.QUEUED, "next-check-in", {}, "its next check-in", UNTIL),
        (State.QUEUED, "battery", {"battery": 22}, "battery at 22 % of 30 %", UNTIL),
        (State.STAGED, "owner-postponed", {"owner_until": UNTIL.isoformat()}, "its owner, who postponed it", UNTIL),
        (State.STAGED, "owner-consent", {}, "its owner's consent, by the button", None),
        (State.INSTALLING, None, {}, "the device to come back from its restart", None),
        (State.FAILED, None, {}, "its next try", UNTIL),
    ],
)
def test_waiting_is_put_into_words(
    state: State, waiting_for: str | None, condition: dict[str, Any], words: str, until: datetime | None
) -> None:
    assert explain(state, waiting_for, condition, Needs(), UNTIL, NOW) == (words, until)


def test_an_overdue_check_in_is_said_to_be_overdue() -> None:
    late = NOW - timedelta(minutes=3)
    assert explain(State.QUEUED, None, {}, Needs(), late, NOW) == ("its next check-in, which is overdue", late)


def test_obstacles_are_all_named() -> None:
    good = {"admission": "admitted", "runs": "release", "updater": 1, "pinned_until": None, "cloned": False}
    assert obstacles(good, NOW) == []
    bad = {
        "admission": "retired",
        "runs": "unknown-build",
        "updater": 0,
        "pinned_until": UNTIL,
        "pinned_why": "a bench",
        "cloned": True,
    }
    assert len(obstacles(bad, NOW)) == 5
    assert obstacles({**good, "runs": None}, NOW) == ["it has not said yet what it runs"]
    assert obstacles({**good, "pinned_until": NOW - timedelta(days=1)}, NOW) == []
