"""A plan against the fleet: what it names looked up, and whom its rings would have."""

import asyncio
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from hashlib import sha256
from typing import Any, TypedDict

import numpy as np
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.arms import Compared
from mellow_herald.core.eligibility import Candidate, Rules, overtaking, rules_for
from mellow_herald.core.firmware import APP
from mellow_herald.core.lot import by_lot
from mellow_herald.core.needs import Needs
from mellow_herald.core.plan import Plan
from mellow_herald.core.release_name import ReleaseName
from mellow_herald.core.rings import MOST_STRATA, NONE, Ids, Placed, place
from mellow_herald.core.selector import parse_selector
from mellow_herald.core.topology import Topology
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.releases.offering import check_offerable
from mellow_herald.store import releases, rings, rollouts, selections, topology
from mellow_herald.store.gate import Lock, share
from mellow_herald.store.lists import find_list
from mellow_herald.store.releases import ComponentImage
from mellow_herald.store.rings import Target
from mellow_herald.store.rollouts import BroughtRelease, RolloutOfRelease
from mellow_herald.store.rows import StoredRelease, StoredRollout
from mellow_herald.wire.plan import PlanDocument

LIST = re.compile(r"\bin_list\s*=\s*(\d{1,18})\b")


class Planned(TypedDict):
    """What has a plan."""

    plan: dict[str, Any]


class Offered(TypedDict):
    """What a release or a rollout says of whom it is for."""

    board: str
    line: str
    version: str
    floor: int
    hw_rev_min: int
    hw_rev_max: int
    needs: dict[str, Any]


class Digested(TypedDict):
    """An image of a component."""

    name: str
    version: str
    digest: str


class Sized(TypedDict):
    """An image of a component, and its size in bytes."""

    name: str
    size: int


@dataclass(frozen=True, slots=True)
class Prepared:
    """A plan with what it names: ``target_text`` is the selector with selections put in, ``images`` those of the
    release with ``name``, ``digest``, ``size``; ``second`` and ``second_images`` are the other release, where two are
    compared."""

    document: PlanDocument
    plan: Plan
    target_text: str
    target: Target
    release: StoredRelease
    images: Sequence[ComponentImage]
    second: StoredRelease | None = None
    second_images: Sequence[ComponentImage] = ()

    @property
    def size(self) -> int:
        """What one device has to fetch, in bytes; of two releases that are compared, the larger."""
        return max(size_of(self.images), size_of(self.second_images))


@dataclass(frozen=True, slots=True)
class Drawn:
    """Whom the rings would have: ``eligible`` counts all who are eligible, ``passed_over`` the others by reason."""

    placed: list[Placed]
    eligible: int
    passed_over: dict[str, int]

    @property
    def counts(self) -> list[int]:
        """How many devices each ring would have."""
        return [len(one.ids) for one in self.placed]

    @property
    def targeted(self) -> int:
        """All that the target matches."""
        return self.eligible + sum(self.passed_over.values())


def plan_of(row: Planned) -> Plan:
    """The plan of a stored rollout."""
    return PlanDocument.model_validate(row["plan"]).to_plan()


def compared_by(row: StoredRollout, plan: Plan) -> Compared | None:
    """What a stored rollout compares; None where it brings one release."""
    if not plan.arms or row["second_release_id"] is None:
        return None
    return Compared((plan.arms[0].name, plan.arms[1].name), row["second_release_id"], row["chosen"])


def needs_of(plan: Mapping[str, Any]) -> Needs:
    """What a stored plan needs of a device's condition."""
    return PlanDocument.model_validate(plan).needs


def brought(row: RolloutOfRelease) -> list[BroughtRelease]:
    """The releases that a stored rollout brings from now on: both that it compares, until one is chosen."""
    both: list[BroughtRelease] = [row] if row["second"] is None else [row, row["second"]]
    return both if row["chosen"] is None else [both[row["chosen"]]]


def target_of(row: RolloutOfRelease, plan: Plan) -> Target:
    """Whom a stored rollout is for: where two releases are compared, who may get either of them, until one is
    chosen."""
    releases_of = brought(row)
    rules = tuple(rule for release in releases_of for rule in rules_of(release, release["images"], plan))
    several = any(image["name"] != APP for release in releases_of for image in release["images"])
    return Target(parse_selector(row["target"]), overtaking(rules) if row["overtakes"] else rules, several)


def rules_of(release: Offered, images: Sequence[Digested], plan: Plan | None = None) -> Rules:
    """Who is passed over by a plan for a release (or rollout) row with these images."""
    own = tuple(image["digest"] for image in images if image["name"] == APP)
    names = sorted({image["name"] for image in images} - {APP})
    others = tuple((name, tuple(i["digest"] for i in images if i["name"] == name)) for name in names)
    candidate = Candidate(
        release["board"],
        release["line"],
        release["version"],
        release["floor"],
        own,
        release["hw_rev_min"],
        release["hw_rev_max"],
        release["needs"].get(APP),
        others,
        tuple(sorted({image["name"]: image["version"] for image in images if image["name"] != APP}.items())),
    )
    leave_out = None if plan is None or plan.leave_out is None else parse_selector(plan.leave_out)
    return rules_for(candidate, plan.allow if plan else (), leave_out, plan.radio.region if plan else None)


def size_of(images: Sequence[Sized]) -> int:
    """What one device has to fetch, in bytes: an image of each component; where slots differ, the largest."""
    largest: dict[str, int] = {}
    for image in images:
        largest[image["name"]] = max(largest.get(image["name"], 0), image["size"])
    return sum(largest.values())


async def prepare(
    connection: AsyncConnection,
    document: PlanDocument,
    now: datetime,
    *,
    overtake: bool = False,
    scratch: int | None = None,
) -> Prepared:
    """Looks up what a plan names; raises a problem where there is no such thing, or it may not be offered. ``scratch``
    is the scratch image that is meant instead of a release of that name."""
    plan = document.to_plan()
    text = await resolve_target(connection, plan.target)
    # Held until the caller is done: neither a withdrawal nor a revocation slips in between.
    await share(connection, Lock.KEYS)
    release = await _offered(connection, plan.release, scratch)
    images = await releases.components_of(connection, release["id"])
    second, second_images = None, []
    if plan.arms:
        second = await _offered(connection, plan.arms[1].release)
        second_images = await releases.components_of(connection, second["id"])
    if overtake and not plan.needs.urgent:
        raise ProblemError(
            422, "not-urgent", "Only an urgent plan may overtake another rollout. Set urgent = true if it is."
        )
    rules = rules_of(release, images, plan)
    if second is not None:
        # The lot is drawn among those who may get either.
        rules += rules_of(second, second_images, plan)
    several = any(image["name"] != APP for image in (*images, *second_images))
    target = Target(parse_selector(text), overtaking(rules) if overtake else rules, several)
    await _refuse_circles(connection, target, now)
    return Prepared(document, plan, text, target, release, images, second, second_images)


async def _offered(connection: AsyncConnection, name: ReleaseName, scratch: int | None = None) -> StoredRelease:
    if scratch is None:
        release = await releases.find_release(connection, name.board, name.line, name.version, share=True)
    else:
        release = await releases.lock_release(connection, scratch)
    if release is None:
        raise ProblemError(422, "unknown-release", f"There is no release {name}. See `herald release list`.")
    await check_offerable(connection, release)
    return release


async def _refuse_circles(connection: AsyncConnection, target: Target, now: datetime) -> None:
    """Gateways that are behind each other would wait for each other for ever."""
    for circle in Topology(await topology.gateways_behind_gateways(connection)).circles():
        if await topology.targeted(connection, circle, target.where, now):
            way = " → ".join([*circle, circle[0]])
            raise ProblemError(
                422,
                "gateways-in-a-circle",
                f"These gateways are behind each other: {way}. Say which one has none before it: "
                f'herald device gateway {circle[0]} "".',
            )


async def resolve_target(connection: AsyncConnection, text: str) -> str:
    """A target's selector; ``@NAME`` stands for that of a selection."""
    for number in LIST.findall(text):
        if await find_list(connection, int(number)) is None:
            raise ProblemError(
                422,
                "unknown-list",
                f"There is no list {number}. Send the list to /api/v1/lists first; `herald rollout start` does so with "
                "a plan's target_file.",
            )
    if not text.startswith("@"):
        return text
    rows = await selections.list_selections(connection, text[1:].strip().replace("\x00", ""))
    if not rows:
        raise ProblemError(
            422, "unknown-selection", f"There is no selection {text[1:]!r}. See `herald selection list`."
        )
    return str(rows[0]["selector"])


async def add_exception(connection: AsyncConnection, row: RolloutOfRelease, selector: str) -> RolloutOfRelease:
    """Adds to what a rollout's plan leaves out: rings that open later heed it. The caller holds its gate."""
    before = PlanDocument.model_validate(row["plan"])
    joined = selector if before.leave_out is None else f"({before.leave_out}) or ({selector})"
    after = PlanDocument.model_validate({**before.model_dump(), "leave_out": joined})
    after.to_plan()
    plan, revision = after.model_dump(mode="json"), row["revision"] + 1
    await rollouts.change_rollout(connection, row["id"], plan=plan, revision=revision)
    return {**row, "plan": plan, "revision": revision}


def salt_of(plan: Plan) -> int:
    """What the draw of a plan's rings depends on besides the devices: preview and start draw alike, and another release
    does not meet the same devices first."""
    return int.from_bytes(sha256(f"{plan.name}\n{plan.release}".encode()).digest()[:8], "big")


def lots(plan: Plan, drawn: Drawn, first: int = 0) -> dict[int, Ids]:
    """Which devices of the rings from ``first`` on get the second of two releases that the plan compares, by the
    ring's position; of the last ring nobody, which gets the one that is chosen."""
    if not plan.arms:
        return {}
    placed = enumerate(drawn.placed, first)
    # Each ring has a draw of its own: who stands first in one would otherwise tell how the next begins.
    return {
        position: by_lot(one.strata, plan.arms[1].share, salt_of(plan) + position)
        for position, one in placed
        if position < len(plan.rings) - 1
    }


async def draw(
    connection: AsyncConnection,
    plan: Plan,
    target: Target,
    now: datetime,
    *,
    rollout_id: int | None = None,
    first: int = 0,
    given: int = 0,
) -> Drawn:
    """Whom the rings from ``first`` on would have now; who has an attempt of ``rollout_id`` already is left out."""
    groups, passed = await rings.load_groups(connection, target, plan.rings, now, rollout_id=rollout_id)
    if len(groups) > MOST_STRATA:
        raise ProblemError(
            422,
            "too-many-strata",
            f"spread_over makes {len(groups)} groups of devices; {MOST_STRATA} are the most. "
            "Spread over facts with few values.",
        )
    everyone = np.concatenate([NONE, *(group.ids for group in groups)])
    named = {}
    for position, ring in enumerate(plan.rings):
        if ring.serials and position >= first:
            ids = await rings.ids_of(connection, ring.serials)
            named[position] = ids[np.isin(ids, everyone)]
    # In a thread: with a million devices it takes long enough for a device's call to wait for it.
    placed = await asyncio.to_thread(place, plan.rings, groups, named, salt_of(plan), first=first, given=given)
    return Drawn(placed, len(everyone), passed)
