"""The reader of selectors that compiles them to SQL over the device table."""

from sqlalchemy import BigInteger, ColumnElement, and_, case, exists, false, func, literal, not_, or_, select, true
from sqlalchemy.dialects.postgresql import BYTEA

from mellow_herald.core.placement import Rules
from mellow_herald.core.selector.tree import FACTS, And, Compare, Kind, Node, Not, OneOf, Or, kind_of, label_of
from mellow_herald.core.version import version_key
from mellow_herald.store.tables import AttemptRow, Device, ReleaseImage

# What no release has is an unknown build; nothing known of what runs is neither.
KNOWN_BUILD = case(
    (Device.digest.is_(None), None),
    else_=exists(select(1).where(ReleaseImage.digest == Device.digest)),
)
IN_ROLLOUT = exists(select(1).where(AttemptRow.device_id == Device.id, AttemptRow.live))
COLUMNS: dict[str, ColumnElement] = {
    "serial": Device.serial,
    "board": Device.board,
    "line": Device.line,
    "hw_rev": Device.hw_rev,
    "version": Device.version_key,
    "digest": Device.digest,
    "floor": Device.floor,
    "updater": Device.updater,
    "admission": Device.admission,
    "gateway": Device.gateway,
    "known_build": KNOWN_BUILD,
    "in_rollout": IN_ROLLOUT,
}


def compile_selector(node: Node) -> ColumnElement[bool]:
    """A condition over ``device`` that holds for the same devices as ``core.selector.matches``."""
    match node:
        case And(parts):
            return and_(true(), *(compile_selector(part) for part in parts))
        case Or(parts):
            return or_(false(), *(compile_selector(part) for part in parts))
        case Not(part):
            return not_(compile_selector(part))
        case OneOf(name, values):
            return or_(false(), *(_compare(name, "=", value) for value in values))
        case Compare(name, "!=", value):
            return not_(_compare(name, "=", value))
        case Compare(name, op, value):
            return _compare(name, op, value)


def compile_reason(rules: Rules) -> ColumnElement[str | None]:
    """The reason a device is passed over, or NULL: the first rule that matches."""
    return case(*((compile_selector(rule), literal(reason.value)) for reason, rule in rules), else_=None)


def _compare(name: str, op: str, value: str | int | bool) -> ColumnElement[bool]:
    column: ColumnElement = COLUMNS[name] if name in FACTS else Device.labels[label_of(name)].astext
    if kind_of(name) is Kind.VERSION:
        wanted: ColumnElement = literal(version_key(str(value)), BYTEA)
    elif kind_of(name) is Kind.NUMBER:
        wanted = literal(value, BigInteger)
    else:
        wanted = literal(value)
    compared = column.op("=" if op == "=" else op, is_comparison=True)(wanted)
    # A missing fact matches nothing; without this, NULL would leak through NOT.
    return func.coalesce(compared, False)
