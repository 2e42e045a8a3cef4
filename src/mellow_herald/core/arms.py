"""Two releases that a plan compares: what they are called, and what makes sense."""

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

from mellow_herald.core.refusal import Refused
from mellow_herald.core.release_name import ReleaseName

# Under this name an attempt keeps, among its facts, which of the two releases it brings.
ARM = "arm"


@dataclass(frozen=True, slots=True)
class Arm:
    """One of the two releases that a plan compares, and the share (0–1) of the devices that get it by lot."""

    name: str
    release: ReleaseName
    share: float = 0.5


@dataclass(frozen=True, slots=True)
class Compared:
    """What a rollout compares: both arms' ``names``, the id of the release of the ``second`` (the first has the
    rollout's own), and the position of the one that was ``chosen`` for the rest; None while the lot decides."""

    names: tuple[str, str]
    second: int
    chosen: int | None = None


def check_arms(arms: Sequence[Arm], release: ReleaseName, rings: int) -> None:
    """Raises ``Refused`` where a comparison makes no sense."""
    if not arms:
        return
    if len(arms) != 2:
        raise _refused(f"arms: a plan compares two releases, not {len(arms)}.", "Write [[arms]] twice, or not at all.")
    first, second = arms
    if first.name == second.name or first.release == second.release:
        raise _refused("arms: both are the same.", "Give each a name and a release of its own.")
    if first.release != release:
        raise _refused(
            f"arms: the first must bring the plan's release, {release}.", "Change release, or the order of the arms."
        )
    if (second.release.board, second.release.line) != (release.board, release.line):
        raise _refused(
            f"arms: {second.release} is for other devices than {release}.", "Name two of one board and line."
        )
    if Fraction(str(first.share)) + Fraction(str(second.share)) != 1:
        raise _refused("arms: their shares are not 1 together.", "Give one of them a share; the other has the rest.")
    if rings < 2:
        raise _refused(
            "arms: the last ring is the rest, which gets the release that is chosen in the end.",
            "Add a ring before it, in which the lot decides.",
        )


def find_arm(arms: Sequence[Arm], name: str) -> int:
    """The position of the arm that is meant: by its name, its release's, or its release's version. Raises
    ``Refused``."""
    found = [n for n, arm in enumerate(arms) if name in (arm.name, str(arm.release), arm.release.version)]
    if len(found) != 1:
        names = " or ".join(repr(arm.name) for arm in arms)
        raise Refused("unknown-arm", f"The rollout compares no {name!r}.", f"Choose {names}.")
    return found[0]


def _refused(detail: str, hint: str) -> Refused:
    return Refused("bad-plan", detail, hint)
