"""The calls about signals, listening, and readings over time."""

from datetime import datetime
from typing import Literal

from mellow_herald.client.calls import API, Call, get, post
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

By = Literal["device", "version", "hw_rev", "ring"]


def list_signals(board: str | None) -> Call[list[SignalOut]]:
    """All signals."""
    return get("listing signals", f"{API}/signals", list[SignalOut], board=board)


def preview_listening(asked: ListeningIn) -> Call[ListeningPreview]:
    """What a listening would cost."""
    return post("asking what it would cost", f"{API}/previews/listening", ListeningPreview, asked, repeatable=True)


def begin_listening(asked: ListeningIn) -> Call[ListeningOut]:
    """Asks devices to send readings."""
    return post("listening", f"{API}/listenings", ListeningOut, asked)


def list_listenings(over: bool) -> Call[list[ListeningOut]]:
    """Who is listened to."""
    return get("listing listenings", f"{API}/listenings", list[ListeningOut], over=over)


def show_listening(number: int) -> Call[ListeningOut]:
    """One listening."""
    return get(f"looking at listening {number}", f"{API}/listenings/{number}", ListeningOut)


def end_listening(number: int, request: ListeningEnd) -> Call[ListeningOut]:
    """Ends a listening."""
    return post(f"ending listening {number}", f"{API}/listenings/{number}/end", ListeningOut, request)


def before_and_after(rollout_id: int, signal: str, span: str) -> Call[ChangeOut]:
    """What a rollout did to a signal."""
    doing = f"asking what rollout {rollout_id} did to {signal}"
    return get(doing, f"{API}/rollouts/{rollout_id}/readings", ChangeOut, signal=signal, span=span)


def latest_readings(where: str, signal: str | None, limit: int) -> Call[list[LastValueOut]]:
    """What devices sent last."""
    doing = "asking for the latest readings"
    return get(doing, f"{API}/readings/latest", list[LastValueOut], where=where, signal=signal, limit=limit)


def readings(
    signal: str,
    where: str | None,
    begin: datetime | None,
    end: datetime | None,
    points: int | None,
    by: By,
    rollout: int | None,
) -> Call[SeriesOut]:
    """A signal over time."""
    stretch = {
        "from": None if begin is None else begin.isoformat(),
        "to": None if end is None else end.isoformat(),
    }
    told = {"signal": signal, "where": where, "points": points, "by": by, "rollout": rollout, **stretch}
    return get(f"asking for {signal} over time", f"{API}/readings", SeriesOut, **told)
