"""A plan against the fleet: what it names looked up, and whom its rings would have."""

import asyncio
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from hashlib import sha256
from typing import Any

import numpy as np
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.firmware import APP
from mellow_herald.core.placement import Candidate, Rules, overtaking, rules_for
from mellow_herald.core.plan import Plan
from mellow_herald.core.rings import MOST_STRATA, NONE, Placed, place
from mellow_herald.core.selector import parse_selector
from mellow_herald.service.offering import check_offerable
from mellow_herald.service.problems import ProblemError
from mellow_herald.store import placing, releases, selections
from mellow_herald.store.gate import Lock, share
from mellow_herald.store.placing import Target
from mellow_herald.wire.plan import PlanDocument

Row = Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class Prepared:
    """A plan with what it names: ``target_text`` is the selector with selections put in, ``images`` those of the
    release with ``name``, ``digest``, ``size``."""

    document: PlanDocument
    plan: Plan
    target_text: str
    target: Target
    release: Row
    images: Sequence[Row]


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


def plan_of(row: Row) -> Plan:
    """The plan of a stored rollout."""
    return PlanDocument.model_validate(row["plan"]).to_plan()


def target_of(row: Row, plan: Plan) -> Target:
    """Whom a stored rollout is for."""
    rules = rules_of(row, row["images"], plan)
    return Target(parse_selector(row["target"]), overtaking(rules) if row["overtakes"] else rules)


def rules_of(release: Row, images: Sequence[Row], plan: Plan | None = None) -> Rules:
    """Who is passed over by a plan for a release (or rollout) row with these images."""
    own = tuple(image["digest"] for image in images if image["name"] == APP)
    names = sorted({image["name"] for image in images} - {APP})
    others = tuple((name, tuple(i["digest"] for i in images if i["name"] == name)) for name in names)
    candidate = Candidate(
        release["board"], release["line"], release["version"], release["floor"], own,
        release["hw_rev_min"], release["hw_rev_max"], release["needs"].get(APP), others,
    )  # fmt: skip
    leave_out = None if plan is None or plan.leave_out is None else parse_selector(plan.leave_out)
    return rules_for(candidate, plan.allow if plan else (), leave_out)


async def prepare(connection: AsyncConnection, document: PlanDocument, *, overtake: bool = False) -> Prepared:
    """Looks up what a plan names; raises a problem where there is no such thing, or it may not be offered."""
    plan = document.to_plan()
    text = await resolve_target(connection, plan.target)
    # Held until the caller is done: neither a withdrawal nor a revocation slips in between.
    await share(connection, Lock.KEYS)
    name = plan.release
    release = await releases.find_release(connection, name.board, name.line, name.version, share=True)
    if release is None:
        raise ProblemError(422, "unknown-release", f"There is no release {name}. See `herald release list`.")
    await check_offerable(connection, release)
    images = await releases.components_of(connection, release["id"])
    if overtake and not plan.needs.urgent:
        raise ProblemError(
            422, "not-urgent", "Only an urgent plan may overtake another rollout. Set urgent = true if it is."
        )
    rules = rules_of(release, images, plan)
    target = Target(parse_selector(text), overtaking(rules) if overtake else rules)
    return Prepared(document, plan, text, target, release, images)


async def resolve_target(connection: AsyncConnection, text: str) -> str:
    """A target's selector; ``@NAME`` stands for that of a selection."""
    if not text.startswith("@"):
        return text
    rows = await selections.list_selections(connection, text[1:].strip().replace("\x00", ""))
    if not rows:
        raise ProblemError(
            422, "unknown-selection", f"There is no selection {text[1:]!r}. See `herald selection list`."
        )
    return str(rows[0]["selector"])


def salt_of(plan: Plan) -> int:
    """What the draw of a plan's rings depends on besides the devices: preview and start draw alike, and another release
    does not meet the same devices first."""
    return int.from_bytes(sha256(f"{plan.name}\n{plan.release}".encode()).digest()[:8], "big")


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
    groups, passed = await placing.load_groups(connection, target, plan.rings, now, rollout_id=rollout_id)
    if len(groups) > MOST_STRATA:
        raise ProblemError(
            422, "too-many-strata",
            f"spread_over makes {len(groups)} groups of devices; {MOST_STRATA} are the most. "
            "Spread over facts with few values.",
        )  # fmt: skip
    everyone = np.concatenate([NONE, *(group.ids for group in groups)])
    named = {}
    for position, ring in enumerate(plan.rings):
        if ring.serials and position >= first:
            ids = await placing.ids_of(connection, ring.serials)
            named[position] = ids[np.isin(ids, everyone)]
    # In a thread: with a million devices it takes long enough for a device's call to wait for it.
    placed = await asyncio.to_thread(place, plan.rings, groups, named, salt_of(plan), first=first, given=given)
    return Drawn(placed, len(everyone), passed)
