"""How a device gets back, or why it cannot."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.rollback import IN_WORDS, Cannot, Former, Left, StandbyImage, Way, way_back

OLD, NEW, OTHER = "a" * 64, "b" * 64, "c" * 64
LEFT = Left(True, {"app": OLD}, {"app": NEW}, {"app": StandbyImage(OLD, 4)}, floor=4, former=Former(4))


@pytest.mark.parametrize(
    ("changes", "found"),
    [
        ({}, Way.SWITCH_BACK),
        ({"standby": {"app": StandbyImage(OTHER, 4)}}, Way.REINSTALL),
        ({"standby": {}}, Way.REINSTALL),
        ({"runs": {"app": OLD}}, Way.ALREADY_BACK),
        ({"runs": {}}, Way.SWITCH_BACK),
        ({"switched": False}, Cannot.NEVER_LEFT),
        ({"came_from": {}}, Cannot.IMAGE_GONE),
        ({"floor": 5}, Cannot.BELOW_FLOOR),
        ({"floor": None}, Way.SWITCH_BACK),
        ({"former": Former(4, withdrawn=True)}, Cannot.WITHDRAWN),
        ({"former": Former(4, revoked=True)}, Cannot.REVOKED_KEY),
        ({"former": Former(4, gone=True)}, Way.SWITCH_BACK),
        ({"former": Former(4, gone=True), "standby": {}}, Cannot.IMAGE_GONE),
        # The slot's own note says less than the release: the device would refuse the slot, not the release.
        ({"standby": {"app": StandbyImage(OLD, 0)}}, Way.REINSTALL),
        # A build that no release has: only its own slot can bring it back.
        ({"former": None}, Way.SWITCH_BACK),
        ({"former": None, "standby": {}}, Cannot.IMAGE_GONE),
        ({"former": None, "standby": {"app": StandbyImage(OLD, 3)}}, Cannot.BELOW_FLOOR),
    ],
)
def test_the_way_back(changes: dict[str, object], found: Way | Cannot) -> None:
    assert way_back(replace(LEFT, **changes)) is found  # type: ignore[arg-type]


RADIO = {"app": OLD, "radio": OLD}


@pytest.mark.parametrize(
    ("changes", "found"),
    [
        ({"runs": RADIO}, Way.ALREADY_BACK),
        # Only what is not back yet has to stand by.
        ({"runs": {"app": OLD, "radio": NEW}, "standby": {"radio": StandbyImage(OLD, 4)}}, Way.SWITCH_BACK),
        ({"runs": {"app": NEW, "radio": NEW}, "standby": {"app": StandbyImage(OLD, 4)}}, Way.REINSTALL),
        (
            {"runs": {"app": NEW, "radio": NEW}, "standby": {"app": StandbyImage(OLD), "radio": StandbyImage(OLD, 3)}},
            Way.REINSTALL,
        ),
        (
            {"runs": {"app": NEW, "radio": NEW}, "standby": {"app": StandbyImage(OLD)}, "former": None},
            Cannot.IMAGE_GONE,
        ),
    ],
)
def test_all_components_go_back_together(changes: dict[str, object], found: Way | Cannot) -> None:
    assert way_back(replace(LEFT, came_from=RADIO, **changes)) is found  # type: ignore[arg-type]


CONTENTS = st.dictionaries(st.sampled_from(("app", "radio")), st.sampled_from((OLD, NEW)))
STANDBY = st.dictionaries(
    st.sampled_from(("app", "radio")),
    st.builds(StandbyImage, st.sampled_from((OLD, NEW)), st.none() | st.integers(0, 9)),
)


@given(
    st.builds(
        Left,
        st.booleans(),
        CONTENTS,
        CONTENTS,
        STANDBY,
        st.none() | st.integers(0, 9),
        st.none() | st.builds(Former, st.integers(0, 9), st.booleans(), st.booleans(), st.booleans()),
    )
)
def test_every_device_has_a_way_or_a_reason_and_never_one_below_its_floor(left: Left) -> None:
    found = way_back(left)
    assert found in IN_WORDS
    if found in (Way.SWITCH_BACK, Way.REINSTALL) and left.former is not None:
        assert left.floor is None or left.former.floor >= left.floor
        assert not left.former.revoked and not left.former.withdrawn
    if found is Way.SWITCH_BACK:
        held = {
            name: left.standby[name].digest for name in left.came_from if left.runs.get(name) != left.came_from[name]
        }
        assert held and held.items() <= left.came_from.items()
    if found is Way.REINSTALL:
        assert left.former is not None and not left.former.gone
