"""Boards: hardware models and the lines they serve."""

from typing import Annotated

from pydantic import Field, StringConstraints

from mellow_herald.wire.model import Duration, Model, Name, Shown, Time, Whole


class Slot(Model):
    """A place for an image: ``size`` in bytes, ``address`` where it is linked to run."""

    name: Name
    size: Annotated[int, Field(gt=0, le=2**32)]
    address: Whole = 0


class BoardIn(Model):
    """A board as it is added."""

    name: Name
    vendor_domain: Annotated[str, StringConstraints(pattern=r"^[a-z0-9-]+(\.[a-z0-9-]+)+$", max_length=200)]
    lines: list[Name] = Field(min_length=1, max_length=50)
    hw_revs: list[Annotated[int, Field(ge=0, le=65535)]] = Field(min_length=1, max_length=50)
    slots: list[Slot] = Field(min_length=1, max_length=8)
    check_in: Duration = "5m"


class BoardOut(Shown):
    """A board as it is kept."""

    name: str
    vendor_domain: str
    lines: list[str]
    hw_revs: list[int]
    slots: list[Slot]
    check_in: str
    added_at: Time
    devices: int = 0
