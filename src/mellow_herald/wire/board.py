"""Boards: hardware models and the lines they serve."""

from typing import Annotated

from pydantic import AfterValidator, Field, StringConstraints

from mellow_herald.core.board import Runs
from mellow_herald.core.limits import LARGEST_REVISION
from mellow_herald.core.refusal import Refused
from mellow_herald.core.selector import parse_selector
from mellow_herald.wire.model import Duration, Model, Name, Shown, Time, Whole


def _selector(text: str) -> str:
    try:
        parse_selector(text)
    except Refused as refused:
        raise ValueError(str(refused)) from None
    return text


Where = Annotated[str, AfterValidator(_selector), Field(examples=["power = battery and hw_rev < 3"])]


class Slot(Model):
    """A place for an image of ``component``: ``size`` in bytes, ``address`` where it is linked to run."""

    name: Name
    size: Annotated[int, Field(strict=True, gt=0, le=2**32)]
    address: Whole | None = None
    component: Name = "app"


class CheckInException(Model):
    """Devices that a selector picks check in at another interval; the first that matches counts."""

    where: Where
    every: Duration


class BoardIn(Model):
    """A board as it is added. ``runs``: where its code runs, in any slot, only in the slot it was linked for, or at
    ``run_address``, where the boot loader maps the slot that it starts."""

    name: Name
    vendor_domain: Annotated[str, StringConstraints(pattern=r"^[a-z0-9-]+(\.[a-z0-9-]+)+$", max_length=200)]
    lines: list[Name] = Field(min_length=1, max_length=50)
    hw_revs: list[Annotated[int, Field(strict=True, ge=0, le=LARGEST_REVISION)]] = Field(min_length=1, max_length=50)
    slots: list[Slot] = Field(min_length=1, max_length=32)
    runs: Runs = Runs.ANYWHERE
    run_address: Whole | None = None
    check_in: Duration = "5m"
    check_in_exceptions: list[CheckInException] = Field(default=[], max_length=20)


class BoardOut(Shown):
    """A board as it is kept. ``single_slot``: ``app`` is updated in place, with no way back without a download."""

    name: str
    vendor_domain: str
    lines: list[str]
    hw_revs: list[int]
    slots: list[Slot]
    runs: Runs
    run_address: int | None = None
    single_slot: bool
    check_in: str
    check_in_exceptions: list[CheckInException]
    added_at: Time
    devices: int = 0
