"""Boards: hardware models and the lines they serve."""

from typing import Annotated, Any

from pydantic import AfterValidator, ConfigDict, Field, StringConstraints, model_validator

from mellow_herald.core.board import BoardComponent as Facts
from mellow_herald.core.board import Runs
from mellow_herald.core.component import Kind, Storage, component_name
from mellow_herald.core.limits import LARGEST_REVISION
from mellow_herald.core.refusal import Refused
from mellow_herald.core.selector import parse_selector
from mellow_herald.wire.model import Duration, Model, Name, Shown, Time, Whole
from mellow_herald.wire.signal import SignalIn


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


PlaceName = Annotated[str, StringConstraints(pattern=r"^[A-Za-z0-9][A-Za-z0-9_-]{0,50}$")]


class BoardComponent(Model):
    """A component of a board. Firmware has a ``name`` and, where its slots do not tell it, a ``storage``. Every other
    ``kind`` has a ``place`` of ``size`` bytes, at ``address`` in the flash where an image could cover it: ``settings``
    may have a JSON ``schema``, a ``file`` an ``action`` that the device runs after it (at most 60 s), a ``certificate``
    the PEM certificates in which a chain must end (``trusted``)."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True, serialize_by_alias=True)

    kind: Kind = Kind.FIRMWARE
    name: Name | None = None
    place: PlaceName | None = None
    storage: Storage | None = None
    size: Annotated[int, Field(strict=True, gt=0, le=2**32)] | None = None
    address: Whole | None = None
    json_schema: dict[str, Any] | None = Field(default=None, alias="schema")
    action: Name | None = None
    trusted: Annotated[str, StringConstraints(max_length=65536, pattern=r"^[^\x00]*$")] | None = None

    @model_validator(mode="after")
    def _fits_its_kind(self) -> "BoardComponent":
        firmware = self.kind is Kind.FIRMWARE
        if firmware and (self.name is None or self.place is not None or self.size is not None):
            raise ValueError("firmware has a name; how much room it has is said by its slots")
        if not firmware and (self.place is None or self.size is None or self.name is not None):
            raise ValueError(f"a {self.kind.value} has a place and a size in bytes, and no name")
        own = {
            "storage": (self.storage, Kind.FIRMWARE),
            "schema": (self.json_schema, Kind.SETTINGS),
            "action": (self.action, Kind.FILE),
            "trusted": (self.trusted, Kind.CERTIFICATE),
        }
        for what, (value, kind) in own.items():
            if value is not None and self.kind is not kind:
                raise ValueError(f"{what} goes with kind = {kind.value!r}")
        return self

    @property
    def full_name(self) -> str:
        """What it is called: ``radio``, ``settings/main``."""
        return component_name(self.kind, self.place or self.name or "")

    @property
    def facts(self) -> Facts:
        """It, as the checks see it."""
        return Facts(
            self.full_name, self.storage, self.size or 0, self.address, self.json_schema, self.action, self.trusted
        )


class CheckInException(Model):
    """Devices that a selector picks check in at another interval; the first that matches counts."""

    where: Where
    every: Duration


class BoardIn(Model):
    """A board as it is added. ``components`` says what slots do not: how a part is stored, and what has a place.
    ``runs``: where its code runs, in any slot, only in the slot it was linked for, or at ``run_address``, where the
    boot loader maps the slot that it starts. ``signals`` are what its devices can send as readings, of which one may be
    asked for no more than ``listen_at_most`` bytes a day."""

    name: Name
    vendor_domain: Annotated[str, StringConstraints(pattern=r"^[a-z0-9-]+(\.[a-z0-9-]+)+$", max_length=200)]
    lines: list[Name] = Field(min_length=1, max_length=50)
    hw_revs: list[Annotated[int, Field(strict=True, ge=0, le=LARGEST_REVISION)]] = Field(min_length=1, max_length=50)
    slots: list[Slot] = Field(min_length=1, max_length=32)
    components: list[BoardComponent] = Field(default=[], max_length=32)
    runs: Runs = Runs.ANYWHERE
    run_address: Whole | None = None
    check_in: Duration = "5m"
    check_in_exceptions: list[CheckInException] = Field(default=[], max_length=20)
    signals: list[SignalIn] = Field(default=[], max_length=500)
    listen_at_most: Annotated[int, Field(strict=True, ge=0, le=2**40)] = 5_000_000


class BoardOut(Shown):
    """A board as it is kept. ``single_slot``: ``app`` is updated in place, with no way back without a download."""

    name: str
    vendor_domain: str
    lines: list[str]
    hw_revs: list[int]
    slots: list[Slot]
    components: list[BoardComponent] = []
    runs: Runs
    run_address: int | None = None
    single_slot: bool
    check_in: str
    check_in_exceptions: list[CheckInException]
    signals: list[SignalIn] = []
    listen_at_most: int = 0
    added_at: Time
    devices: int = 0
