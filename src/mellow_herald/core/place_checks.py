"""What publishing looks at in files, settings and certificates: their place on the board, and what they are."""

from collections.abc import Iterator, Mapping
from datetime import datetime, timedelta
from difflib import get_close_matches

from mellow_herald.core.board import BoardComponent, BoardFacts
from mellow_herald.core.certificate import ends_at, read_chain, read_trusted
from mellow_herald.core.component import Kind, place_of
from mellow_herald.core.refusal import Refused
from mellow_herald.core.settings import breaks, read_settings
from mellow_herald.core.suit import Component, Manifest
from mellow_herald.core.verdict import Check, Reading, Verdict

SOON = timedelta(days=30)


def check_places(
    release: Manifest, board: BoardFacts, readings: Mapping[str, Reading], now: datetime
) -> Iterator[Check]:
    """The checks of all that has a place, and of firmware that would cover one. ``readings`` have the bytes of settings
    and certificates, as far as they are there yet."""
    for one in release.components:
        if one.kind is Kind.FIRMWARE:
            yield from _covers(one, board)
            continue
        place = board.component(one.name)
        if place is None:
            yield _unknown(one, board)
            continue
        yield _room(one, place, board)
        reading = readings.get(one.digest)
        content = None if reading is None else reading.content
        if one.kind is Kind.SETTINGS:
            yield from _settings(one, place, board, content)
        elif one.kind is Kind.CERTIFICATE and content is not None:
            yield from _certificate(one, place, board, content, now)


def _unknown(one: Component, board: BoardFacts) -> Check:
    names = [place.name for place in board.places if place.kind is one.kind]
    there = f"It has {', '.join(names)}" if names else f"It has no place for a {one.kind.value}"
    near = "".join(f"; did you mean {found}?" for found in get_close_matches(one.name, names, n=1))
    return Check(
        "place",
        Verdict.REFUSE,
        f"board {board.name} has no place {place_of(one.name)!r} for a {one.kind.value}.",
        f"{there}{near or '.'} Places are in the board's file.",
        "unknown-place",
    )


def _room(one: Component, place: BoardComponent, board: BoardFacts) -> Check:
    if one.size > place.size:
        return Check(
            "size",
            Verdict.REFUSE,
            f"{one.name} has {one.size} bytes, its place on {board.name} has {place.size}.",
            "Make it smaller, or correct the board's file.",
            "too-large-for-place",
        )
    share = 100 * one.size / place.size
    return Check("size", Verdict.PASS, f"{one.name}: {one.size} bytes, {share:.3g} % of the place.")


def _settings(one: Component, place: BoardComponent, board: BoardFacts, content: bytes | None) -> Iterator[Check]:
    if one.base is None:
        words = f"{one.name} replaces whatever settings a device has, those that somebody changed meanwhile, too."
        yield Check("base", Verdict.WARN, words, "Name what they are based on with --base.")
    else:
        words = f"{one.name} replaces {one.base[:12]}… alone: a device with other settings refuses it."
        yield Check("base", Verdict.PASS, words)
    if content is None:
        return
    try:
        document = read_settings(content)
    except Refused as refused:
        yield Check("settings", Verdict.REFUSE, f"{one.name}: {refused.detail}", refused.mend, refused.kind)
        return
    if place.schema is None:
        words = f"{one.name}: board {board.name} gives no JSON Schema, so only that it is JSON was looked at."
        yield Check("settings", Verdict.PASS, words)
        return
    broken = breaks(document, place.schema)
    if broken:
        more = f" And {len(broken) - 1} more." if len(broken) > 1 else ""
        yield Check(
            "settings",
            Verdict.REFUSE,
            f"{one.name} breaks the schema of {board.name}: {broken[0]}.{more}",
            "Correct the settings; the devices would refuse them, too.",
            "breaks-schema",
        )
    else:
        yield Check("settings", Verdict.PASS, f"{one.name} fits the schema of {board.name}.")


def _certificate(
    one: Component, place: BoardComponent, board: BoardFacts, content: bytes, now: datetime
) -> Iterator[Check]:
    try:
        chain = read_chain(content)
    except Refused as refused:
        yield Check("certificate", Verdict.REFUSE, f"{one.name}: {refused.detail}", refused.mend, refused.kind)
        return
    dates = f"good from {chain.begins:%Y-%m-%d %H:%M} to {chain.ends:%Y-%m-%d %H:%M} UTC"
    if chain.ends <= now:
        yield Check(
            "certificate", Verdict.REFUSE, f"{one.name} is over: {dates}.", "Pass a fresh one.", "certificate-over"
        )
    elif chain.begins > now:
        yield Check(
            "certificate",
            Verdict.REFUSE,
            f"{one.name} is not good yet: {dates}.",
            "Publish it when it is: until then no device could connect with it.",
            "certificate-not-yet",
        )
    elif chain.ends - now < SOON:
        yield Check("certificate", Verdict.WARN, f"{one.name} is over soon: {dates}.")
    else:
        yield Check("certificate", Verdict.PASS, f"{one.name} for {chain.name}: {dates}.")
    if place.trusted is None:
        words = f"board {board.name} names nothing that is trusted: where the chain ends was not looked at."
        yield Check("chain", Verdict.WARN, f"{one.name}: {words}")
        return
    why = ends_at(chain, read_trusted(place.trusted))
    if why is not None:
        mend = "Put every certificate up to a trusted one into the file, the device's own first."
        yield Check("chain", Verdict.REFUSE, f"{one.name}: {why}.", mend, "chain-broken")
    else:
        yield Check("chain", Verdict.PASS, f"{one.name}: a chain of {len(chain.certificates)}, and it is trusted.")


def _covers(one: Component, board: BoardFacts) -> Iterator[Check]:
    """No image may reach over what a board keeps at a place of its flash."""
    slots = [slot.address for slot in board.slots_of(one.name)] if one.address is None else [one.address]
    stands = [(at, place) for at in slots for place in board.places if at is not None and place.address is not None]
    for at, place in stands:
        assert place.address is not None
        if at < place.address + place.size and place.address < at + one.size:
            yield Check(
                "places",
                Verdict.REFUSE,
                f"{one.name} goes from {at:#x} to {at + one.size:#x} and would cover {place.name} at "
                f"{place.address:#x}.",
                "Leave that region out of the image: what stands there outlives every firmware update.",
                "covers-place",
            )
