"""Checks at publishing, as lines in a terminal."""

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from mellow_herald.core.verdict import Check
    from mellow_herald.wire.check import CheckOut

SHAPES = {"pass": ("●", "herald.sage"), "warn": ("◐", "herald.honey"), "refuse": ("■", "herald.rose")}


def print_checks(checks: "Sequence[Check | CheckOut]", *, quiet: bool = False, error: bool = False) -> None:
    """Prints checks, one line each, with what to do where one did not pass; ``quiet`` leaves out the good ones."""
    from rich.console import Console
    from rich.text import Text

    from mellow_herald.cli.output import console

    screen: Any = console(error=error)
    assert isinstance(screen, Console)
    width = max((len(check.name) for check in checks), default=0)
    for check in checks:
        if quiet and check.verdict == "pass":
            continue
        shape, colour = SHAPES[check.verdict]
        line = Text.assemble(
            (f"  {shape} {check.verdict:<6} ", colour), (f"{check.name:<{width}}  ", "bold"), check.detail
        )
        screen.print(line, soft_wrap=True)
        if check.mend and check.verdict != "pass":
            screen.print(Text(f"{'':{width + 13}}{check.mend}", "dim"), soft_wrap=True)
