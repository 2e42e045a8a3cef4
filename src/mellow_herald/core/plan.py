"""A plan: target, rings and numbers of a rollout."""

from dataclasses import dataclass, field
from datetime import timedelta

from mellow_herald.core.needs import Needs
from mellow_herald.core.placement import Allow
from mellow_herald.core.refusal import Refused
from mellow_herald.core.selector import parse_selector
from mellow_herald.core.version import parse_version


@dataclass(frozen=True, slots=True)
class ReleaseName:
    """How an engineer names a release: ``board/line/version``."""

    board: str
    line: str
    version: str

    def __str__(self) -> str:
        return f"{self.board}/{self.line}/{self.version}"


@dataclass(frozen=True, slots=True)
class Ring:
    """One stage. ``enough`` is the share (0–1) of the devices that asked which must be good before it is through."""

    name: str
    soak: timedelta
    enough: float = 0.9


@dataclass(frozen=True, slots=True)
class Plan:
    """What a rollout is to do. ``retries`` are further tries after the first; ``trial_for`` is how long new
    firmware may run on trial; ``answer_within`` after how long without a call a device counts as silent; ``log``
    asks for the devices' log lines meanwhile."""

    name: str
    release: ReleaseName
    target: str
    rings: tuple[Ring, ...]
    retries: int = 2
    retry_pause: timedelta = timedelta(minutes=5)
    answer_within: timedelta = timedelta(minutes=30)
    trial_for: timedelta = timedelta(seconds=30)
    needs: Needs = field(default_factory=Needs)
    allow: frozenset[Allow] = frozenset()
    log: bool = False

    def check(self) -> None:
        """Raises ``Refused`` if a value makes no sense."""
        parse_selector(self.target)
        if len(self.rings) != 1:
            raise Refused("bad-plan", f"the plan has {len(self.rings)} rings.", "This version takes exactly one.")
        for ring in self.rings:
            if not 0 <= ring.enough <= 1:
                raise Refused("bad-plan", f"enough = {ring.enough} in ring {ring.name!r} is not a share of 0 to 1.")


def parse_release_name(text: str) -> ReleaseName:
    """Parses ``board/line/version``."""
    parts = text.split("/")
    if len(parts) != 3 or not all(parts):
        raise Refused(
            "bad-release-name",
            f"{text!r} does not name a release.",
            "Write board/line/version, e.g. comb-s1/hive-scale/2.5.0.",
        )
    parse_version(parts[2])
    return ReleaseName(*parts)
