"""Selections: selectors saved under a name."""

from pydantic import Field

from mellow_herald.wire.board import Where
from mellow_herald.wire.model import Model, Name, Shown, Text, Time


class SelectionIn(Model):
    """A selector to be saved."""

    name: Name
    selector: Where
    note: Text = ""


class Standing(Shown):
    """How devices stand against the baseline of their board and line, or where there is none its highest published
    version. Each is counted once: ``barred`` cannot be updated (not admitted, or no updater), ``unknown`` runs a build
    that no release has, or nothing is known of it."""

    current: int = 0
    behind: int = 0
    ahead: int = 0
    unknown: int = 0
    barred: int = 0

    @property
    def total(self) -> int:
        """All devices of the selection."""
        return self.current + self.behind + self.ahead + self.unknown + self.barred


class SelectionOut(Shown):
    """A saved selection and how its devices stand now."""

    name: str
    selector: str
    note: str
    saved_at: Time
    saved_by: str
    standing: Standing = Field(default_factory=Standing)
