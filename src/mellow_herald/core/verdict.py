"""How checks come out, and what they are told: a line each with pass, warn or refuse, and what to do."""

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from mellow_herald.core.appearance import Appearance
from mellow_herald.core.leaks import Leak
from mellow_herald.core.nameplate import Nameplate
from mellow_herald.core.refusal import Refused
from mellow_herald.core.suit import Component


class Verdict(StrEnum):
    """How a check came out."""

    PASS = "pass"
    WARN = "warn"
    REFUSE = "refuse"


@dataclass(frozen=True, slots=True)
class Check:
    """One line. ``kind`` is the stable word for programs that a refusal is answered with."""

    name: str
    verdict: Verdict
    detail: str
    mend: str = ""
    kind: str = ""


@dataclass(frozen=True, slots=True)
class Earlier:
    """A release of the same board and line that was published (or withdrawn) before."""

    version: str
    floor: int
    withdrawn: bool
    components: tuple[Component, ...]


@dataclass(frozen=True, slots=True)
class Reading:
    """What the bytes of an image themselves said: their nameplate, if they hold one, what they seem to be, and what
    has the shape of a secret. ``proven``: the leaks were looked up, and are real. ``content`` are the bytes themselves,
    of settings and certificates."""

    plate: Nameplate | None
    appearance: Appearance | None = None
    leaks: tuple[Leak, ...] = ()
    proven: bool = False
    content: bytes | None = None


@dataclass(frozen=True, slots=True)
class Allowed:
    """What the engineer asked for in so many words. ``keeps_secret`` is why a secret stands in the image."""

    lower_version: bool = False
    cut_off_for_good: bool = False
    as_is: bool = False
    keeps_secret: str = ""


def refused(checks: Sequence[Check]) -> list[Check]:
    """The checks that bar a release."""
    return [check for check in checks if check.verdict is Verdict.REFUSE]


class ChecksFailed(Refused):
    """At least one check refuses the release; ``checks`` are all of them."""

    def __init__(self, checks: Sequence[Check]) -> None:
        first, *more = refused(checks)
        others = f" And {len(more)} more: {', '.join(check.name for check in more)}." if more else ""
        super().__init__(first.kind, f"{first.detail}{others}", first.mend)
        self.checks = checks
