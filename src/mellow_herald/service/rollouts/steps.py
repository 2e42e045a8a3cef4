"""In which order a plan stages and switches, step by step, before it does anything."""

from collections.abc import Iterator, Mapping
from datetime import datetime
from statistics import median

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.calendar import Use, next_opening
from mellow_herald.core.component import Kind, Storage
from mellow_herald.core.plan import Plan, SwitchWhen
from mellow_herald.core.suit import switch_order
from mellow_herald.core.topology import CutOff, Topology, cut_off, waves
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.rollouts.planning import Prepared, draw, prepare
from mellow_herald.service.rollouts.reach import load
from mellow_herald.store import alarms, boards, families
from mellow_herald.store.releases import component_of
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.topology import RestartPreview, StepOut, StepsOut

FIRST = 12
MOST = 200_000


async def steps(context: Context, document: PlanDocument, *, first: int | None = FIRST) -> StepsOut:
    """What the plan would do now, in order; of each step the ``first`` serials, or all of them."""
    now = context.clock.now()
    async with context.engine.connect() as connection:
        prepared = await prepare(connection, document, now)
        drawn = await draw(connection, prepared.plan, prepared.target, now)
        if sum(drawn.counts) > MOST:
            raise ProblemError(
                422, "too-many-devices", f"Steps are listed for at most {MOST} devices. Plan one yard, or one ring."
            )
        rings = [[row["serial"] for row in await families.of_ids(connection, one.ids.tolist())] for one in drawn.placed]
        tree = await load(connection)
        members = frozenset(serial for ring in rings for serial in ring)
        leading = [serial for serial in members if tree.children(serial)]
        took = {serial: median(times) for serial, times in (await alarms.restart_times(connection, leading)).items()}
        restart = await _restarts(connection, prepared)
    numbered = _Numbered(prepared.plan, tree, members, took if restart else {}, first, restart=restart)
    found = [
        step for name, ring in zip(prepared.plan.rings, rings, strict=True) for step in numbered.of(name.name, ring)
    ]
    return StepsOut(
        now=now,
        name=document.name,
        release=document.release,
        parts=[list(group) for group in switch_order([component_of(image) for image in prepared.images])],
        restart=restart,
        steps=found,
        notes=[*_notes(prepared.plan, tree, rings, now)],
    )


async def _restarts(connection: AsyncConnection, prepared: Prepared) -> bool:
    """Whether a device restarts for this release: not for what has a place, nor for what is streamed."""
    if prepared.release["restart"]:
        return True
    row = await boards.find_board(connection, prepared.release["board"])
    facts = None if row is None else boards.board_facts(row)
    return any(
        component_of(image).kind is Kind.FIRMWARE
        and (facts is None or facts.storage_of(image["name"]) is not Storage.STREAMED)
        for image in prepared.images
    )


class _Numbered:
    """Steps with running numbers."""

    def __init__(
        self,
        plan: Plan,
        tree: Topology,
        members: frozenset[str],
        took: Mapping[str, float],
        first: int | None,
        *,
        restart: bool,
    ) -> None:
        self._plan, self._tree, self._members, self._took = plan, tree, members, took
        self._first, self._restart, self._number = first, restart, 0

    def of(self, ring: str, serials: list[str]) -> Iterator[StepOut]:
        """The steps of one ring."""
        if not serials:
            return
        before = [f"ring {ring} opens"]
        yield self._step(ring, "stage", sorted(serials), before)
        order = self._plan.order
        groups = waves(self._tree, serials) if order.keep_reachable else [sorted(serials)]
        for number, group in enumerate(groups):
            waits = []
            if order.switch is SwitchWhen.ALL_STAGED:
                waits.append(f"all of ring {ring} have staged")
            if self._plan.calendar.asks_for(Use.SWITCH):
                waits.append("a window for switching is open")
            if number:
                waits.append("all behind each of them are decided")
            yield self._step(ring, "switch", group, waits or ["each has staged"])

    def _step(self, ring: str, do: str, serials: list[str], waits_for: list[str]) -> StepOut:
        self._number += 1
        cuts = cut_off(self._tree, serials, self._members, self._took) if do == "switch" and self._restart else ()
        return StepOut(
            number=self._number,
            ring=ring,
            do=do,
            devices=len(serials),
            first=serials[: self._first],
            waits_for=waits_for,
            restarts=[self._shown(one) for one in cuts],
        )

    def _shown(self, cut: CutOff) -> RestartPreview:
        first = list(cut.outside[: self._first])
        return RestartPreview(
            gateway=cut.gateway, outside=len(cut.outside), first=first, inside=cut.inside, seconds=cut.seconds
        )


def _notes(plan: Plan, tree: Topology, rings: list[list[str]], now: datetime) -> Iterator[str]:
    if plan.calendar.asks_for(Use.SWITCH):
        opens = next_opening(plan.calendar.windows, Use.SWITCH, plan.calendar.zone, now)
        if opens is not None:
            yield f"The next window for switching opens {opens.astimezone(plan.calendar.zone):%Y-%m-%d %H:%M %Z}."
    later: set[str] = set()
    for position in reversed(range(len(rings))):
        for serial in rings[position]:
            waiting = [one for one in tree.behind(serial) if one in later]
            if waiting:
                yield (
                    f"{serial} is switched in ring {plan.rings[position].name!r} before {len(waiting)} devices behind "
                    f"it, which come in later rings ({', '.join(waiting[:3])}{' …' if len(waiting) > 3 else ''}): put "
                    "it into the ring of the last of them."
                )
        later |= set(rings[position])
