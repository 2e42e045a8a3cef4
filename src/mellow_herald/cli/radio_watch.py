"""A session on narrow radio in a terminal, as it stands or live."""

import sys
import time
from datetime import datetime
from typing import TYPE_CHECKING, Any

from rich.console import Group
from rich.live import Live
from rich.table import Table
from rich.text import Text

from mellow_herald.cli.looks import GREY_BLUE, HONEY, ROSE, SAGE, SLATE, STONE, styled
from mellow_herald.cli.output import console

if TYPE_CHECKING:
    from mellow_herald.client import Herald
    from mellow_herald.wire.radio import RadioMemberOut, RadioSessionOut

BAR = 60
STEPS = ("clock", "group", "session", "fragments", "ready", "complete")
# What a step waits for, in words.
WAITS = {
    "clock": "clock to be set",
    "group": "group to be set up",
    "session": "session to be told",
    "fragments": "fragments to be set up",
    "ready": "ready",
    "complete": "complete",
}
TURN_S = 0.5


def draw_session(one: "RadioSessionOut", now: datetime) -> None:
    """Prints a session as it stands."""
    console().print(picture(one, now))


def follow_session(herald: "Herald", session_id: int) -> None:
    """Shows a session until it has ended; plain lines where there is no terminal."""
    one = herald.radio.session(session_id)
    if not sys.stdout.isatty():
        line = ""
        while True:
            told = headline(one, herald.service_time).plain
            if told != line:
                print(line := told, flush=True)
            if one.state == "ended":
                return
            time.sleep(TURN_S)
            one = herald.radio.session(session_id)
    with Live(picture(one, herald.service_time), console=console(), refresh_per_second=4) as live:
        while one.state != "ended":
            time.sleep(TURN_S)
            one = herald.radio.session(session_id)
            live.update(picture(one, herald.service_time))


def headline(one: "RadioSessionOut", now: datetime) -> Text:
    """What a session does now, in a sentence."""
    name = f"session {one.id}" + (f", repair of {one.repair_of}" if one.repair_of is not None else "")
    total = sum(one.counts.values())
    if one.state == "setting-up":
        ready = one.counts.get("ready", 0)
        left = max(0.0, (one.begins_at - now).total_seconds())
        told = f"is set up: {ready} of {total} ready, begins at {one.begins_at:%H:%M:%S} (in {_span(left)})"
        return Text.assemble((name, "bold"), "  ", (told, GREY_BLUE))
    if one.state == "sending":
        asks = f", answers are waited for until {one.answers_until:%H:%M:%S}" if one.answers_until else ""
        told = f"sends: {one.sent} of {one.to_send} fragments, {one.complete} of {total} complete{asks}"
        return Text.assemble((name, "bold"), "  ", (told, HONEY))
    took = (one.ended_at - one.began_at).total_seconds() if one.ended_at and one.began_at else 0
    colour = SAGE if one.complete == total else ROSE if one.outcome == "halted" else SLATE
    told = f"ended, {one.outcome}: {one.sent} fragments in {_span(took)}, {one.complete} of {total} complete"
    return Text.assemble((name, "bold"), "  ", (told, colour))


def picture(one: "RadioSessionOut", now: datetime) -> Group:
    """A session: what it does, how it is sent, its bar, and a line for each device."""
    kind = "" if one.first_number == 1 else f", parity alone from fragment {one.first_number} on"
    how = (
        f"{one.region} data rate {one.data_rate}, {one.frequency / 1e6:.3f} MHz: {one.fragments} fragments of"
        f" {one.fragment} bytes and {one.coded} of parity{kind}; one every {one.apart_s:.2f} s,"
        f" about {_span(one.length_s)} in all"
    )
    parts: list[Any] = [headline(one, now), Text(how, style="dim"), _bar(one)]
    if one.trouble:
        parts.append(Text(f"does not go on: {one.trouble}", style=ROSE))
    if one.postponed:
        parts.append(Text(f"put off {one.postponed} times: nobody was ready when it was to begin", style=HONEY))
    if one.late:
        late = ", ".join(one.late)
        parts.append(Text(f"not ready when it began, served next: {late}", style=HONEY))
    table = Table(box=None, pad_edge=False, header_style="bold", show_edge=False)
    for name in ("serial", "step", "received", "missing", "lost", "made up", "attempt"):
        table.add_column(name, justify="right" if name in ("received", "missing", "lost", "made up") else "left")
    for member in one.members:
        table.add_row(*_line(member))
    parts += [Text(""), table]
    return Group(*parts)


def _bar(one: "RadioSessionOut") -> Text:
    """What was sent of the fragments themselves, and of parity."""
    filled = round(BAR * one.sent / max(1, one.to_send))
    plain = round(BAR * one.fragments / max(1, one.to_send)) if one.first_number == 1 else 0
    bar = Text()
    for at in range(BAR):
        colour = SLATE if at < plain else HONEY
        bar.append("█" if at < filled else "░", colour if at < filled else STONE)
    bar.append(f"  {100 * one.sent // max(1, one.to_send)} %", "dim")
    return bar


def _line(member: "RadioMemberOut") -> list[Text | str]:
    step = member.problem or WAITS.get(member.step, member.step)
    colour = ROSE if member.problem else SAGE if member.complete else HONEY if member.ready is False else ""
    return [
        member.serial,
        Text(step, colour),
        str(member.received or ""),
        "" if member.missing is None else f"{member.missing}{'+' if member.missing >= 255 else ''}",
        "" if member.lost is None or not member.received else str(member.lost),
        "" if member.recovered is None else str(member.recovered),
        styled(member.state, member.reason or ""),
    ]


def _span(seconds: float) -> str:
    minutes, rest = divmod(round(seconds), 60)
    hours, minutes = divmod(minutes, 60)
    return f"{hours} h {minutes:02d} min" if hours else f"{minutes} min {rest:02d} s" if minutes else f"{rest} s"
