"""Durations as engineers write them: ``90s``, ``30m``, ``2h``, ``7d``, ``1h30m``."""

import re
from datetime import timedelta

from mellow_herald.core.refusal import Refused

UNITS = {"d": 86400, "h": 3600, "m": 60, "s": 1}
PATTERN = re.compile(r"(?:(\d{1,5})d)?(?:(\d{1,6})h)?(?:(\d{1,7})m)?(?:(\d{1,9})s)?", re.ASCII)


def parse_duration(text: str) -> timedelta:
    """Parses a duration; raises ``Refused`` for anything else. ``0s`` is allowed."""
    found = PATTERN.fullmatch(text.strip())
    if found is None or not any(found.groups()):
        raise Refused("bad-duration", f"{text!r} is not a duration.", "Write it like 90s, 30m, 2h, 7d or 1h30m.")
    return timedelta(seconds=sum(int(n) * size for n, size in zip(found.groups(), UNITS.values(), strict=True) if n))


def write_duration(span: timedelta) -> str:
    """The shortest exact way to write ``span``, which is cut to whole seconds."""
    left, parts = int(span.total_seconds()), []
    for unit, size in UNITS.items():
        count, left = divmod(left, size)
        if count:
            parts.append(f"{count}{unit}")
    return "".join(parts) or "0s"
