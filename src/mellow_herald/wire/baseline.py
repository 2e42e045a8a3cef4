"""Baselines, and what they would do."""

from pydantic import StrictBool

from mellow_herald.wire.model import Model, Reason, Shown, Time


class BaselineOut(Shown):
    """The release that newly admitted or returning devices of a board and line should run; ``brings`` tells whether
    they are brought to it without being asked."""

    board: str
    line: str
    release: str
    brings: bool
    set_at: Time
    set_by: str


class BaselinePreview(BaselineOut):
    """What the baseline would do now: how many devices that arrived it would bring (``first`` of them by serial), how
    many it would pass over, by reason, and how many older devices it leaves alone because they did not arrive."""

    would_bring: int
    first: list[str]
    passed_over: dict[str, int]
    left_alone: int


class BaselineSwitch(Model):
    """Lets a baseline bring devices, or no longer."""

    brings: StrictBool
    reason: Reason
