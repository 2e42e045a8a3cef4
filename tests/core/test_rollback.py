"""How a device gets back, or why it cannot."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.rollback import IN_WORDS, Cannot, Former, Left, Way, way_back

OLD, NEW, OTHER = "a" * 64, "b" * 64, "c" * 64
LEFT = Left(True, OLD, NEW, standby=OLD, standby_floor=4, floor=4, former=Former(4))


@pytest.mark.parametrize(
    ("changes", "found"),
    [
        ({}, Way.SWITCH_BACK),
        ({"standby": OTHER}, Way.REINSTALL),
        ({"standby": None}, Way.REINSTALL),
        ({"runs": OLD}, Way.ALREADY_BACK),
        ({"runs": None}, Way.SWITCH_BACK),
        ({"switched": False}, Cannot.NEVER_LEFT),
        ({"came_from": None}, Cannot.IMAGE_GONE),
        ({"floor": 5}, Cannot.BELOW_FLOOR),
        ({"floor": None}, Way.SWITCH_BACK),
        ({"former": Former(4, withdrawn=True)}, Cannot.WITHDRAWN),
        ({"former": Former(4, revoked=True)}, Cannot.REVOKED_KEY),
        ({"former": Former(4, gone=True)}, Way.SWITCH_BACK),
        ({"former": Former(4, gone=True), "standby": None}, Cannot.IMAGE_GONE),
        # The slot's own note says less than the release: the device would refuse the slot, not the release.
        ({"standby_floor": 0}, Way.REINSTALL),
        # A build that no release has: only its own slot can bring it back.
        ({"former": None}, Way.SWITCH_BACK),
        ({"former": None, "standby": None}, Cannot.IMAGE_GONE),
        ({"former": None, "standby_floor": 3}, Cannot.BELOW_FLOOR),
        ({"former": None, "standby": None, "standby_floor": 3}, Cannot.IMAGE_GONE),
    ],
)
def test_the_way_back(changes: dict[str, object], found: Way | Cannot) -> None:
    assert way_back(replace(LEFT, **changes)) is found  # type: ignore[arg-type]


@given(
    st.builds(
        Left, st.booleans(), *[st.sampled_from((None, OLD, NEW))] * 3, *[st.none() | st.integers(0, 9)] * 2,
        st.none() | st.builds(Former, st.integers(0, 9), st.booleans(), st.booleans(), st.booleans()),
    )
)  # fmt: skip
def test_every_device_has_a_way_or_a_reason_and_never_one_below_its_floor(left: Left) -> None:
    found = way_back(left)
    assert found in IN_WORDS
    if found in (Way.SWITCH_BACK, Way.REINSTALL) and left.former is not None:
        assert left.floor is None or left.former.floor >= left.floor
        assert not left.former.revoked and not left.former.withdrawn
    if found is Way.SWITCH_BACK:
        assert left.standby == left.came_from
    if found is Way.REINSTALL:
        assert left.former is not None and not left.former.gone
