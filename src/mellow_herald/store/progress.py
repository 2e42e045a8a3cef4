"""How far the rings of a rollout are: what ``core.decide`` goes by."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, TypedDict

from sqlalchemy import ColumnElement, DateTime, and_, case, cast, false, func, literal, or_, select
from sqlalchemy.dialects.postgresql import INTERVAL
from sqlalchemy.ext.asyncio import AsyncConnection
from sqlalchemy.orm import aliased

from mellow_herald.core.attempt import BAD, ELSEWISE, UNDER_WAY, State
from mellow_herald.core.decide import GONE, RingProgress, Unheard
from mellow_herald.core.plan import Plan
from mellow_herald.core.presence import LATE_AFTER
from mellow_herald.core.rollout import RingState
from mellow_herald.core.say import Asks
from mellow_herald.store.database import fetch_all
from mellow_herald.store.heard import HEARD_AT
from mellow_herald.store.rollouts import WENT_BAD
from mellow_herald.store.tables import AttemptRow, ClockRow, Device, Pulse, RingRow


class SetAside(TypedDict):
    """How many devices of a ring are set aside, by what they wait for (or that they are gone)."""

    ring: int
    why: str
    devices: int


_SERVED = select(ClockRow.serving_since).limit(1).scalar_subquery()


async def count_unsure(connection: AsyncConnection, rollout_id: int, now: datetime, within: timedelta) -> int:
    """Devices that may have switched after the backup that was brought back, and were not heard since: they are waited
    for as those at risk are, for as long as the plan waits for any word."""
    statement = (
        select(func.count())
        .select_from(AttemptRow)
        .outerjoin(Pulse, Pulse.device_id == AttemptRow.device_id)
        .where(
            AttemptRow.rollout_id == rollout_id,
            AttemptRow.leave_unknown,
            AttemptRow.live,
            or_(Pulse.seen_at.is_(None), Pulse.seen_at < _SERVED),
            now - within < _SERVED,
        )
    )
    return int(await connection.scalar(statement) or 0)


@dataclass(frozen=True, slots=True)
class Watching:
    """At what time, and by which of its plan's times, a rollout is looked at; ``round_at`` is when its round began."""

    rollout_id: int
    plan: Plan
    round_number: int
    round_at: datetime | None
    now: datetime


@dataclass(frozen=True, slots=True)
class _Terms:
    """What is asked of each attempt, as conditions in SQL."""

    cloned: ColumnElement[bool]
    in_grace: ColumnElement[bool]
    this_round: ColumnElement[bool]
    overdue: ColumnElement[bool]
    gone: ColumnElement[bool]
    aside: ColumnElement[bool]


def _terms(looked: Watching, serving_since: ColumnElement[datetime]) -> _Terms:
    now, plan = looked.now, looked.plan
    # Two units with one token are given nothing until one enrols again: nobody waits for that either.
    cloned = AttemptRow.device_id.in_(select(Device.id).where(Device.cloned_at.is_not(None)))
    grace = func.make_interval(0, 0, 0, 0, 0, 0, Pulse.interval_s * LATE_AFTER)
    # Nobody could call while the service was away.
    in_grace = func.greatest(HEARD_AT, RingRow.opened_at) + grace > now
    this_round = looked.round_at <= WENT_BAD if looked.round_at is not None else false()
    overdue = and_(AttemptRow.live, AttemptRow.waiting_since < now - plan.wait_at_most)
    gone = and_(
        AttemptRow.live,
        AttemptRow.state == State.QUEUED.value,
        Pulse.seen_at >= RingRow.opened_at,
        func.greatest(Pulse.seen_at, serving_since) < now - plan.answer_within,
        ~in_grace,
    )
    # Who was exposed, or went bad, is never set aside: it may be the release's own doing, and counts as not good.
    spared = or_(AttemptRow.exposed_at.is_not(None), and_(WENT_BAD.is_not(None), this_round), AttemptRow.left_out)
    aside = and_(or_(func.coalesce(overdue, false()), func.coalesce(gone, false())), ~spared, ~cloned)
    return _Terms(cloned, in_grace, this_round, func.coalesce(overdue, false()), gone, aside)


async def count_set_aside(connection: AsyncConnection, looked: Watching) -> Sequence[SetAside]:
    """The devices of a rollout that hold no ring for now, by ring and what they wait for."""
    terms = _terms(looked, _SERVED)
    why = case((terms.overdue, AttemptRow.waiting_for), else_=GONE).label("why")
    statement = (
        select(AttemptRow.ring, why, func.count().label("devices"))
        .join(RingRow, _of_ring())
        .outerjoin(Pulse, Pulse.device_id == AttemptRow.device_id)
        .where(AttemptRow.rollout_id == looked.rollout_id, AttemptRow.live, terms.aside)
        .group_by(AttemptRow.ring, why)
    )
    return await fetch_all(connection, statement, SetAside)


async def count_unstaged(connection: AsyncConnection, looked: Watching) -> dict[int, int]:
    """How many members of each ring that count have not staged yet: those that are waited for, as in
    ``ring_progress``."""
    terms = _terms(looked, _SERVED)
    before = [State.QUEUED, State.OFFERED, State.DOWNLOADING, State.FAILED, State.REVERTED, State.SILENT]
    waited_for = or_(
        and_(AttemptRow.state != State.QUEUED.value, ~terms.overdue),
        and_(AttemptRow.state == State.QUEUED.value, terms.in_grace, ~terms.overdue),
        and_(AttemptRow.state == State.QUEUED.value, Pulse.seen_at >= RingRow.opened_at, ~terms.aside),
    )
    statement = (
        select(AttemptRow.ring, func.count().label("devices"))
        .join(RingRow, _of_ring())
        .outerjoin(Pulse, Pulse.device_id == AttemptRow.device_id)
        .where(
            AttemptRow.rollout_id == looked.rollout_id,
            AttemptRow.live,
            ~AttemptRow.left_out,
            ~terms.cloned,
            AttemptRow.state.in_([state.value for state in before]),
            waited_for,
        )
        .group_by(AttemptRow.ring)
    )
    return {row.ring: row.devices for row in await connection.execute(statement)}


def _of_ring() -> Any:
    return and_(AttemptRow.rollout_id == RingRow.rollout_id, AttemptRow.ring == RingRow.position)


def _served(serving_since: datetime | None) -> ColumnElement[datetime]:
    return _SERVED if serving_since is None else literal(serving_since, DateTime(timezone=True))


# Of a confirmed device: it has called since its soak was over.
SOAK_WITNESSED = or_(AttemptRow.soak_s == 0, Pulse.seen_at >= AttemptRow.soak_until)


def soak_ends(plan: Plan, serving_since: datetime | None = None) -> ColumnElement[datetime]:
    """When the soak of a confirmed device is over: once its time is and the device has called since; one that does not
    is waited for until it counts as silent."""
    silent = func.greatest(Pulse.seen_at, _served(serving_since)) + cast(plan.answer_within, INTERVAL)
    return case((SOAK_WITNESSED, AttemptRow.soak_until), else_=func.greatest(AttemptRow.soak_until, silent))


async def ring_progress(
    connection: AsyncConnection, looked: Watching, serving_since: datetime | None = None
) -> list[RingProgress]:
    """The counts ``decide`` needs, ring by ring; ``serving_since`` is when the service last began to serve without a
    gap, by default as it was last written down."""
    served = _served(serving_since)
    terms = _terms(looked, served)
    undecided = and_(
        AttemptRow.live,
        AttemptRow.offered_at.is_not(None),
        AttemptRow.state != State.QUEUED.value,
        ~terms.overdue,
    )
    # What came about otherwise is no evidence for the release: nobody waits for it, and it is not of those that asked.
    elsewise = and_(
        AttemptRow.state == State.CALLED_OFF.value, func.coalesce(AttemptRow.reason, "").in_(sorted(ELSEWISE))
    )
    heard_of = and_(Pulse.seen_at >= RingRow.opened_at, ~terms.cloned)
    # Bad devices of earlier rounds stay in the brake's history; what was called off, or left out, does not go on.
    over = or_(
        AttemptRow.left_out,
        AttemptRow.state == State.CALLED_OFF.value,
        and_(AttemptRow.state.in_([state.value for state in BAD]), WENT_BAD.is_not(None), ~terms.this_round),
    )
    asked = and_(or_(AttemptRow.offered_at.is_not(None), heard_of), ~elsewise, ~over, ~terms.aside)
    expected = and_(
        AttemptRow.state == State.QUEUED.value, AttemptRow.live, terms.in_grace, ~terms.cloned, ~terms.overdue
    )
    soaks = soak_ends(looked.plan, serving_since)
    statement = (
        select(
            RingRow.position,
            RingRow.state,
            func.count().filter(undecided).label("undecided"),
            func.count().filter(expected).label("expected"),
            func.count(AttemptRow.id).filter(asked).label("asked"),
            func.count()
            .filter(AttemptRow.state == State.CONFIRMED.value, ~AttemptRow.left_out, AttemptRow.evidence_at.is_(None))
            .label("good"),
            func.count().filter(WENT_BAD.is_not(None), terms.this_round, ~AttemptRow.left_out).label("bad"),
            func.count(AttemptRow.id).filter(terms.aside).label("aside"),
            RingRow.stands_why,
            RingRow.asks,
            RingRow.asks_why,
            case((RingRow.anyway_round == looked.round_number, RingRow.anyway_bad)).label("anyway"),
            func.count().filter(AttemptRow.live, ~terms.cloned).label("live"),
            func.max(soaks).filter(AttemptRow.state == State.CONFIRMED.value).label("soak_until"),
            func.count(AttemptRow.id).label("targeted"),
        )
        .outerjoin(AttemptRow, _of_ring())
        .outerjoin(Pulse, Pulse.device_id == AttemptRow.device_id)
        .where(RingRow.rollout_id == looked.rollout_id)
        .group_by(RingRow.rollout_id, RingRow.position)
        .order_by(RingRow.position)
    )
    return [
        RingProgress(
            RingState(r.state),
            undecided=r.undecided,
            expected=r.expected,
            asked=r.asked,
            good=r.good,
            soak_until=r.soak_until,
            live=r.live,
            targeted=r.targeted,
            bad=r.bad,
            set_aside=r.aside,
            stands_why=r.stands_why,
            anyway=r.anyway,
            asks=None if r.asks is None else Asks(r.asks),
            asks_why=r.asks_why,
        )
        for r in await connection.execute(statement)
    ]


async def unheard(
    connection: AsyncConnection, rollout_id: int, now: datetime, answer_within: timedelta, limit: int = 5000
) -> tuple[Unheard, ...]:
    """Attempts offered … proving, or bad with tries left, whose device has not called within ``answer_within``.

    Behind a gateway that is being updated itself nobody can call: for those behind it the clock starts anew with every
    step of the gateway's attempt, and as long as the gateway itself is not heard of it stands still, for twice
    ``answer_within`` at the most.
    """
    states = [state.value for state in (UNDER_WAY | BAD) if state is not State.QUEUED]
    gateway, heard, moving = aliased(Device), aliased(Pulse), aliased(AttemptRow)
    stepped = (
        select(func.max(moving.changed_at))
        .where(moving.device_id == gateway.id, moving.exposed_at.is_not(None))
        .correlate(gateway)
        .scalar_subquery()
    )
    # Since two units use its token, no word of either is its own.
    own = func.least(Pulse.seen_at, func.coalesce(Device.cloned_at, Pulse.seen_at))
    since = func.greatest(own, stepped)
    statement = (
        select(AttemptRow.id, since.label("heard_at"))
        .join(Pulse, Pulse.device_id == AttemptRow.device_id)
        .join(Device, Device.id == AttemptRow.device_id)
        .outerjoin(gateway, gateway.serial == Device.gateway)
        .outerjoin(heard, heard.device_id == gateway.id)
        .where(
            AttemptRow.rollout_id == rollout_id,
            AttemptRow.state.in_(states),
            AttemptRow.live,
            since < now - answer_within,
            # A gateway that stays away so long does not restart: what is behind it is silent, together.
            or_(
                heard.seen_at.is_(None),
                heard.seen_at >= now - answer_within,
                heard.seen_at < now - 2 * answer_within,
            ),
        )
        .order_by(AttemptRow.id)
        .limit(limit)
    )
    return tuple(Unheard(row.id, row.heard_at) for row in await connection.execute(statement))
