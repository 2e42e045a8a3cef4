"""The reader of selectors that compiles them to SQL over the device table."""

from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import (
    BigInteger,
    ColumnElement,
    Select,
    SQLColumnExpression,
    Text,
    and_,
    case,
    false,
    func,
    literal,
    literal_column,
    not_,
    or_,
    select,
    true,
)
from sqlalchemy.dialects.postgresql import BYTEA
from sqlalchemy.sql.visitors import replacement_traverse

from mellow_herald.core.eligibility import Rules
from mellow_herald.core.history import LOOP_RESTARTS, LOOP_WITHIN, RECOVERY_SLOT, Happening
from mellow_herald.core.presence import LATE_AFTER, OFFLINE_AFTER, Presence
from mellow_herald.core.selector.match import matches
from mellow_herald.core.selector.tree import (
    FACTS,
    And,
    Compare,
    Has,
    Kind,
    Like,
    Node,
    Not,
    OneOf,
    Or,
    component_of,
    digest_of,
    kind_of,
    label_of,
)
from mellow_herald.core.version import version_key
from mellow_herald.store.heard import HEARD_AT
from mellow_herald.store.tables import AttemptRow, Device, DeviceEvent, Listed, Pulse, Release, ReleaseImage, RingRow

# Written as the index on it is.
_RECOVERING = Device.running.op("#>>", return_type=Text())(literal_column("'{app,slot}'")) == literal_column(
    f"'{RECOVERY_SLOT}'"
)
IN_RECOVERY = func.coalesce(_RECOVERING, False)


# What no release has is an unknown build, and a draft is no release yet; nothing known of what runs is neither, and a
# recovery image is a makeshift.
def _images_of(condition: ColumnElement[bool]) -> Select[Any]:
    return select(ReleaseImage.digest).join(Release, Release.id == ReleaseImage.release_id).where(condition)


KNOWN_BUILD = case(
    (Device.digest.is_(None), None),
    (IN_RECOVERY, None),
    else_=Device.digest.in_(_images_of(Release.state.not_in(("draft", "scratch")))),
)
# The version of a device is that of its bytes, where a release has them; beside it stands what it says itself.
VERSION_DIFFERS = func.coalesce(Device.version != Device.running["app"]["version"].astext, False)
RUNS = case(
    (Device.digest.is_(None), case((Device.token_used, "unreadable"), else_=None)),
    (IN_RECOVERY, "recovery"),
    (KNOWN_BUILD, "release"),
    (Device.digest.in_(_images_of(Release.state == "scratch")), "bench-build"),
    else_="unknown-build",
)
# The builds that there are in the fleet, each looked up in the index by itself: a million devices run few.
_build = select(func.min(Device.digest).label("digest")).cte("build", recursive=True)
_next = select(func.min(Device.digest)).where(Device.digest > _build.c.digest).correlate(_build).scalar_subquery()
_build = _build.union_all(select(_next).where(_build.c.digest.is_not(None)))
_KNOWN, _TRIED = _images_of(Release.state.not_in(("draft", "scratch"))), _images_of(Release.state == "scratch")
_OTHERS = select(_build.c.digest).where(_build.c.digest.not_in(_KNOWN), _build.c.digest.not_in(_TRIED))
# ``RUNS``, asked for one value.
BUILDS: dict[str, ColumnElement[bool]] = {
    "release": and_(Device.digest.in_(_KNOWN), not_(IN_RECOVERY)),
    "bench-build": and_(Device.digest.in_(_TRIED), Device.digest.not_in(_KNOWN), not_(IN_RECOVERY)),
    "unknown-build": and_(Device.digest.in_(_OTHERS), not_(IN_RECOVERY)),
    "recovery": and_(Device.digest.is_not(None), _RECOVERING),
    "unreadable": and_(Device.digest.is_(None), Device.token_used),
}
# Correlated by hand, as the pulse is below: the query around may be one of attempts.
IN_ROLLOUT = select(1).where(AttemptRow.device_id == Device.id, AttemptRow.live).correlate(Device).exists()
# The same by reading all live attempts once, in any number of processes: for questions about every device.
IN_ROLLOUT_OF_ALL = Device.id.in_(select(AttemptRow.device_id).where(AttemptRow.live))
# What waits may wait for another release just as well: nothing of this one was begun.
OVERTAKABLE = (
    select(1)
    .where(AttemptRow.device_id == Device.id, AttemptRow.live, AttemptRow.state.in_(("queued", "staged")))
    .correlate(Device)
    .exists()
)


_NEWEST = select(func.max(AttemptRow.id)).where(AttemptRow.device_id == Device.id).correlate(Device).scalar_subquery()
NEWEST_ROLLOUT = select(AttemptRow.rollout_id).where(AttemptRow.id == _NEWEST).correlate(Device).scalar_subquery()
NEWEST_RING = (
    select(RingRow.name)
    .join(AttemptRow, and_(AttemptRow.rollout_id == RingRow.rollout_id, AttemptRow.ring == RingRow.position))
    .where(AttemptRow.id == _NEWEST)
    .correlate(Device)
    .scalar_subquery()
)


def _age(now: datetime) -> ColumnElement[Any]:
    return func.extract("epoch", now - Pulse.seen_at)


def _presence(now: datetime) -> ColumnElement[Any]:
    # Times are compared as they are: to reckon with numbers costs more than all else in a look at a million pulses.
    second: ColumnElement[Any] = literal_column("interval '1 second'")
    return case(
        (Pulse.device_id.is_(None), Presence.NEVER_SEEN.value),
        (HEARD_AT + Pulse.interval_s * OFFLINE_AFTER * second < now, Presence.OFFLINE.value),
        (HEARD_AT + Pulse.interval_s * LATE_AFTER * second < now, Presence.LATE.value),
        else_=Presence.ONLINE.value,
    )


def _pinned(now: datetime) -> ColumnElement[Any]:
    return func.coalesce(Device.pinned_until > now, False)


def _restart_loop(now: datetime) -> ColumnElement[Any]:
    lately = (DeviceEvent.what == Happening.RESTARTED.value, DeviceEvent.at > now - LOOP_WITHIN)
    restarts = func.sum(DeviceEvent.count)
    return Device.id.in_(
        select(DeviceEvent.device_id).where(*lately).group_by(DeviceEvent.device_id).having(restarts >= LOOP_RESTARTS)
    )


# What a device's last call says, over the pulse; ``presence`` is known of a device without one, too.
PULSE: dict[str, Callable[[datetime], ColumnElement[Any]]] = {
    "seen": _age,
    "presence": _presence,
    "battery": lambda _: Pulse.condition["battery"].as_integer(),
    "charging": lambda _: Pulse.condition["charging"].as_boolean(),
    "link": lambda _: Pulse.condition["link"].astext,
}
EARLIER = {"<": ">", "<=": ">=", ">": "<", ">=": "<="}
# For a device that never called.
SILENT = {"presence": Presence.NEVER_SEEN.value}
TIMED: dict[str, Callable[[datetime], ColumnElement[Any]]] = {"pinned": _pinned, "restart_loop": _restart_loop}
OF_TIME = {*TIMED, "seen", "presence"}
NO_TIME = datetime(1, 1, 1, tzinfo=UTC)  # for facts that are the same at any time
COLUMNS: dict[str, SQLColumnExpression[Any]] = {
    "serial": Device.serial,
    "board": Device.board,
    "line": Device.line,
    "hw_rev": Device.hw_rev,
    "version": Device.version_key,
    "digest": Device.digest,
    "floor": Device.floor,
    "updater": Device.updater,
    "admission": Device.admission,
    "parts": Device.parts,
    "gateway": Device.gateway,
    "known_build": KNOWN_BUILD,
    "runs": RUNS,
    "version_differs": VERSION_DIFFERS,
    "on_bench": Device.on_bench,
    "radio": Device.radio,
    "radio_region": Device.radio_region,
    "rescued": Device.rescued_at.is_not(None),
    "cloned": Device.cloned_at.is_not(None),
    "in_list": literal(None, BigInteger),
    "in_rollout": IN_ROLLOUT,
    "overtakable": OVERTAKABLE,
    "rollout": NEWEST_ROLLOUT,
    "ring": NEWEST_RING,
}


def compile_selector(node: Node, now: datetime | None = None, *, one_by_one: bool = False) -> ColumnElement[bool]:
    """A condition over ``device`` that holds for the same devices as ``core.selector.matches``; for others it is false
    or NULL.

    ``now`` is needed by selectors that speak of time (``seen``, ``presence``, ``pinned``). What speaks of pulses alone
    is asked of all pulses at once and not once a device, unless only a few devices are looked at (``one_by_one``), and
    what speaks of builds of the few that there are.
    """
    if _speaks_of_pulses(node):
        return _by_pulse(node, now, one_by_one=one_by_one)
    match node:
        case And(parts):
            each = _pulses_together(And, parts)
            return and_(true(), *(compile_selector(part, now, one_by_one=one_by_one) for part in each))
        case Or(parts):
            each = _pulses_together(Or, parts)
            return or_(false(), *(compile_selector(part, now, one_by_one=one_by_one) for part in each))
        case Not(part):
            return _not(compile_selector(part, now, one_by_one=one_by_one))
        case OneOf(name, values):
            return or_(false(), *(compile_selector(Compare(name, "=", value), now) for value in values))
        case Compare("in_list", "=", value):
            return Device.serial.in_(select(Listed.serial).where(Listed.list_id == value))
        case Compare("in_list", op, _) if op != "!=":
            return false()  # the number of a list is a name: none is before another
        case Compare(name, "!=", value):
            return _not(compile_selector(Compare(name, "=", value), now))
        case Compare(name, "=", value) if name not in FACTS and not component_of(name) and not digest_of(name):
            return Device.labels.contains({label_of(name): value})
        case Compare("runs", "=", value) if value in BUILDS:
            return BUILDS[str(value)]
        case Compare("known_build", "=", value):
            return func.coalesce(
                BUILDS["release"] if value else or_(BUILDS["unknown-build"], BUILDS["bench-build"]), False
            )
        case _:
            return _tested(node, lambda name: column_of(name, now))


def _not(condition: ColumnElement[bool]) -> ColumnElement[bool]:
    # A missing fact matches nothing, so what is NULL is not matched, and its contrary is. Only here: anywhere else NULL
    # is as good as false, and what stands bare can be looked up in an index.
    return not_(func.coalesce(condition, False))


def _tested(node: Compare | Like | Has, column: Callable[[str], SQLColumnExpression[Any]]) -> ColumnElement[bool]:
    match node:
        case Like(name, pattern):
            return column(name).like(_like(pattern), escape="\\")
        case Has(name):
            return column(name).is_not(None)
        case Compare(name, op, value):
            return _compare(name, op, value, column(name))


def _speaks_of_pulses(node: Node) -> bool:
    """Of nothing else."""
    match node:
        case And(parts) | Or(parts):
            return bool(parts) and all(map(_speaks_of_pulses, parts))
        case Not(part):
            return _speaks_of_pulses(part)
        case _:
            return node.name in PULSE


def _pulses_together(kind: type[And | Or], parts: tuple[Node, ...]) -> list[Node]:
    """The parts, with those that speak of pulses alone made into one."""
    own = tuple(part for part in parts if _speaks_of_pulses(part))
    others = [part for part in parts if not _speaks_of_pulses(part)]
    return [*others, kind(own)] if own else others


def _by_pulse(node: Node, now: datetime | None, *, one_by_one: bool) -> ColumnElement[bool]:
    condition = _over_pulse(node, now)
    own = select(true()).where(Pulse.device_id == Device.id).correlate(Device)

    def there(which: ColumnElement[bool]) -> ColumnElement[bool]:
        # What is there may be looked up for all devices beforehand; what has a value is looked up where it is asked.
        found = own.where(which)
        return func.coalesce(found.scalar_subquery(), False) if one_by_one else found.exists()

    if matches(node, SILENT):  # whoever never called has no pulse to look at
        return not_(there(_not(condition)))
    return there(condition)


def _over_pulse(node: Node, now: datetime | None) -> ColumnElement[bool]:
    match node:
        case And(parts):
            return and_(true(), *(_over_pulse(part, now) for part in parts))
        case Or(parts):
            return or_(false(), *(_over_pulse(part, now) for part in parts))
        case Not(part):
            return _not(_over_pulse(part, now))
        case OneOf(name, values):
            return or_(false(), *(_over_pulse(Compare(name, "=", value), now) for value in values))
        case Compare(name, "!=", value):
            return _not(_over_pulse(Compare(name, "=", value), now))
        case Compare("seen", op, value):
            # The older, the earlier it was seen; the time is compared as it is.
            then = _needed("seen", now) - timedelta(seconds=int(value))
            return Pulse.seen_at.op(EARLIER.get(op, op), is_comparison=True)(then)
        case _:
            return _tested(node, lambda name: _pulse_of(name, now))


def _pulse_of(name: str, now: datetime | None) -> ColumnElement[Any]:
    return PULSE[name](_needed(name, now))


def _needed(name: str, now: datetime | None) -> datetime:
    if now is None and name in OF_TIME:
        raise ValueError(f"a selector that speaks of {name} needs to know the time")
    return now or NO_TIME


def compile_reason(
    rules: Rules, now: datetime, *, in_rollout: ColumnElement[bool] | None = None
) -> ColumnElement[str | None]:
    """The reason a device is passed over at ``now``, or NULL: the first rule that matches.

    ``in_rollout`` is another way to ask whether a device is in a rollout: which one is fast depends on the question.
    """
    reason = case(*((compile_selector(rule, now), literal(reason.value)) for reason, rule in rules), else_=None)
    if in_rollout is None:
        return reason
    asked: ColumnElement[str | None] = replacement_traverse(
        reason, {}, lambda element, **_: in_rollout if element is IN_ROLLOUT else None
    )
    return asked


def _text(value: Any) -> ColumnElement[str]:
    text: ColumnElement[str] = value.astext
    return text


def column_of(name: str, now: datetime | None) -> SQLColumnExpression[Any]:
    """The column behind a fact, a component's version key, or a label."""
    component = component_of(name)
    if component is not None:
        return _text(Device.version_keys[component])
    image = digest_of(name)
    if image is not None:
        return _text(Device.running[image]["digest"])
    if name in PULSE:
        # Correlated by hand: the query around may join the pulse itself.
        own = select(_pulse_of(name, now)).where(Pulse.device_id == Device.id).correlate(Device).scalar_subquery()
        return func.coalesce(own, SILENT[name]) if name in SILENT else own
    if name in TIMED:
        return TIMED[name](_needed(name, now))
    return COLUMNS[name] if name in FACTS else Device.labels[label_of(name)].astext


def joined_column(name: str, now: datetime | None) -> SQLColumnExpression[Any]:
    """The same for a query about all devices that has their pulses joined to them from outside."""
    if name in PULSE:
        return _pulse_of(name, now)
    return IN_ROLLOUT_OF_ALL if name == "in_rollout" else column_of(name, now)


def _like(pattern: str) -> str:
    escaped = pattern.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
    return escaped.replace("*", "%").replace("?", "_")


def _compare(name: str, op: str, value: str | int | bool, column: SQLColumnExpression[Any]) -> ColumnElement[bool]:
    if component_of(name) is not None:
        # Hex digits of a version key sort as its bytes do, but only byte by byte.
        column, wanted = column.collate("C"), literal(version_key(str(value)).hex())
    elif kind_of(name) is Kind.VERSION:
        wanted = literal(version_key(str(value)), BYTEA)
    elif kind_of(name) in (Kind.NUMBER, Kind.AGE):
        wanted = literal(value, BigInteger)
    else:
        wanted = literal(value)
    return column.op(op, is_comparison=True)(wanted)
