"""The file of a recording: what is read of it, and in which forms it is given out."""

import csv
import gzip
import io
import json
import random
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any

import pytest
from scipy.io import netcdf_file

from mellow_herald.core.readings import recording_file
from mellow_herald.core.readings.recording import fits
from mellow_herald.core.readings.recording_file import (
    Described,
    as_csv,
    as_json_lines,
    as_netcdf,
    count_samples,
    read_moments,
)
from mellow_herald.core.readings.signal import SignalKind
from mellow_herald.core.refusal import Refused

AT = datetime(2026, 5, 2, 8, tzinfo=UTC).timestamp()
SIGNALS = {
    "weight": Described("kg", SignalKind.NUMBER, "of the hive"),
    "activity": Described("", SignalKind.STATE),
    "temperature": Described("Cel"),
}
BLOCKS: list[dict[str, Any]] = [
    {"at": AT, "after_ms": [0, 500], "values": {"weight": [31.25, 31.5], "activity": ["resting", None]}},
    {"at": AT + 1, "after_ms": [0, 500], "values": {"weight": [31.75, None], "activity": [None, "foraging out"]}},
]


def packed(*blocks: dict[str, Any]) -> bytes:
    """Each block a member of the gzip file, as a device packs that has little memory."""
    return b"".join(gzip.compress(json.dumps(block).encode() + b"\n") for block in blocks)


def cut(body: bytes, rng: random.Random) -> Iterator[bytes]:
    while body:
        length = rng.randint(1, 40)
        yield body[:length]
        body = body[length:]


def test_however_it_is_cut_into_parts_the_same_is_read() -> None:
    body = packed(*BLOCKS)
    expected = list(read_moments([body]))
    assert [(round(at - AT, 3), values) for at, values in expected] == [
        (0.0, {"weight": 31.25, "activity": "resting"}),
        (0.5, {"weight": 31.5}),
        (1.0, {"weight": 31.75}),
        (1.5, {"activity": "foraging out"}),
    ]
    for seed in range(20):
        assert list(read_moments(cut(body, random.Random(seed)))) == expected
    assert count_samples([body]) == (5, ["activity", "weight"])
    assert next(read_moments([body], 2.5))[0] == AT + 2.5, "its clock was behind"


@pytest.mark.parametrize(
    ("line", "why"),
    [
        (b"no json", "JSONDecodeError"),
        (b"[]", "TypeError"),
        (b'{"at": 1, "after_ms": [0, 1], "values": {"w": [1]}}', "as many values"),
        (b'{"at": 1, "values": {}}', "after_ms"),
        (b'{"at": NaN, "after_ms": [0], "values": {"w": [1]}}', "a time is none"),
        (b'{"at": 1e300, "after_ms": [0], "values": {"w": [1]}}', "a time is none"),
        (b'{"at": 1, "after_ms": [0], "values": {"w\\u0000": [1]}}', "a signal's name"),
        (b'{"at": 1, "after_ms": [0], "values": {"../w": [1]}}', "a signal's name"),
        (b'{"at": "x", "after_ms": [0], "values": {}}', "TypeError"),
    ],
)
def test_a_bad_line_is_told_with_its_number(line: bytes, why: str) -> None:
    good = json.dumps(BLOCKS[0]).encode()
    with pytest.raises(Refused, match=f"line 2 of the recording.*{why}"):
        list(read_moments([gzip.compress(good + b"\n" + line)]))


def test_what_is_no_gzip_or_swells_is_refused(monkeypatch: pytest.MonkeyPatch) -> None:
    with pytest.raises(Refused, match="not packed by gzip"):
        list(read_moments([b"hello"]))
    with pytest.raises(Refused, match="cut off"):
        list(read_moments([packed(*BLOCKS)[:-4]]))
    with pytest.raises(Refused, match="a line has more than"):
        list(read_moments([gzip.compress(b"x" * (5 * 1024 * 1024))]))
    monkeypatch.setattr(recording_file, "MOST_UNPACKED", 4 * 1024 * 1024)
    with pytest.raises(Refused, match="more than 4 MiB"):
        list(read_moments([gzip.compress(b"\n" * (64 * 1024 * 1024))]))


def test_csv_has_a_row_for_each_moment_and_the_units() -> None:
    told = gzip.decompress(b"".join(as_csv(read_moments([packed(*BLOCKS)]), SIGNALS))).decode()
    rows = list(csv.reader(io.StringIO(told)))
    assert rows[0] == ["at", "weight [kg]", "activity", "temperature [Cel]"]
    assert rows[1] == ["2026-05-02T08:00:00.000Z", "31.25", "resting", ""]
    assert rows[4] == ["2026-05-02T08:00:01.500Z", "", "foraging out", ""] and len(rows) == 5


def test_a_long_csv_comes_in_pieces_and_is_one_file(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(recording_file, "READ_BYTES", 200)
    blocks = [{"at": AT + n, "after_ms": [0], "values": {"weight": [float(n)]}} for n in range(100)]
    pieces = list(as_csv(read_moments([packed(*blocks)]), {"weight": SIGNALS["weight"]}))
    assert len(pieces) > 3
    assert gzip.decompress(b"".join(pieces)).decode().splitlines()[-1] == "2026-05-02T08:01:39.000Z,99.0"


def test_json_lines_begin_with_what_they_are_about() -> None:
    head, *lines = b"".join(as_json_lines(read_moments([packed(*BLOCKS)]), SIGNALS, {"device": "TA-1"})).splitlines()
    assert json.loads(head)["device"] == "TA-1"
    assert json.loads(head)["signals"]["weight"] == {"unit": "kg", "kind": "number", "description": "of the hive"}
    assert json.loads(lines[0]) == {
        "at": "2026-05-02T08:00:00.000Z",
        "values": {"weight": 31.25, "activity": "resting"},
    }
    assert len(lines) == 4


def test_netcdf_reads_back_with_units_and_meanings(monkeypatch: pytest.MonkeyPatch) -> None:
    body = as_netcdf(read_moments([packed(*BLOCKS)]), SIGNALS, {"device": "TA-1"})
    with netcdf_file(io.BytesIO(body), "r", mmap=False) as file:
        weight, times = file.variables["weight"], file.variables["s0_time"]
        assert weight[:].tolist() == [31.25, 31.5, 31.75] and weight.units == b"kg"
        assert times[:].tolist() == [AT, AT + 0.5, AT + 1.0]
        activity = file.variables["activity"]
        assert activity[:].tolist() == [0, 1] and activity.flag_meanings == b"resting foraging_out"
        assert "temperature" not in file.variables and file.device == b"TA-1"
    monkeypatch.setattr(recording_file, "MOST_SAMPLES_AS_ARRAYS", 3)
    with pytest.raises(Refused, match="Take it as CSV"):
        as_netcdf(read_moments([packed(*BLOCKS)]), SIGNALS, {})


@pytest.mark.parametrize(
    ("have", "begin", "length", "new"),
    [(0, 0, 10, (0, 10)), (10, 10, 5, (0, 5)), (10, 5, 10, (5, 10)), (10, 0, 10, None), (10, 11, 5, None)],
)
def test_of_a_part_what_is_new_is_taken(have: int, begin: int, length: int, new: tuple[int, int] | None) -> None:
    assert fits(have, begin, length) == new
