# Written by `make client` from ../asynchronous; change it there.
"""Signals, listening, and readings over time, by the synchronous client."""

from datetime import datetime
from typing import TYPE_CHECKING

from mellow_herald.client import readings_calls as calls
from mellow_herald.client.readings_calls import By
from mellow_herald.wire.readings import (
    ChangeOut,
    LastValueOut,
    ListeningEnd,
    ListeningIn,
    ListeningOut,
    ListeningPreview,
    SeriesOut,
    SignalOut,
)

if TYPE_CHECKING:
    from mellow_herald.client.synchronous.herald import Herald

Listenings = list[ListeningOut]


class Signals:
    """What devices can send, and who is asked for it."""

    def __init__(self, herald: "Herald") -> None:
        self._herald = herald

    def list(self, board: str | None = None) -> list[SignalOut]:
        """All signals, or those of one board: declared, asked for, sent, sent lately."""
        return self._herald.send(calls.list_signals(board))

    def preview(self, asked: ListeningIn) -> ListeningPreview:
        """What a listening would ask of whom, and cost a day; asks nobody."""
        return self._herald.send(calls.preview_listening(asked))

    def listen(self, asked: ListeningIn) -> ListeningOut:
        """Asks devices to send readings from now on."""
        return self._herald.send(calls.begin_listening(asked))

    def listenings(self, *, over: bool = False) -> Listenings:
        """Listenings that go on, and with ``over`` those that are over too."""
        return self._herald.send(calls.list_listenings(over))

    def listening(self, number: int) -> ListeningOut:
        """One listening."""
        return self._herald.send(calls.show_listening(number))

    def stop(self, number: int, reason: str = "heard enough") -> ListeningOut:
        """Ends a listening; the devices are told at their next check-in."""
        return self._herald.send(calls.end_listening(number, ListeningEnd(reason=reason)))


class Readings:
    """Readings over time."""

    def __init__(self, herald: "Herald") -> None:
        self._herald = herald

    def latest(self, where: str, *, signal: str | None = None, limit: int = 1000) -> list[LastValueOut]:
        """What devices that a selector picks sent last, and how old that is."""
        return self._herald.send(calls.latest_readings(where, signal, limit))

    def before_and_after(self, rollout_id: int, signal: str, *, span: str = "1d") -> ChangeOut:
        """What a rollout did to a signal: its devices so long before and after their switch, beside those that have
        not switched."""
        return self._herald.send(calls.before_and_after(rollout_id, signal, span))

    def series(
        self,
        signal: str,
        *,
        where: str | None = None,
        begin: datetime | None = None,
        end: datetime | None = None,
        points: int = 1000,
        by: By = "device",
        rollout: int | None = None,
    ) -> SeriesOut:
        """A signal over time (the last hour, unless said otherwise), in at most so many buckets: of each device that a
        selector picks, or of all that have a version, a revision or a ring of a rollout in common."""
        return self._herald.send(calls.readings(signal, where, begin, end, points, by, rollout))
