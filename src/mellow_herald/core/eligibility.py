"""Who is passed over: an ordered list of reasons, each with a selector; the first that matches is the reason.

Because every rule is a selector, the same list works on facts in memory and, compiled, in the database. Which ring a
device comes to is in ``core.rings``.
"""

from collections.abc import Collection
from dataclasses import dataclass
from enum import StrEnum

from mellow_herald.core.selector import And, Compare, Has, Like, Node, Not, OneOf, Or, matches
from mellow_herald.core.selector.match import Facts
from mellow_herald.core.selector.tree import COMPONENT_SUFFIX, DIGEST_SUFFIX


class PassedOver(StrEnum):
    """Why a targeted device gets no attempt."""

    LEFT_OUT = "left-out"
    NOT_ADMITTED = "not-admitted"
    TOKEN_SHARED = "token-shared"
    WRONG_BOARD = "wrong-board"
    WRONG_LINE = "wrong-line"
    WRONG_REVISION = "wrong-revision"
    PINNED = "pinned"
    BENCH_BUILD = "bench-build"
    UNKNOWN_BUILD = "unknown-build"
    ALREADY_RUNNING = "already-running"
    NEWER_RUNNING = "newer-running"
    BELOW_FLOOR = "below-floor"
    NEEDS_STEP = "needs-step"
    NO_UPDATER = "no-updater"
    NO_PART = "no-part"
    NO_RADIO_PACKAGES = "no-radio-packages"
    NO_RADIO_KEY = "no-radio-key"
    OTHER_REGION = "other-region"
    IN_OTHER_ROLLOUT = "in-other-rollout"


IN_WORDS = {
    PassedOver.LEFT_OUT: "the plan leaves them out",
    PassedOver.NOT_ADMITTED: "not admitted",
    PassedOver.TOKEN_SHARED: "two devices use one token: nobody knows which is meant",
    PassedOver.WRONG_BOARD: "another board",
    PassedOver.WRONG_LINE: "another line",
    PassedOver.WRONG_REVISION: "a hardware revision the release is not for",
    PassedOver.PINNED: "pinned by an engineer",
    PassedOver.BENCH_BUILD: "run a bench build that somebody works with",
    PassedOver.UNKNOWN_BUILD: "run a build that no release has",
    PassedOver.ALREADY_RUNNING: "run the release already",
    PassedOver.NEWER_RUNNING: "run something newer",
    PassedOver.BELOW_FLOOR: "their floor number is higher",
    PassedOver.NEEDS_STEP: "need a release in between first",
    PassedOver.NO_UPDATER: "their firmware has no updater",
    PassedOver.NO_PART: "lack a part that the release brings",
    PassedOver.NO_RADIO_PACKAGES: "on narrow radio, without the packages for clock, groups and fragments",
    PassedOver.NO_RADIO_KEY: "on narrow radio, and their root key is not on record",
    PassedOver.OTHER_REGION: "on narrow radio of another region",
    PassedOver.IN_OTHER_ROLLOUT: "in another rollout",
}


# The same said of one device, and what can be done about it. ``{serial}`` stands for its serial.
OF_ONE = {
    PassedOver.LEFT_OUT: ("is left out by the plan", "Take it out of leave_out."),
    PassedOver.NOT_ADMITTED: ("is not admitted", "Let it in first: herald device admit {serial}."),
    PassedOver.TOKEN_SHARED: (
        "shares its token with another unit: nobody knows which is meant",
        "Find the second unit, let the right one enrol again (herald device allow-enrolment {serial}), then settle it.",
    ),
    PassedOver.WRONG_BOARD: ("is another board", "Choose a release for its board: herald device show {serial}."),
    PassedOver.WRONG_LINE: ("is of another line", "Choose a release of its line: herald device show {serial}."),
    PassedOver.WRONG_REVISION: ("has a hardware revision it is not for", "Build it for that revision as well."),
    PassedOver.PINNED: ("is pinned", "Take the pin off: herald device pin {serial} --off."),
    PassedOver.BENCH_BUILD: ("runs a bench build", "If that may be overwritten, say --over-bench-build."),
    PassedOver.UNKNOWN_BUILD: (
        "runs a build that no release has",
        "If that may be overwritten, say --over-unknown-build.",
    ),
    PassedOver.ALREADY_RUNNING: ("runs these very bytes already", "If it is to get them once more, say --again."),
    PassedOver.NEWER_RUNNING: ("runs a newer version", "If the older one is meant, say --older."),
    PassedOver.BELOW_FLOOR: (
        "has a higher floor number and would refuse it for good",
        "Build it with that floor number or a higher one.",
    ),
    PassedOver.NEEDS_STEP: ("needs a release in between first", "Bring it that one, then this."),
    PassedOver.NO_UPDATER: ("runs firmware without an updater", "It can be flashed by cable only."),
    PassedOver.NO_PART: ("lacks a part that it brings", "Seal a release without that part for it."),
    PassedOver.NO_RADIO_PACKAGES: (
        "is on narrow radio and lacks a package for clock, groups or fragments",
        "If it has them, say so: herald radio set {serial} --packages 2,2,2.",
    ),
    PassedOver.NO_RADIO_KEY: (
        "is on narrow radio and its root key is not on record",
        "Add it: herald radio key {serial} --file KEY.",
    ),
    PassedOver.OTHER_REGION: (
        "is on narrow radio of another region than [radio] in the plan",
        "Correct the plan, or the device: herald radio set {serial} --region REGION.",
    ),
    PassedOver.IN_OTHER_ROLLOUT: (
        "is in another rollout",
        "Wait for it, or call it off there: herald device show {serial} names it.",
    ),
}


@dataclass(frozen=True, slots=True)
class Candidate:
    """What placement needs to know of the release: ``digests`` are those of its ``app`` images (one, or one for each
    slot; none where it brings other components alone), ``others`` those of its other components by name and
    ``versions`` their versions, ``least_running`` the version of ``app`` a device must run
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
    versions: tuple[tuple[str, str], ...] = ()


Rules = tuple[tuple[PassedOver, Node], ...]
NOBODY = Or(())


class Allow(StrEnum):
    """What a plan may ask for in so many words; each takes a rule away."""

    AGAIN = "again"  # devices that run it already get it once more
    OLDER = "older"  # it may be older than what runs
    UNKNOWN_BUILDS = "unknown-builds"  # builds that no release has may be overwritten
    BENCH_BUILDS = "bench-builds"  # what is being developed on bench devices may be overwritten


LIFTED = {
    Allow.AGAIN: PassedOver.ALREADY_RUNNING,
    Allow.OLDER: PassedOver.NEWER_RUNNING,
    Allow.UNKNOWN_BUILDS: PassedOver.UNKNOWN_BUILD,
    Allow.BENCH_BUILDS: PassedOver.BENCH_BUILD,
}


def rules_for(
    release: Candidate, allow: Collection[Allow] = (), leave_out: Node | None = None, region: str | None = None
) -> Rules:
    """The rules in the order in which they speak, without those that ``allow`` lifts; first of all comes who the plan
    leaves out. ``region`` is that of the radio network by which devices on narrow radio are reached."""
    lifted = {LIFTED[one] for one in allow}
    own = () if leave_out is None else ((PassedOver.LEFT_OUT, leave_out),)
    return (*own, *((reason, rule) for reason, rule in _all_rules(release, region) if reason not in lifted))


def overtaking(rules: Rules) -> Rules:
    """The rules of a rollout that takes devices over which another has not told yet, or whose turn has not come."""
    late = And((Compare("in_rollout", "=", True), Not(Compare("overtakable", "=", True))))
    return tuple((reason, late if reason is PassedOver.IN_OTHER_ROLLOUT else rule) for reason, rule in rules)


def _all_rules(release: Candidate, region: str | None) -> Rules:
    revision = Or((Compare("hw_rev", "<", release.hw_rev_min), Compare("hw_rev", ">", release.hw_rev_max)))
    others = [OneOf(name + DIGEST_SUFFIX, digests) for name, digests in release.others]
    # Without firmware for `app`, nothing is said of what runs there: it may be an unknown build, and newer.
    app = bool(release.digests)
    has_it = And((*([OneOf("digest", release.digests)] if app else []), *others))
    newer = [Compare(name + COMPONENT_SUFFIX, ">", version) for name, version in release.versions]
    # Who does not tell its parts is asked by trying: it refuses what it has no room for.
    lacks = [And((Has("parts"), Not(Like("parts", f"*,{name},*")))) for name, _ in release.others]
    other_region = NOBODY if region is None else And((Has("radio"), Compare("radio_region", "!=", region)))
    step = Or(() if release.least_running is None else (Compare("version", "<", release.least_running),))
    return (
        (PassedOver.NOT_ADMITTED, Compare("admission", "!=", "admitted")),
        (PassedOver.TOKEN_SHARED, Compare("cloned", "=", True)),
        (PassedOver.WRONG_BOARD, Compare("board", "!=", release.board)),
        (PassedOver.WRONG_LINE, Compare("line", "!=", release.line)),
        (PassedOver.WRONG_REVISION, revision),
        (PassedOver.PINNED, Compare("pinned", "=", True)),
        # Before unknown-build: who runs these very bytes needs nothing, whatever they are called.
        (PassedOver.ALREADY_RUNNING, has_it),
        (PassedOver.BENCH_BUILD, Compare("runs", "=", "bench-build") if app else NOBODY),
        (PassedOver.UNKNOWN_BUILD, Compare("runs", "=", "unknown-build") if app else NOBODY),
        (PassedOver.NEWER_RUNNING, Compare("version", ">", release.version) if app else Or(tuple(newer))),
        (PassedOver.NO_PART, Or(tuple(lacks))),
        (PassedOver.BELOW_FLOOR, Compare("floor", ">", release.floor)),
        (PassedOver.NEEDS_STEP, step),
        (PassedOver.NO_UPDATER, Compare("updater", "=", 0)),
        (PassedOver.NO_RADIO_PACKAGES, Compare("radio", "=", "no-packages")),
        (PassedOver.NO_RADIO_KEY, Compare("radio", "=", "no-key")),
        (PassedOver.OTHER_REGION, other_region),
        (PassedOver.IN_OTHER_ROLLOUT, Compare("in_rollout", "=", True)),
    )


def lone_reason(serial: str, what: str, reason: PassedOver | None) -> str:
    """Why one device would not get ``what``, and what can be done, in words; None: there is no such device."""
    if reason is None:
        return f"There is no device {serial!r}. See `herald device list`."
    why, mend = OF_ONE[reason]
    return f"{serial} would not get {what}: it {why}. {mend.format(serial=serial)}"


def passed_over(rules: Rules, facts: Facts) -> PassedOver | None:
    """The reason a device with these facts is passed over, or None if it is eligible."""
    return next((reason for reason, rule in rules if matches(rule, facts)), None)
