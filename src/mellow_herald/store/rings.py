"""Who comes to which ring: counting a target, drawing rings, and giving devices their attempts slice by slice."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from types import MappingProxyType
from typing import Any, TypedDict

import numpy as np
from sqlalchemy import (
    CTE,
    BigInteger,
    ColumnElement,
    Executable,
    SQLColumnExpression,
    Text,
    and_,
    any_,
    case,
    cast,
    delete,
    exists,
    func,
    literal,
    or_,
    select,
    text,
    update,
)
from sqlalchemy.dialects.postgresql import ARRAY, JSONB, array, insert
from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.arms import Compared
from mellow_herald.core.attempt import State
from mellow_herald.core.eligibility import PassedOver, Rules
from mellow_herald.core.plan import Plan, Ring
from mellow_herald.core.rings import NONE, Group, Ids, Placed
from mellow_herald.core.selector import Node, parse_selector
from mellow_herald.store.arms import Arms, arms_of
from mellow_herald.store.database import fetch_all
from mellow_herald.store.selector_sql import IN_ROLLOUT_OF_ALL, column_of, compile_reason, compile_selector
from mellow_herald.store.tables import AttemptRow, Device, PassedOverRow, RingRow, RingSlice

SLICE = 5_000
NO_VALUE = "(none)"


class DrawnRow(TypedDict):
    """A device that a ring is to have."""

    id: int
    serial: str
    hw_rev: int
    version: str | None
    labels: dict[str, str]


@dataclass(frozen=True, slots=True)
class Target:
    """Whom a rollout is for: the selector, and the rules by which devices are passed over; ``several`` tells that its
    release has more components than ``app``."""

    where: Node
    rules: Rules
    several: bool = False


@dataclass(frozen=True, slots=True)
class Portion:
    """Devices that are given their attempts in one transaction; ``number`` is that of the drawn slice they are,
    ``second`` those of them that get the second of two releases by lot."""

    ids: list[int]
    number: int | None = None
    second: list[int] | None = None


async def count_target(connection: AsyncConnection, target: Target, now: datetime) -> dict[str | None, int]:
    """How many targeted devices are eligible (key None) and how many are passed over, by reason."""
    reason = compile_reason(target.rules, now, in_rollout=IN_ROLLOUT_OF_ALL).label("reason")
    inner = select(reason).where(compile_selector(target.where, now)).subquery()
    await _share_the_work(connection)
    statement = select(inner.c.reason, func.count().label("devices")).group_by(inner.c.reason)
    return {row.reason: row.devices for row in await connection.execute(statement)}


async def load_groups(
    connection: AsyncConnection, target: Target, rings: Sequence[Ring], now: datetime, *, rollout_id: int | None = None
) -> tuple[list[Group], dict[str, int]]:
    """The eligible devices in groups for ``core.rings.place``, and how many are passed over, by reason.

    Devices that have an attempt of ``rollout_id`` are left out.
    """
    names = sorted({name for ring in rings for name in ring.spread_over})
    picks = {
        n: compile_selector(parse_selector(ring.where), now) for n, ring in enumerate(rings) if ring.where is not None
    }
    inner = select(
        Device.id,
        compile_reason(target.rules, now, in_rollout=IN_ROLLOUT_OF_ALL).label("reason"),
        *(fact_text(name, now).label(f"fact{n}") for n, name in enumerate(names)),
        *(func.coalesce(picked, False).label(f"pick{n}") for n, picked in picks.items()),
    ).where(compile_selector(target.where, now))
    if rollout_id is not None:
        inner = inner.where(~_attempted(rollout_id))
    found = inner.offset(0).subquery()  # without an offset, the reason would be worked out twice for each device
    columns = [column for column in found.c if column.name != "id"]
    await _share_the_work(connection)
    # A few groups of very many devices each: hashed in one pass. The planner, which cannot foresee how few there are,
    # would sort a million wide rows.
    await connection.execute(
        text("SELECT set_config('work_mem', '256MB', true), set_config('enable_sort', 'off', true)")
    )
    statement = select(
        *columns,
        func.count().label("devices"),
        func.array_agg(found.c.id).filter(found.c.reason.is_(None)).label("ids"),
    ).group_by(*columns)
    found_rows = (await connection.execute(statement)).mappings().all()
    await connection.execute(text("SELECT set_config('enable_sort', 'on', true)"))
    groups: list[Group] = []
    passed: dict[str, int] = {}
    for row in found_rows:
        if row["reason"] is not None:
            passed[row["reason"]] = passed.get(row["reason"], 0) + row["devices"]
            continue
        facts = {name: row[f"fact{n}"] for n, name in enumerate(names)}
        picked = tuple(row[f"pick{n}"] if n in picks else False for n in range(len(rings)))
        groups.append(Group(facts, picked, np.sort(np.array(row["ids"], np.int64))))
    return groups, passed


async def _share_the_work(connection: AsyncConnection) -> None:
    """Lets the next statements of this transaction use several processes: most of their time goes into working out
    the reason of each device, which the planner takes to cost nothing."""
    changes = {"parallel_setup_cost": "0", "parallel_tuple_cost": "0", "jit": "off"}
    await connection.execute(text("SELECT " + ", ".join(f"set_config('{n}', '{v}', true)" for n, v in changes.items())))


def fact_text(name: str, now: datetime | None) -> ColumnElement[str]:
    """A fact or label as text, as devices are spread over it and watched by it."""
    column = Device.version if name == "version" else cast(column_of(name, now), Text)
    return func.coalesce(column, NO_VALUE)


def frozen_facts() -> ColumnElement[Any]:
    """What an attempt keeps of its device as it was when the attempt began, as text: what devices are watched by and
    compared by, whatever becomes of the device meanwhile."""
    known: dict[str, SQLColumnExpression[Any]] = {
        "hw_rev": cast(Device.hw_rev, Text),
        "version": Device.version,
        "board": Device.board,
        "line": Device.line,
    }
    # Most devices have no gateway. To leave out what is missing takes as long as all of this.
    own = case(
        (and_(Device.version.is_not(None), Device.gateway.is_(None)), _object(known)),
        else_=func.jsonb_strip_nulls(_object({**known, "gateway": Device.gateway})),
    )
    return Device.labels.concat(cast(own, JSONB))


def _object(values: Mapping[str, SQLColumnExpression[Any]]) -> ColumnElement[Any]:
    return func.jsonb_object(array([literal(name, Text) for name in values]), array(list(values.values())))


async def share_of_values(
    connection: AsyncConnection, target: Target, names: Sequence[str], now: datetime, most: int
) -> dict[str, dict[str, float]]:
    """For each fact the values that targeted devices have now with their shares (0–1), the most frequent first, at most
    ``most`` of them. Who is passed over is among them: it would take as long as the draw to tell, and a value too many
    costs a stream next to nothing."""
    found: dict[str, dict[str, float]] = {}
    for name in names:
        value = fact_text(name, now).label("value")
        inner = select(value).where(compile_selector(target.where, now)).subquery()
        statement = (
            select(inner.c.value, func.count().label("devices"))
            .group_by(inner.c.value)
            .order_by(func.count().desc(), inner.c.value)
            .limit(most)
        )
        counts = {row.value: row.devices for row in await connection.execute(statement)}
        everyone = sum(counts.values())
        found[name] = {value: devices / everyone for value, devices in counts.items()}
    return found


async def reasons_of_one(
    connection: AsyncConnection, device_id: int, rules: Sequence[Rules], now: datetime
) -> list[str | None]:
    """Why one device would be passed over by each of these rules, None where it would not."""
    if not rules:
        return []
    columns = [compile_reason(one, now).label(f"reason_{number}") for number, one in enumerate(rules)]
    row = (await connection.execute(select(*columns).where(Device.id == device_id))).one()
    return list(row)


async def ids_of(connection: AsyncConnection, serials: Sequence[str]) -> Ids:
    """The ids of these serials, as far as there are such devices."""
    statement = select(Device.id).where(Device.serial == any_(literal(list(serials), ARRAY(Text))))
    return np.array(list((await connection.execute(statement)).scalars()), np.int64) if serials else NONE


async def describe(connection: AsyncConnection, ids: Sequence[int]) -> list[DrawnRow]:
    """Serial, hw_rev, version and labels of devices, in the order of their ids as given."""
    wanted = [int(one) for one in ids]
    statement = select(Device.id, Device.serial, Device.hw_rev, Device.version, Device.labels).where(
        Device.id == any_(literal(wanted, ARRAY(BigInteger)))
    )
    devices = {row["id"]: row for row in await fetch_all(connection, statement, DrawnRow)}
    return [devices[one] for one in wanted if one in devices]


async def keep_drawn(
    connection: AsyncConnection,
    rollout_id: int,
    rings: Sequence[Ring],
    placed: Sequence[Placed],
    first: int = 0,
    lots: Mapping[int, Ids] = MappingProxyType({}),
) -> None:
    """Writes down whom the rings from ``first`` on are to have, and which of them get the second of two releases
    (``lots``, by position). Who comes to a ring that takes the rest is found out when it opens."""
    await connection.execute(delete(RingSlice).where(RingSlice.rollout_id == rollout_id, RingSlice.position >= first))
    rows = []
    for position, (ring, one) in enumerate(zip(rings[first:], placed, strict=True), first):
        planned = update(RingRow).where(RingRow.rollout_id == rollout_id, RingRow.position == position)
        await connection.execute(planned.values(planned=len(one.ids)))
        if not ring.takes_rest:
            ids = np.sort(one.ids)  # neighbours in the table are opened together
            rows += [
                {
                    "rollout_id": rollout_id,
                    "position": position,
                    "number": number,
                    "given": False,
                    "devices": ids[at : at + SLICE].tolist(),
                    "second": _among(ids[at : at + SLICE], lots.get(position)),
                }
                for number, at in enumerate(range(0, len(ids), SLICE))
            ]
    if rows:
        await connection.execute(insert(RingSlice), rows)


def _among(ids: Ids, second: Ids | None) -> list[int] | None:
    return None if second is None else [int(one) for one in np.intersect1d(ids, second)]


async def next_portions(
    connection: AsyncConnection,
    rollout_id: int,
    position: int,
    target: Target,
    now: datetime,
    *,
    rest_after: int | None,
    most: int,
) -> list[Portion]:
    """Whom a ring is to have next, in up to ``most`` portions that may be given side by side; nothing if nobody is
    left.

    ``rest_after`` is None for a ring that was drawn. For one that takes the rest, these are all targeted devices with
    an id above it that no ring was given so far.
    """
    if rest_after is None:
        following = (
            select(RingSlice.number, RingSlice.devices, RingSlice.second)
            .where(RingSlice.rollout_id == rollout_id, RingSlice.position == position, RingSlice.given.is_(False))
            .order_by(RingSlice.number)
            .limit(most)
        )
        return [Portion(row.devices, row.number, row.second) for row in await connection.execute(following)]
    candidates = (
        select(Device.id)
        .where(Device.id > rest_after, compile_selector(target.where, now), ~_attempted(rollout_id))
        .order_by(Device.id)
        .limit(most * SLICE)
    )
    ids = list((await connection.execute(candidates)).scalars())
    return [Portion(ids[at : at + SLICE]) for at in range(0, len(ids), SLICE)]


async def give(
    connection: AsyncConnection,
    rollout_id: int,
    position: int,
    plan: Plan,
    target: Target,
    now: datetime,
    portion: Portion,
    compared: Compared | None = None,
) -> None:
    """Gives the devices of a portion their attempts, or the reason to be passed over."""
    arms = arms_of(compared, portion.second)
    await _give(connection, rollout_id, position, plan, target, now, portion.ids, arms)
    if portion.number is not None:
        done = update(RingSlice).where(
            RingSlice.rollout_id == rollout_id, RingSlice.position == position, RingSlice.number == portion.number
        )
        await connection.execute(done.values(given=True))


async def note_passed_over(
    connection: AsyncConnection, rollout_id: int, target: Target, now: datetime, after: int
) -> int | None:
    """Writes down, for the next of all targeted devices with an id above ``after``, who is passed over and why;
    returns the last id, None if none are left."""
    reason = compile_reason(target.rules, now)
    found = (
        select(Device.id, reason.label("reason"))
        # Whoever opens a ring may have died half-way: who has an attempt by now is not passed over for that.
        .where(
            Device.id > after,
            compile_selector(target.where, now),
            reason.is_not(None),
            ~_attempted(rollout_id),
        )
        .order_by(Device.id)
        .limit(SLICE)
        .cte("found")
    )
    noted = (
        insert(PassedOverRow)
        .from_select(
            ["rollout_id", "device_id", "reason"], select(literal(rollout_id, BigInteger), found.c.id, found.c.reason)
        )
        .on_conflict_do_nothing()
        .cte("noted")
    )
    last = await connection.scalar(select(func.max(found.c.id)).add_cte(noted))
    return None if last is None else int(last)


async def recount_target(connection: AsyncConnection, rollout_id: int, target: Target, now: datetime) -> int:
    """How many devices a rollout is for as its last ring opens: those that it has dealt with, and those it is for
    now."""
    statement = select(func.count()).select_from(Device)
    dealt = or_(_attempted(rollout_id), _passed(rollout_id))
    return int(await connection.scalar(statement.where(or_(dealt, compile_selector(target.where, now)))) or 0)


def _attempted(rollout_id: int) -> ColumnElement[bool]:
    # One look into the index for each device. Left to choose, a planner that last saw the table before the ring opened
    # goes through all attempts for every device: a scalar subquery is no join that it could turn round.
    found = select(literal(True)).where(AttemptRow.device_id == Device.id, AttemptRow.rollout_id == rollout_id)
    return found.correlate(Device).limit(1).scalar_subquery().is_not(None)


def _passed(rollout_id: int) -> ColumnElement[bool]:
    return exists(select(1).where(PassedOverRow.rollout_id == rollout_id, PassedOverRow.device_id == Device.id))


async def _give(
    connection: AsyncConnection,
    rollout_id: int,
    position: int,
    plan: Plan,
    target: Target,
    now: datetime,
    ids: list[int],
    arms: Arms,
) -> None:
    """Set-based and safe to repeat: attempts for those who are eligible now, reasons for the others."""
    # Each device is looked up by its keys. The planner, which does not see how fast the table grows, would read all
    # attempts of all rollouts again for every slice.
    off = ", ".join(f"set_config('enable_{way}', 'off', true)" for way in ("seqscan", "hashjoin", "mergejoin"))
    await connection.execute(text(f"SELECT {off}"))
    values = {
        "rollout_id": rollout_id,
        "ring": position,
        "created_at": now,
        "changed_at": now,
        "live": True,
        "state": State.QUEUED.value,
        "waiting_for": "next-check-in",
        "try_number": 1,
        "tries": plan.retries + 1,
        "soak_s": int(plan.rings[position].soak.total_seconds()),
        "retry_pause_s": int(plan.retry_pause.total_seconds()),
        "closed": False,
        "left_out": False,
        "parts": {},
        "before": {},
        "fetched": 0,
        "retry_bad": plan.retry_bad,
        "installs": 0,
        "vouched": False,
    }
    chosen = _chosen(rollout_id, target, now, ids, arms)
    try:
        async with connection.begin_nested():
            await connection.execute(_giving(rollout_id, chosen, values, contested=False))
    except IntegrityError:
        # Another rollout was given one of them in this very moment. To reckon with that from the start takes longer.
        await connection.execute(_giving(rollout_id, chosen, values, contested=True))
    # Who was passed over at first and is given an attempt now is passed over no longer.
    given_now = select(1).where(
        AttemptRow.rollout_id == PassedOverRow.rollout_id, AttemptRow.device_id == PassedOverRow.device_id
    )
    await connection.execute(
        delete(PassedOverRow).where(
            PassedOverRow.rollout_id == rollout_id,
            PassedOverRow.device_id == any_(literal(ids, ARRAY(BigInteger))),
            exists(given_now),
        )
    )


def _chosen(rollout_id: int, target: Target, now: datetime, ids: list[int], arms: Arms) -> CTE:
    """Those of the devices that have no attempt of this rollout, with all that one keeps of them and the reason to be
    passed over: everything is read in one go, as opening a large ring is mostly this."""
    these = any_(literal(ids, ARRAY(BigInteger)))
    of_them = AttemptRow.device_id == these
    theirs = select(AttemptRow.device_id, AttemptRow.rollout_id, AttemptRow.live).where(of_them).cte("theirs")
    own = select(theirs.c.device_id).where(theirs.c.rollout_id == rollout_id)
    busy = Device.id.in_(select(theirs.c.device_id).where(theirs.c.live))
    reason = compile_reason(target.rules, now, in_rollout=busy)
    came_from = Device.running if target.several else literal({}, JSONB)
    columns: tuple[SQLColumnExpression[Any], ...] = (
        Device.id,
        Device.version,
        Device.digest,
        came_from.label("came_from"),
        arms.named(frozen_facts()).label("facts"),
        reason.label("reason"),
        arms.lot.label("lot"),
        arms.release_id.label("release_id"),
    )
    return select(*columns).where(Device.id == these, Device.id.not_in(own)).order_by(Device.id).cte("chosen")


def _giving(rollout_id: int, chosen: CTE, values: dict[str, Any], *, contested: bool) -> Executable:
    """Attempts for the eligible, reasons for the others. Contested, devices that just became part of another rollout
    are among the others; not contested, one such device is an ``IntegrityError``."""
    source = select(
        chosen.c.id,
        chosen.c.version,
        chosen.c.digest,
        chosen.c.came_from,
        chosen.c.facts,
        chosen.c.lot,
        chosen.c.release_id,
        *(literal(value, AttemptRow.__table__.c[name].type) for name, value in values.items()),
    ).where(chosen.c.reason.is_(None))
    columns = ["device_id", "from_version", "from_digest", "came_from", "facts", "lot", "release_id", *values]
    giving = insert(AttemptRow).from_select(columns, source)
    without: ColumnElement[bool] = chosen.c.reason.is_not(None)
    why: ColumnElement[Any] = chosen.c.reason
    if contested:
        given = giving.on_conflict_do_nothing().returning(AttemptRow.device_id).cte("given")
        without = or_(without, chosen.c.id.not_in(select(given.c.device_id)))
        why = func.coalesce(why, literal(PassedOver.IN_OTHER_ROLLOUT.value, Text))
    else:
        given = giving.cte("given")
    others = select(literal(rollout_id, BigInteger).label("rollout"), chosen.c.id, why).where(without)
    noted = insert(PassedOverRow).from_select(["rollout_id", "device_id", "reason"], others)
    index = ["rollout_id", "device_id"]
    return noted.on_conflict_do_update(index_elements=index, set_={"reason": noted.excluded.reason}).add_cte(given)
