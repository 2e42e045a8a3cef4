"""The reader of selectors that compiles them to SQL over the device table."""

from collections.abc import Callable
from datetime import datetime
from typing import Any

from sqlalchemy import (
    BigInteger,
    ColumnElement,
    Select,
    SQLColumnExpression,
    and_,
    case,
    false,
    func,
    literal,
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
from mellow_herald.store.tables import AttemptRow, Device, DeviceEvent, Listed, Pulse, Release, ReleaseImage

IN_RECOVERY = func.coalesce(Device.running["app"]["slot"].astext == RECOVERY_SLOT, False)


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


def _pulse(column: SQLColumnExpression[Any]) -> ColumnElement[Any]:
    # Correlated by hand: the query around may join the pulse itself.
    return select(column).where(Pulse.device_id == Device.id).correlate(Device).scalar_subquery()


def _age(now: datetime) -> ColumnElement[Any]:
    return _pulse(func.extract("epoch", now - Pulse.seen_at))


def _presence(now: datetime) -> ColumnElement[Any]:
    missed = func.extract("epoch", now - HEARD_AT) / Pulse.interval_s
    known = case(
        (missed > OFFLINE_AFTER, Presence.OFFLINE.value),
        (missed > LATE_AFTER, Presence.LATE.value),
        else_=Presence.ONLINE.value,
    )
    return func.coalesce(_pulse(known), literal(Presence.NEVER_SEEN.value))


def _pinned(now: datetime) -> ColumnElement[Any]:
    return func.coalesce(Device.pinned_until > now, False)


def _restart_loop(now: datetime) -> ColumnElement[Any]:
    restarts = (
        select(func.sum(DeviceEvent.count))
        .where(
            DeviceEvent.device_id == Device.id,
            DeviceEvent.what == Happening.RESTARTED.value,
            DeviceEvent.at > now - LOOP_WITHIN,
        )
        .correlate(Device)
        .scalar_subquery()
    )
    return func.coalesce(restarts >= LOOP_RESTARTS, False)


TIMED: dict[str, Callable[[datetime], ColumnElement[Any]]] = {
    "seen": _age,
    "presence": _presence,
    "pinned": _pinned,
    "restart_loop": _restart_loop,
}
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
    "rescued": Device.rescued_at.is_not(None),
    "cloned": Device.cloned_at.is_not(None),
    "in_list": literal(None, BigInteger),
    "in_rollout": IN_ROLLOUT,
    "overtakable": OVERTAKABLE,
    "battery": _pulse(Pulse.condition["battery"].as_integer()),
    "charging": _pulse(Pulse.condition["charging"].as_boolean()),
    "link": _pulse(Pulse.condition["link"].astext),
}


def compile_selector(node: Node, now: datetime | None = None) -> ColumnElement[bool]:
    """A condition over ``device`` that holds for the same devices as ``core.selector.matches``.

    ``now`` is needed by selectors that speak of time (``seen``, ``presence``, ``pinned``).
    """
    match node:
        case And(parts):
            return and_(true(), *(compile_selector(part, now) for part in parts))
        case Or(parts):
            return or_(false(), *(compile_selector(part, now) for part in parts))
        case Not(part):
            return not_(compile_selector(part, now))
        case OneOf(name, values):
            return or_(false(), *(compile_selector(Compare(name, "=", value), now) for value in values))
        case Like(name, pattern):
            return func.coalesce(column_of(name, now).like(_like(pattern), escape="\\"), False)
        case Has(name):
            return column_of(name, now).is_not(None)
        case Compare("in_list", "=", value):
            return Device.serial.in_(select(Listed.serial).where(Listed.list_id == value))
        case Compare("in_list", op, _) if op != "!=":
            return false()  # the number of a list is a name: none is before another
        case Compare(name, "!=", value):
            return not_(compile_selector(Compare(name, "=", value), now))
        case Compare(name, op, value):
            return _compare(name, op, value, now)


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
    if name in TIMED:
        if now is None:
            raise ValueError(f"a selector that speaks of {name} needs to know the time")
        return TIMED[name](now)
    return COLUMNS[name] if name in FACTS else Device.labels[label_of(name)].astext


def _like(pattern: str) -> str:
    escaped = pattern.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
    return escaped.replace("*", "%").replace("?", "_")


def _compare(name: str, op: str, value: str | int | bool, now: datetime | None) -> ColumnElement[bool]:
    column = column_of(name, now)
    if component_of(name) is not None:
        # Hex digits of a version key sort as its bytes do, but only byte by byte.
        column, wanted = column.collate("C"), literal(version_key(str(value)).hex())
    elif kind_of(name) is Kind.VERSION:
        wanted = literal(version_key(str(value)), BYTEA)
    elif kind_of(name) in (Kind.NUMBER, Kind.AGE):
        wanted = literal(value, BigInteger)
    else:
        wanted = literal(value)
    compared = column.op(op, is_comparison=True)(wanted)
    # A missing fact matches nothing; without this, NULL would leak through NOT. What is never missing is compared as it
    # is: that is faster, and the planner knows what to expect.
    return func.coalesce(compared, False) if getattr(column, "nullable", True) else compared
