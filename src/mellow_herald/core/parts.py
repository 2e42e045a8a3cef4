"""The components of one device inside an attempt: each has a state of its own, the attempt is as good as its worst.

Only releases with more than one component need this; a device that reports nothing about a component alone speaks
of all that it is changing."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Any

from mellow_herald.core.attempt import BAD, State

Parts = Mapping[str, Mapping[str, Any]]
Standing = Mapping[str, Mapping[str, Any]]
# What goes wrong with one component is its own; what comes before a switch stands by in the others meanwhile.
BEFORE = (State.QUEUED, State.OFFERED, State.DOWNLOADING, State.STAGED)


@dataclass(frozen=True, slots=True)
class PartWord:
    """A device's report as far as parts go: ``component`` None speaks of all that is changing."""

    state: State
    component: str | None = None
    reason: str | None = None
    detail: str = ""


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
        "reason": None,
        "detail": "",
    }


def after_word(parts: Parts, word: PartWord) -> dict[str, dict[str, Any]]:
    """The parts after a report."""
    changed = {name: dict(part) for name, part in parts.items()}
    for name, part in changed.items():
        # What was given up alone stays so, whatever becomes of the others.
        alone = word.component is None and part["state"] == State.FAILED
        if word.component == name or (word.component is None and part["changes"] and not alone):
            part.update(state=word.state.value, reason=word.reason, detail=word.detail)
    return changed


def worst(parts: Parts) -> tuple[State, str | None] | None:
    """State and reason of a component that went bad, if one did: the attempt is as good as its worst."""
    return next(((State(p["state"]), p["reason"]) for p in parts.values() if p["state"] in BAD), None)


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
        runs = (running.get(name) or {}).get("digest") in digests
        stands_by = (standby.get(name) or {}).get("digest") in digests
        if runs and part["state"] != State.CONFIRMED:
            part.update(state=(State.CONFIRMED if state is State.CONFIRMED else State.PROVING).value, reason=None)
        elif not runs and state is State.REVERTED and part["state"] not in (*BEFORE, *BAD):
            part["state"] = State.REVERTED.value
        elif stands_by and not runs and part["state"] in BEFORE:
            part["state"] = State.STAGED.value
    return changed
