"""How an engineer names a release."""

from dataclasses import dataclass

from mellow_herald.core.refusal import Refused
from mellow_herald.core.version import parse_version


@dataclass(frozen=True, slots=True)
class ReleaseName:
    """``board/line/version``."""

    board: str
    line: str
    version: str

    def __str__(self) -> str:
        return f"{self.board}/{self.line}/{self.version}"


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
