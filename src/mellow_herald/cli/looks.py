"""How states look in a terminal: the shapes and colours of the console."""

from typing import TYPE_CHECKING

from mellow_herald.core.attempt import State

if TYPE_CHECKING:
    from rich.text import Text

GREY_BLUE, SLATE, HONEY, SAGE, ROSE, STONE = (
    "herald.grey-blue",
    "herald.slate",
    "herald.honey",
    "herald.sage",
    "herald.rose",
    "herald.stone",
)
# Where a terminal has 16 colours only, rounding ours would make honey red and sage grey.
COLOURS = {
    GREY_BLUE: ("#8fa3ad", "cyan"),
    SLATE: ("#7f9fc2", "bright_blue"),
    HONEY: ("#d99a2b", "yellow"),
    SAGE: ("#6fae7c", "green"),
    ROSE: ("#d5708a", "bright_red"),
    STONE: ("#a39b8b", "white"),
}
LOOKS: dict[State, tuple[str, str]] = {
    State.QUEUED: ("○", GREY_BLUE),
    State.OFFERED: ("◔", SLATE),
    State.DOWNLOADING: ("◑", SLATE),
    State.STAGED: ("◕", SLATE),
    State.CLEARED: ("◌", HONEY),
    State.INSTALLING: ("◍", HONEY),
    State.PROVING: ("◎", HONEY),
    State.CONFIRMED: ("●", SAGE),
    State.FAILED: ("■", ROSE),
    State.REVERTED: ("◧", ROSE),
    State.SILENT: ("□", ROSE),
    State.RELAPSED: ("▣", ROSE),
    State.CALLED_OFF: ("–", STONE),
    State.ROLLED_BACK: ("↩", STONE),
}


def looks_of(state: str) -> tuple[str, str]:
    """Shape and colour of a state."""
    return LOOKS[State(state)]


def styled(state: str, more: str = "") -> "Text":
    """A state with its shape and colour, and plain words after it."""
    from rich.text import Text

    shape, colour = looks_of(state)
    return Text.assemble((f"{shape} {state}", colour), f" {more}" if more else "")


def ago(seconds: float) -> str:
    """An age in words."""
    for size, unit in ((86400, "d"), (3600, "h"), (60, "min")):
        if seconds >= size:
            return f"{seconds / size:.0f} {unit} ago"
    return f"{max(0, seconds):.0f} s ago"


def amount(size: int) -> str:
    """A size in bytes in words."""
    for unit in ("B", "KiB", "MiB"):
        if size < 1024:
            return f"{size:.0f} {unit}" if unit == "B" else f"{size:.1f} {unit}"
        size /= 1024  # type: ignore[assignment]
    return f"{size:.1f} GiB"
