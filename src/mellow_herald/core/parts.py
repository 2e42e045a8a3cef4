"""The components of one device inside an attempt: each has a state of its own, the attempt is as good as its worst.

A device tells how its components stand beside what it says of the whole; one that tells nothing of them speaks of all
that it is changing."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from typing import Any

from mellow_herald.core.attempt import BAD, State

Parts = Mapping[str, Mapping[str, Any]]
Standing = Mapping[str, Mapping[str, Any]]
# What goes wrong with one component is its own; what comes before a switch stands by in the others meanwhile.
BEFORE = (State.QUEUED, State.OFFERED, State.DOWNLOADING, State.STAGED)
SWITCHED = (State.CLEARED, State.INSTALLING, State.PROVING, State.CONFIRMED)


@dataclass(frozen=True, slots=True)
class PartTold:
    """What a device tells of one component."""

    state: State
    reason: str | None = None
    percent: int | None = None
    detail: str = ""


@dataclass(frozen=True, slots=True)
class PartWord:
    """A device's report as far as components go: ``component`` None speaks of all that is changing, unless it is said
    of each (``parts``). One that was given up ``alone`` leaves the others as they stand."""

    state: State
    component: str | None = None
    reason: str | None = None
    detail: str = ""
    percent: int | None = None
    alone: bool = False
    parts: Mapping[str, PartTold] = field(default_factory=dict)


def at_first(wanted: Mapping[str, Collection[str]], running: Standing) -> dict[str, dict[str, Any]]:
    """The parts as the device begins: ``wanted`` has the digests of each component's images, ``running`` what the
    device says it runs."""
    return {name: _part(running.get(name), digests) for name, digests in sorted(wanted.items())}


def _part(content: Mapping[str, Any] | None, digests: Collection[str]) -> dict[str, Any]:
    has_it = content is not None and content.get("digest") in digests
    return {
        "state": State.CONFIRMED.value if has_it else State.QUEUED.value,
        "changes": not has_it,
        "from_version": None if content is None else content.get("version"),
        "from_digest": None if content is None else content.get("digest"),
        "digest": None if content is None else content.get("digest"),
        "percent": None,
        "reason": None,
        "detail": "",
    }


def after_word(parts: Parts, word: PartWord) -> dict[str, dict[str, Any]]:
    """The parts after a report."""
    changed = {name: dict(part) for name, part in parts.items()}
    for name, part in changed.items():
        told = word.parts.get(name)
        if told is not None:
            _tell(part, told)
            continue
        # What was given up alone stays so, whatever becomes of the others.
        alone = word.component is None and part["state"] == State.FAILED
        of_all = word.component is None and not word.parts and part["changes"] and not alone
        if word.component == name or of_all:
            _tell(part, PartTold(word.state, word.reason, word.percent, word.detail))
        elif word.state is State.REVERTED and not word.alone and part["changes"] and part["state"] in SWITCHED:
            # Those that were switched before the one that went bad went back with it.
            _tell(part, PartTold(State.REVERTED))
    return changed


def _tell(part: dict[str, Any], told: PartTold) -> None:
    part.update(state=told.state.value, reason=told.reason, percent=told.percent, detail=told.detail)


def worst(parts: Parts) -> tuple[State, str | None] | None:
    """State and reason of a component that went bad, if one did: the attempt is as good as its worst. One that went
    back because of another has no reason of its own."""
    bad = [(State(p["state"]), p["reason"]) for p in parts.values() if p["state"] in BAD]
    return next((one for one in bad if one[1] is not None), bad[0] if bad else None)


def failed_parts(parts: Parts) -> list[str]:
    """The components that went bad for a reason of their own."""
    return [name for name, part in parts.items() if part["state"] in BAD and part["reason"] is not None]


def after_check_in(
    parts: Parts, wanted: Mapping[str, Collection[str]], running: Standing, standby: Standing, state: State
) -> dict[str, dict[str, Any]]:
    """The parts as what the device says it runs and has standing by shows them, and as the attempt's ``state`` tells
    whether that was confirmed."""
    changed = {name: dict(part) for name, part in parts.items()}
    for name, digests in wanted.items():
        part = changed.get(name)
        if part is None or not part["changes"]:
            continue
        digest = (running.get(name) or {}).get("digest")
        part["digest"] = digest
        runs = digest in digests
        stands_by = (standby.get(name) or {}).get("digest") in digests
        if runs and part["state"] != State.CONFIRMED:
            part.update(state=(State.CONFIRMED if state is State.CONFIRMED else State.PROVING).value, reason=None)
        elif not runs and state is State.REVERTED and part["state"] not in (*BEFORE, *BAD):
            part["state"] = State.REVERTED.value
        elif stands_by and not runs and part["state"] in BEFORE:
            part["state"] = State.STAGED.value
    return changed
