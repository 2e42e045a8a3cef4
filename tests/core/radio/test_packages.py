from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.radio.packages import PORTS, Package, clock, decode, encode, fragments, multicast
from mellow_herald.core.radio.packages.command import _known

KEY = bytes(range(16))
# Worked by hand from the standards' tables.
WRITTEN = [
    (clock.AppTimeReq(0x01020304, 5, True), "0104030201" + "15"),
    (clock.AppTimeAns(-2, 5), "01feffffff" + "05"),
    (clock.ForceDeviceResyncReq(3), "0303"),
    (multicast.MulticastVersionReq(), "00"),
    (multicast.MulticastVersionAns(2, 2), "000202"),
    (
        multicast.McGroupSetupReq(1, 0x11223344, KEY, 1, 0xFFFF),
        "0201" + "44332211" + KEY.hex() + "01000000" + "ffff0000",
    ),
    (multicast.McGroupSetupAns(1, True), "0205"),
    (multicast.McGroupDeleteReq(2), "0302"),
    (multicast.McGroupDeleteAns(2), "0302"),
    (multicast.McClassCSessionReq(1, 0x50000001, 12, 869_525_000, 4), "0401" + "01000050" + "0c" + "d2ad84" + "04"),
    (multicast.McClassCSessionAns(1, time_to_start=300), "0401" + "2c0100"),
    (multicast.McClassCSessionAns(1, multicast.SessionError.FREQ_ERROR), "0409"),
    (multicast.McClassCSessionAns(3, multicast.SessionError.START_MISSED), "0423"),
    (fragments.FragSessionStatusReq(2), "0105"),
    (fragments.FragSessionStatusAns(1, 1500, 300, fragments.ALL_WELL), "01" + "dc45" + "ff" + "00"),
    (
        fragments.FragSessionSetupReq(0b10, 1, 1525, 40, 3, 7, b"abcd", 9, b"mic!"),
        "02" + "12" + "f505" + "28" + "43" + "07" + b"abcd".hex() + "0900" + b"mic!".hex(),
    ),
    (fragments.FragSessionSetupAns(1, fragments.SetupError.NOT_ENOUGH_MEMORY), "0242"),
    (fragments.FragSessionDeleteReq(1), "0301"),
    (fragments.FragSessionDeleteAns(1, True), "0305"),
    (fragments.FragDataBlockReceivedReq(0, True), "0404"),
    (fragments.FragDataBlockReceivedAns(0), "0400"),
    (fragments.DataFragment(1, 0x1234, b"\xaa\xbb"), "08" + "3452" + "aabb"),
]


@pytest.mark.parametrize(("command", "written"), WRITTEN, ids=lambda one: type(one).__name__)
def test_commands_by_hand(command: Any, written: str) -> None:
    assert encode([command]).hex() == written
    (read,) = decode(command.package, bytes.fromhex(written), uplink=command.uplink)
    told = {"missing_frag": 255} if hasattr(command, "missing_frag") else {}
    assert vars(read) == vars(command) | told


def test_every_command_is_written_by_hand_somewhere_above() -> None:
    versions = {kind for (_, _, cid), kind in _known.items() if cid == 0}
    assert {*_known.values()} - versions == {type(command) for command, _ in WRITTEN} - versions
    assert len(versions) == 6 and set(PORTS) == set(Package)


def test_commands_follow_each_other_until_one_is_not_known_or_cut_off() -> None:
    both = [multicast.McGroupDeleteReq(1), multicast.McGroupDeleteReq(2)]
    assert decode(Package.MULTICAST, encode(both), uplink=False) == both
    assert decode(Package.MULTICAST, encode(both[:1]) + b"\x77\x03\x02", uplink=False) == both[:1]
    assert decode(Package.MULTICAST, encode([*both, *both])[:-1], uplink=False) == [*both, both[0]]


@given(st.sampled_from(Package), st.booleans(), st.binary(max_size=60))
def test_any_bytes_are_read_without_a_fault(package: Package, uplink: bool, data: bytes) -> None:
    for command in decode(package, data, uplink=uplink):
        assert (command.package, command.uplink) == (package, uplink)
        assert decode(package, command.encode(), uplink=uplink) == [command]
