"""Recordings: what a device has kept at full rate, asked for as a file."""

from typing import Annotated

from pydantic import ConfigDict, Field, model_validator

from mellow_herald.core.readings.recording import LARGEST, NoRecording, RecordingState
from mellow_herald.wire.device import DeviceModel
from mellow_herald.wire.model import Digest, Duration, Model, Moment, Name, Shown, Text, Time, Whole

USUAL_AT_MOST = 16 * 1024 * 1024


class RecordingIn(Model):
    """Which stretch to ask a device for: ``from`` one moment ``to`` another, or the ``last`` so long; of these
    ``signals``, or of all that it keeps. It is not sent if it has more than ``at_most`` bytes."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True, serialize_by_alias=True)

    begins: Moment | None = Field(default=None, alias="from")
    ends: Moment | None = Field(default=None, alias="to")
    last: Duration | None = Field(default=None, examples=["1h"])
    signals: Annotated[list[Name], Field(max_length=64)] = Field(default_factory=list)
    at_most: Annotated[int, Field(strict=True, ge=1000, le=LARGEST)] = USUAL_AT_MOST

    @model_validator(mode="after")
    def _is_a_stretch(self) -> "RecordingIn":
        if (self.begins is None) == (self.last is None):
            raise ValueError("say from when (and to when), or the last how long")
        if self.last is not None and self.ends is not None:
            raise ValueError("the last so long ends now; leave out to when")
        if self.begins is not None and self.ends is not None and self.begins >= self.ends:
            raise ValueError("it ends before it begins")
        if len(set(self.signals)) != len(self.signals):
            raise ValueError("a signal is named twice")
        return self


class RecordingOut(Shown):
    """A recording. ``size``, ``samples`` and ``signals`` are as the device announced them, ``have`` how many bytes are
    there; ``called_at`` is when the device last called. ``reason`` says why there is none."""

    id: int
    serial: str
    board: str
    begins: Time
    ends: Time
    signals: list[str]
    at_most: int
    asked_by: str
    asked_at: Time
    state: RecordingState
    size: int | None
    samples: int | None
    have: int
    moved_at: Time | None
    called_at: Time | None
    ended_at: Time | None
    reason: str
    detail: str
    contains: list[str]
    offset_s: float


class RecordingSaid(DeviceModel):
    """What a device has of the stretch: a file of ``size`` bytes with this ``sha256`` and so many ``samples``; or, by a
    ``reason``, why it has none."""

    size: Annotated[int, Field(strict=True, ge=1)] | None = None
    sha256: Digest | None = None
    samples: Whole = 0
    reason: NoRecording | None = None
    detail: Text = ""

    @model_validator(mode="after")
    def _has_one_or_none(self) -> "RecordingSaid":
        if (self.size is None) == (self.reason is None) or (self.size is None) != (self.sha256 is None):
            raise ValueError("say the size and the sha256 of the file, or the reason why there is none")
        if self.reason is not None and self.reason not in OWN_REASONS:
            raise ValueError(f"a device's reasons are {', '.join(OWN_REASONS)}")
        return self


OWN_REASONS = (NoRecording.NOTHING_KEPT, NoRecording.NO_ROOM, NoRecording.NOT_ABLE)


class RecordingHave(Shown):
    """From which byte on a device is to go on; all are there when it is the size."""

    have: int
    complete: bool = False
