"""How long ago a device was heard, where the time in which nobody could be heard does not count."""

from sqlalchemy import case, select

from mellow_herald.store.tables import ClockRow, Pulse

# Nothing, if it was never away. A call may be some moments younger than the last beat before.
_BACK_AT = select(ClockRow.serving_since).where(ClockRow.away_from.is_not(None)).scalar_subquery()
_AWAY_FOR = select(ClockRow.serving_since - ClockRow.away_from).scalar_subquery()
# Whoever called last before the service was away is taken as heard so much later: it could not have called meanwhile.
# Only the last time away counts; who was silent for long before it, still was.
HEARD_AT = case((Pulse.seen_at < _BACK_AT, Pulse.seen_at + _AWAY_FOR), else_=Pulse.seen_at)
