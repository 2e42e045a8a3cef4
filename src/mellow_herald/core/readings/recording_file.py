"""A recording's file, as devices send it and as it is given out.

It is JSON Lines, packed by gzip: each line is a block of readings as they are sent live, in the order of time.
docs/device-protocol.md has its form.
"""

import csv
import gzip
import io
import json
import re
import zlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

import numpy as np

from mellow_herald.core.readings.batch import LARGEST
from mellow_herald.core.readings.signal import SignalKind
from mellow_herald.core.refusal import Refused

MOST_UNPACKED, LONGEST_LINE = 256 * 1024 * 1024, 4 * 1024 * 1024
MOST_SIGNALS, LONGEST_TEXT = 500, 500
# As signals of a board are named; a name goes into files and columns as it is.
NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,62}")
# Seconds since 1970 that a calendar has.
EARLIEST, LATEST = 0.0, datetime(9999, 1, 1, tzinfo=UTC).timestamp()
MOST_SAMPLES_AS_ARRAYS = 5_000_000
READ_BYTES = 256 * 1024


@dataclass(frozen=True, slots=True)
class Described:
    """What is known of a signal that occurs in a recording."""

    unit: str = ""
    kind: SignalKind = SignalKind.NUMBER
    description: str = ""


Moment = tuple[float, dict[str, Any]]


def read_moments(parts: Iterable[bytes], offset_s: float = 0.0) -> Iterator[Moment]:
    """The moments of a recording: each its time (s since 1970, the device's clock set on by ``offset_s``) and what was
    measured then, by signal. ``Refused`` with the line where it cannot be read."""
    known: set[str] = set()
    for number, line in enumerate(_lines(parts), 1):
        try:
            block = json.loads(line)
            at, after, values = block["at"], block["after_ms"], block["values"]
            if any(len(column) != len(after) for column in values.values()):
                raise ValueError("a column has not as many values as there are times")
            times = [at + offset_s + ms / 1000 for ms in after]
            if not all(EARLIEST <= moment < LATEST for moment in times):
                raise ValueError("a time is none of this age")
            if not all(NAME.fullmatch(name) for name in values.keys() - known):
                raise ValueError("a signal's name is none: letters, digits and . _ - are, up to 63")
            known.update(values)
            if len(known) > MOST_SIGNALS:
                raise ValueError(f"these are more than {MOST_SIGNALS} signals")
        except (ValueError, KeyError, TypeError, AttributeError) as error:
            raise _unreadable(number, f"{type(error).__name__}: {error}") from None
        for place, moment in enumerate(times):
            yield moment, {name: column[place] for name, column in values.items() if _is_value(column[place])}


def _is_value(value: object) -> bool:
    if isinstance(value, str):
        return len(value) <= LONGEST_TEXT
    return type(value) in (int, float) and abs(value) <= LARGEST  # type: ignore[arg-type]


def _lines(parts: Iterable[bytes]) -> Iterator[bytes]:
    kept, total, number = b"", 0, 1
    for data in _unpacked(parts):
        total += len(data)
        if total > MOST_UNPACKED:
            raise _unreadable(number, f"it is more than {MOST_UNPACKED // 2**20} MiB unpacked")
        *whole, kept = (kept + data).split(b"\n")
        for line in whole:
            number += 1
            if line.strip():
                yield line
        if len(kept) > LONGEST_LINE:
            raise _unreadable(number, f"a line has more than {LONGEST_LINE // 2**20} MiB")
    if kept.strip():
        yield kept


def _unpacked(parts: Iterable[bytes]) -> Iterator[bytes]:
    """A gzip file may have several members, as it has where a device packs minute by minute."""
    unpacking, whole = zlib.decompressobj(wbits=16 + zlib.MAX_WBITS), True
    for part in parts:
        data = part
        while data:
            whole = False
            try:
                yield unpacking.decompress(data, READ_BYTES)
            except zlib.error as error:
                raise _unreadable(1, f"it is not packed by gzip: {error}") from None
            data = unpacking.unconsumed_tail
            if unpacking.eof:
                data, whole = unpacking.unused_data, True
                unpacking = zlib.decompressobj(wbits=16 + zlib.MAX_WBITS)
    if not whole:
        raise _unreadable(1, "what is packed by gzip is cut off")


def _unreadable(line: int, why: str) -> Refused:
    return Refused("unreadable", f"line {line} of the recording: {why}.", "The device has to pack it as documented.")


def count_samples(parts: Iterable[bytes]) -> tuple[int, list[str]]:
    """How many values a recording has, and of which signals. ``Refused`` if it cannot be read."""
    count, names = 0, dict[str, None]()
    for _, values in read_moments(parts):
        count += len(values)
        names.update(dict.fromkeys(values))
    return count, sorted(names)


def as_csv(moments: Iterable[Moment], signals: Mapping[str, Described]) -> Iterator[bytes]:
    """CSV packed by gzip, piece by piece: a row for each moment (UTC), a column for each signal with its unit."""
    names = list(signals)
    text, packed = io.StringIO(), io.BytesIO()
    writer = csv.writer(text)
    writer.writerow(["at", *(f"{name} [{one.unit}]" if one.unit else name for name, one in signals.items())])
    with gzip.GzipFile(fileobj=packed, mode="wb", mtime=0) as file:
        for moment, values in moments:
            writer.writerow([_iso(moment), *(values.get(name, "") for name in names)])
            if text.tell() > READ_BYTES:
                file.write(_taken(text).encode())
                yield _taken_bytes(packed)
        file.write(_taken(text).encode())
    yield _taken_bytes(packed)


def as_json_lines(
    moments: Iterable[Moment], signals: Mapping[str, Described], head: Mapping[str, Any]
) -> Iterator[bytes]:
    """JSON Lines, piece by piece: a line that tells of device, stretch and signals, then a line for each moment."""
    told = {
        name: {"unit": one.unit, "kind": one.kind.value, "description": one.description}
        for name, one in signals.items()
    }
    yield json.dumps({**head, "signals": told}).encode() + b"\n"
    lines: list[str] = []
    for moment, values in moments:
        lines.append(json.dumps({"at": _iso(moment), "values": values}))
        if len(lines) >= 1000:
            yield "\n".join(lines).encode() + b"\n"
            lines.clear()
    if lines:
        yield "\n".join(lines).encode() + b"\n"


def as_netcdf(moments: Iterable[Moment], signals: Mapping[str, Described], head: Mapping[str, Any]) -> bytes:
    """A NetCDF file (classic, 64-bit offsets) with CF attributes: each signal over a time axis of its own, since they
    are measured at moments of their own; words as flags with their meanings. ``Refused`` beyond five million values."""
    from scipy.io import netcdf_file  # a second of every start, for what few ask for

    times: dict[str, list[float]] = {name: [] for name in signals}
    values: dict[str, list[Any]] = {name: [] for name in signals}
    count = 0
    for moment, measured in moments:
        count += len(measured)
        if count > MOST_SAMPLES_AS_ARRAYS:
            raise Refused("too-many", f"this recording has over {MOST_SAMPLES_AS_ARRAYS:,} values.", "Take it as CSV.")
        for name, value in measured.items():
            if name in times:
                times[name].append(moment)
                values[name].append(value)
    kept = io.BytesIO()
    # Closing it closes what it wrote into.
    file = netcdf_file(kept, "w", version=2)
    file.Conventions = "CF-1.11"
    for name, told in head.items():
        setattr(file, name, str(told))
    for number, (name, one) in enumerate(signals.items()):
        if not times[name]:
            continue
        _add_variable(file, f"s{number}", name, one, times[name], values[name])
    file.flush()
    return kept.getvalue()


def _add_variable(
    file: Any, axis: str, name: str, one: Described, times: Sequence[float], values: Sequence[Any]
) -> None:
    file.createDimension(f"{axis}_time", len(times))
    time = file.createVariable(f"{axis}_time", "f8", (f"{axis}_time",))
    time[:] = np.array(times, np.float64)
    time.units, time.standard_name = "seconds since 1970-01-01T00:00:00Z", "time"
    words = one.kind is not SignalKind.NUMBER
    variable = file.createVariable(name, "i4" if words else "f8", (f"{axis}_time",))
    if words:
        known = list(dict.fromkeys(str(value) for value in values))
        place = {word: at for at, word in enumerate(known)}
        variable[:] = np.array([place[str(value)] for value in values], np.int32)
        variable.flag_values = np.arange(len(known), dtype=np.int32)
        # The meanings are told apart by blanks.
        variable.flag_meanings = " ".join(word.replace(" ", "_") or "-" for word in known)
    else:
        variable[:] = np.array([value if isinstance(value, (int, float)) else np.nan for value in values], np.float64)
    variable.long_name = one.description or name
    if one.unit:
        variable.units = one.unit


def _iso(moment: float) -> str:
    return datetime.fromtimestamp(moment, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


def _taken(text: io.StringIO) -> str:
    told = text.getvalue()
    text.seek(0)
    text.truncate()
    return told


def _taken_bytes(packed: io.BytesIO) -> bytes:
    told = packed.getvalue()
    packed.seek(0)
    packed.truncate()
    return told
