"""Signals out of a bus-signal database file, and what is said of a bad one."""

from pathlib import Path

import pytest

from mellow_herald.client.bus_signals import read_bus_file
from mellow_herald.core.refusal import Refused

GOOD = """VERSION ""

BU_: SCALE YARD

BO_ 256 ScaleStatus: 8 SCALE
 SG_ weight : 0|16@1+ (0.01,0) [0|200] "kg" YARD
 SG_ activity : 16|8@1+ (1,0) [0|3] "" YARD
 SG_ temperature : 24|16@1- (0.1,-40) [-40|85] "degC" YARD

BO_ 257 YardStatus: 8 YARD
 SG_ temperature : 0|16@1- (0.1,0) [0|0] "degC" SCALE

CM_ SG_ 256 weight "of the hive,
tared";
VAL_ 256 activity 0 "resting" 1 "foraging" ;
"""


def write(folder: Path, text: str, name: str = "bus.dbc") -> Path:
    path = folder / name
    path.write_text(text)
    return path


def test_signals_come_with_unit_range_states_and_comment(tmp_path: Path) -> None:
    found = {one.name: one for one in read_bus_file(write(tmp_path, GOOD))}
    assert sorted(found) == ["ScaleStatus.temperature", "YardStatus.temperature", "activity", "weight"]
    weight, activity = found["weight"], found["activity"]
    assert (weight.unit, weight.usual, weight.bytes) == ("kg", [0, 200], 2)
    assert weight.description == "of the hive, tared"
    assert activity.kind == "state" and activity.usual is None and "resting, foraging" in activity.description
    assert found["ScaleStatus.temperature"].unit == "Cel" and found["ScaleStatus.temperature"].usual == [-40, 85]
    strange = read_bus_file(write(tmp_path, GOOD.replace('"kg"', '"kg m\u00b2"')))[-1]
    assert strange.unit == "" and strange.description.startswith("of the hive, tared, in kg m")
    assert found["YardStatus.temperature"].usual is None, "0 to 0 stands for nothing said"


@pytest.mark.parametrize(
    ("before", "after", "told"),
    [
        ("(0.1,-40)", "(0.1;-40)", r"bus\.dbc:8:\d+: .*>>!<<"),
        ("BO_ 257 YardStatus: 8 YARD", "BO_ 257 YardStatus 8 YARD", r"bus\.dbc:10:\d+"),
    ],
)
def test_a_bad_line_is_told_with_its_place(tmp_path: Path, before: str, after: str, told: str) -> None:
    with pytest.raises(Refused, match=told):
        read_bus_file(write(tmp_path, GOOD.replace(before, after)))


def test_what_is_no_such_file_is_refused(tmp_path: Path) -> None:
    with pytest.raises(Refused, match="cannot be read"):
        read_bus_file(tmp_path / "none.dbc")
    with pytest.raises(Refused, match="no signals in it"):
        read_bus_file(write(tmp_path, 'VERSION ""\n\nBU_: SCALE\n'))
    with pytest.raises(Refused, match=r"bus\.dbc"):
        read_bus_file(write(tmp_path, "\x00\x01 this is none"))
