"""A rollout's brakes in a terminal."""

from rich.text import Text

from mellow_herald.cli.looks import HONEY, ROSE, SAGE
from mellow_herald.wire.brake import BrakesOut

GAUGE = 30


def brake_lines(brakes: BrakesOut) -> list[Text]:
    """The brakes in words, each with a gauge from 0 to what halts, and the control."""
    lines: list[Text] = []
    for one in brakes.brakes:
        if not one.seen:
            continue
        colour = ROSE if one.halts else HONEY if one.near else SAGE
        filled = min(GAUGE, round(GAUGE * max(0.0, one.evidence) / one.halts_at))
        gauge = Text.assemble(("█" * filled, colour), ("░" * (GAUGE - filled), "dim"), "  ")
        lines.append(gauge.append(one.words, colour if one.near else ""))
    if brakes.control is not None and lines:
        lines.append(Text(brakes.control.words, "dim"))
    if brakes.round > 1 and lines:
        lines.append(Text(f"round {brakes.round}: only devices first exposed since the resume count", "dim"))
    return lines
