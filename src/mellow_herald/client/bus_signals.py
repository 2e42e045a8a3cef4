"""Signals of a board out of a bus-signal database file, as its bus is described anyway."""

import re
from collections import Counter
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from mellow_herald.core.readings.signal import SignalKind
from mellow_herald.core.refusal import Refused
from mellow_herald.wire.signal import SignalIn

# How such files write units, and how UCUM does; what is the same in both is not here.
UCUM: Mapping[str, str] = {
    "degC": "Cel",
    "°C": "Cel",
    "C": "Cel",
    "degF": "[degF]",
    "deg": "deg",
    "rpm": "{rpm}",
    "sec": "s",
    "km/h": "km/h",
}
NOT_IN_NAMES = re.compile(r"[^A-Za-z0-9._-]+")
FITS = re.compile(r"[!-~]{0,40}")
PLACE = re.compile(r"line (\d+), column (\d+)")
LONGEST_NAME, LONGEST_DESCRIPTION = 63, 200


def read_bus_file(path: Path) -> list[SignalIn]:
    """The signals of all messages of a file, by name: unit, usual range, and states where values have words. One whose
    name occurs in several messages is named after its message too. ``Refused`` with file, line and what is wrong."""
    from cantools.database import load_string
    from cantools.database.errors import UnsupportedDatabaseFormatError

    try:
        # Whatever the bytes are, those of names and units are of this set; comments may be of any.
        content = path.read_text(encoding="cp1252", errors="replace")
    except OSError as error:
        raise Refused("no-file", f"{path} cannot be read ({error.strerror}).") from None
    form = path.suffix.lower().removeprefix(".")
    try:
        database: Any = load_string(content, form if form in ("dbc", "kcd", "sym", "arxml") else None, strict=False)
    except UnsupportedDatabaseFormatError as error:
        raise _bad(path, str(error)) from None
    except Exception as error:  # whatever is wrong in what somebody wrote by hand
        raise _bad(path, f"{type(error).__name__}: {error}") from None
    named = Counter(signal.name for message in database.messages for signal in message.signals)
    found: dict[str, SignalIn] = {}
    for message in database.messages:
        for signal in message.signals:
            name = signal.name if named[signal.name] == 1 else f"{message.name}.{signal.name}"
            made = _signal(name, signal, message.name)
            found.setdefault(made.name, made)
    if not found:
        raise Refused("bad-file", f"{path}: there are no signals in it.", "Pass a file that describes messages.")
    return [found[name] for name in sorted(found)]


def _signal(name: str, signal: Any, message: str) -> SignalIn:
    low, high = signal.minimum, signal.maximum
    usual = [float(low), float(high)] if low is not None and high is not None and low < high else None
    unit = UCUM.get(signal.unit or "", signal.unit or "")
    states = bool(signal.choices)
    words = ", ".join(str(one) for one in signal.choices.values()) if states else ""
    told = " ".join(str(signal.comment or f"of {message}").split())
    if not FITS.fullmatch(unit):  # rather none than a wrong one
        told, unit = f"{told}, in {unit}", ""
    return SignalIn.model_validate(
        {
            "name": NOT_IN_NAMES.sub("-", name).strip("-.")[:LONGEST_NAME],
            "kind": SignalKind.STATE if states else SignalKind.NUMBER,
            "unit": "" if states else unit,
            "usual": None if states else usual,
            "description": (f"{told} ({words})" if words else told)[:LONGEST_DESCRIPTION],
            "bytes": max(1, -(-signal.length // 8)),
        }
    )


def _bad(path: Path, told: str) -> Refused:
    place = PLACE.search(told)
    where = f"{path}:{place[1]}:{place[2]}" if place else str(path)
    why = told.rstrip('"').partition(f"line {place[1]}, column {place[2]}: ")[2] or told if place else told
    return Refused("bad-file", f"{where}: {why.strip()}.", "Mend that line; >>!<< stands before what is wrong.")
