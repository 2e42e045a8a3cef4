"""Faults that a rehearsal lets a release have."""

import re
from dataclasses import dataclass
from datetime import timedelta

from mellow_herald.core.attempt.states import FAILED_REASONS, RELAPSED_REASONS, REVERTED_REASONS
from mellow_herald.core.duration import parse_duration
from mellow_herald.core.refusal import Refused
from mellow_herald.core.selector import parse_selector

WRITTEN = re.compile(
    r"^(?:(?P<where>.*\S)\s*:\s*)?(?P<rate>\d*\.?\d+%?)\s+(?P<reason>[a-z-]+)(?:\s+after\s+(?P<after>\S+))?$"
)
HOW = (
    'Write for example "0.1 crashed", "hw_rev = 2: 0.3 crashed", "0.2 crash-looping after 6h" or "0.1 download-broken".'
)
NO_FAULT = "none"


@dataclass(frozen=True, slots=True)
class Fault:
    """A share ``rate`` (0–1) of the devices that ``where`` picks (None: all) goes bad by ``reason``: on trial, or so
    long ``after`` it confirmed, or (with ``delivery``) before it switches."""

    rate: float
    reason: str
    where: str | None = None
    after: timedelta | None = None

    @property
    def delivery(self) -> bool:
        """Whether it keeps devices from being exposed at all."""
        return self.reason in FAILED_REASONS

    def __str__(self) -> str:
        where = f"{self.where}: " if self.where else ""
        after = f" after {_short(self.after)}" if self.after else ""
        return f"{where}{self.rate:g} {self.reason}{after}"


def parse_fault(text: str) -> Fault | None:
    """Parses ``[SELECTOR:] RATE REASON [after DURATION]``; None for ``none``. Raises ``Refused`` with what to write."""
    if text.strip() == NO_FAULT:
        return None
    found = WRITTEN.match(text.strip())
    if found is None:
        raise Refused("bad-fault", f"{text!r} is no fault.", HOW)
    written, reason = found["rate"], found["reason"]
    rate = float(written.rstrip("%")) / (100 if written.endswith("%") else 1)
    if not 0 < rate <= 1:
        raise Refused(
            "bad-fault", f"the rate {written} of {text!r} is no share.", "Write a rate above 0, of 1 at most."
        )
    if reason not in FAILED_REASONS | REVERTED_REASONS | RELAPSED_REASONS:
        known = ", ".join(sorted(FAILED_REASONS | REVERTED_REASONS | RELAPSED_REASONS))
        raise Refused("bad-fault", f"{reason!r} is no reason by which devices go bad.", f"There are {known}.")
    if found["where"]:
        parse_selector(found["where"])
    after = None if found["after"] is None else parse_duration(found["after"])
    if after is not None and reason not in RELAPSED_REASONS:
        slow = ", ".join(sorted(RELAPSED_REASONS))
        raise Refused("bad-fault", f"{reason} shows on trial, not later.", f"What shows later is {slow}.")
    if after is None and reason in RELAPSED_REASONS - REVERTED_REASONS:
        raise Refused("bad-fault", f"{reason} shows some time after a device confirmed.", "Write after 6h, say.")
    return Fault(rate, reason, found["where"], after)


def _short(span: timedelta) -> str:
    seconds = round(span.total_seconds())
    for size, unit in ((86400, "d"), (3600, "h"), (60, "m")):
        if seconds % size == 0:
            return f"{seconds // size}{unit}"
    return f"{seconds}s"
