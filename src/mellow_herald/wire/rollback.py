"""Bringing devices back to what they came from."""

from typing import Annotated

from pydantic import Field, StrictBool

from mellow_herald.wire.model import Model, Reason, Shown
from mellow_herald.wire.plan import PlanBrake, PlanPace, Target


class RollbackIn(Model):
    """Which devices of a rollout are brought back (all, of one ``ring``, only those that went bad, those that ``where``
    picks), how many at once (all, by default), and with which brake; ``reason`` goes to the journal."""

    reason: Reason
    ring: Annotated[int, Field(strict=True, ge=0, le=50)] | None = None
    only_bad: StrictBool = False
    where: Target | None = None
    pace: PlanPace = Field(default_factory=PlanPace)
    brake: PlanBrake = Field(default_factory=lambda: PlanBrake(firmware_limit=0.1, delivery_limit=0.2))


class WayPreview(Shown):
    """Devices that go back in the same way, or cannot for the same reason: how many, and the first of them."""

    way: str
    words: str
    can: bool
    devices: int
    first: list[str]


class RollbackPreview(Shown):
    """What a rollback would do. Devices ``at_risk`` are still switching: their turn comes when that has ended."""

    rollout: int
    release: str
    targeted: int
    at_risk: int
    ways: list[WayPreview]


class SwapIn(Model):
    """Why a device is to switch to what stands in its other slot."""

    reason: Reason
