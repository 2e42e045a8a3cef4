"""Who is passed over: an ordered list of reasons, each with a selector; the first that matches is the reason.

Because every rule is a selector, the same list works on facts in memory and, compiled, in the database. Which ring a
device comes to is in ``core.rings``.
"""

from collections.abc import Collection
from dataclasses import dataclass
from enum import StrEnum

from mellow_herald.core.selector import And, Compare, Node, Not, OneOf, Or, matches
from mellow_herald.core.selector.match import Facts
from mellow_herald.core.selector.tree import DIGEST_SUFFIX


class PassedOver(StrEnum):
    """Why a targeted device gets no attempt."""

    LEFT_OUT = "left-out"
    NOT_ADMITTED = "not-admitted"
    WRONG_BOARD = "wrong-board"
    WRONG_LINE = "wrong-line"
    WRONG_REVISION = "wrong-revision"
    PINNED = "pinned"
    UNKNOWN_BUILD = "unknown-build"
    ALREADY_RUNNING = "already-running"
    NEWER_RUNNING = "newer-running"
    BELOW_FLOOR = "below-floor"
    NEEDS_STEP = "needs-step"
    NO_UPDATER = "no-updater"
    IN_OTHER_ROLLOUT = "in-other-rollout"


IN_WORDS = {
    PassedOver.LEFT_OUT: "the plan leaves them out",
    PassedOver.NOT_ADMITTED: "not admitted",
    PassedOver.WRONG_BOARD: "another board",
    PassedOver.WRONG_LINE: "another line",
    PassedOver.WRONG_REVISION: "a hardware revision the release is not for",
    PassedOver.PINNED: "pinned by an engineer",
    PassedOver.UNKNOWN_BUILD: "run a build that no release has",
    PassedOver.ALREADY_RUNNING: "run the release already",
    PassedOver.NEWER_RUNNING: "run something newer",
    PassedOver.BELOW_FLOOR: "their floor number is higher",
    PassedOver.NEEDS_STEP: "need a release in between first",
    PassedOver.NO_UPDATER: "their firmware has no updater",
    PassedOver.IN_OTHER_ROLLOUT: "in another rollout",
}


@dataclass(frozen=True, slots=True)
class Candidate:
    """What placement needs to know of the release: ``digests`` are those of its ``app`` images (one, or one for each
    slot), ``others`` those of its other components by name, ``least_running`` the version of ``app`` a device must run
    before, if there is one."""

    board: str
    line: str
    version: str
    floor: int
    digests: tuple[str, ...]
    hw_rev_min: int
    hw_rev_max: int
    least_running: str | None = None
    others: tuple[tuple[str, tuple[str, ...]], ...] = ()


Rules = tuple[tuple[PassedOver, Node], ...]


class Allow(StrEnum):
    """What a plan may ask for in so many words; each takes a rule away."""

    AGAIN = "again"  # devices that run it already get it once more
    OLDER = "older"  # it may be older than what runs
    UNKNOWN_BUILDS = "unknown-builds"  # builds that no release has may be overwritten


LIFTED = {
    Allow.AGAIN: PassedOver.ALREADY_RUNNING,
    Allow.OLDER: PassedOver.NEWER_RUNNING,
    Allow.UNKNOWN_BUILDS: PassedOver.UNKNOWN_BUILD,
}


def rules_for(release: Candidate, allow: Collection[Allow] = (), leave_out: Node | None = None) -> Rules:
    """The rules in the order in which they speak, without those that ``allow`` lifts; first of all comes who the plan
    leaves out."""
    lifted = {LIFTED[one] for one in allow}
    own = () if leave_out is None else ((PassedOver.LEFT_OUT, leave_out),)
    return (*own, *((reason, rule) for reason, rule in _all_rules(release) if reason not in lifted))


def overtaking(rules: Rules) -> Rules:
    """The rules of a rollout that takes devices over which another has not told yet, or whose turn has not come."""
    late = And((Compare("in_rollout", "=", True), Not(Compare("overtakable", "=", True))))
    return tuple((reason, late if reason is PassedOver.IN_OTHER_ROLLOUT else rule) for reason, rule in rules)


def _all_rules(release: Candidate) -> Rules:
    revision = Or((Compare("hw_rev", "<", release.hw_rev_min), Compare("hw_rev", ">", release.hw_rev_max)))
    others = (OneOf(name + DIGEST_SUFFIX, digests) for name, digests in release.others)
    step = Or(() if release.least_running is None else (Compare("version", "<", release.least_running),))
    return (
        (PassedOver.NOT_ADMITTED, Compare("admission", "!=", "admitted")),
        (PassedOver.WRONG_BOARD, Compare("board", "!=", release.board)),
        (PassedOver.WRONG_LINE, Compare("line", "!=", release.line)),
        (PassedOver.WRONG_REVISION, revision),
        (PassedOver.PINNED, Compare("pinned", "=", True)),
        # Before unknown-build: who runs these very bytes needs nothing, whatever they are called.
        (PassedOver.ALREADY_RUNNING, And((OneOf("digest", release.digests), *others))),
        (PassedOver.UNKNOWN_BUILD, Compare("known_build", "=", False)),
        (PassedOver.NEWER_RUNNING, Compare("version", ">", release.version)),
        (PassedOver.BELOW_FLOOR, Compare("floor", ">", release.floor)),
        (PassedOver.NEEDS_STEP, step),
        (PassedOver.NO_UPDATER, Compare("updater", "=", 0)),
        (PassedOver.IN_OTHER_ROLLOUT, Compare("in_rollout", "=", True)),
    )


def passed_over(rules: Rules, facts: Facts) -> PassedOver | None:
    """The reason a device with these facts is passed over, or None if it is eligible."""
    return next((reason for reason, rule in rules if matches(rule, facts)), None)
