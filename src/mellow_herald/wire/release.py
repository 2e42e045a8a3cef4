"""Releases: what they are, what becomes of them, and how many devices ran which over time."""

from enum import StrEnum
from typing import Annotated

from pydantic import Field, StringConstraints

from mellow_herald.wire.check import CheckOut
from mellow_herald.wire.model import Labels, Model, Shown, Time, Whole

ENVELOPE_MEDIA_TYPE = "application/suit-envelope+cose"
Notes = Annotated[str, StringConstraints(max_length=16 * 1024, pattern=r"^[^\x00]*$")]


class ReleaseState(StrEnum):
    """Where a release stands: ``draft`` is uploaded and checked but not offered, ``withdrawn`` not offered any more;
    ``scratch`` is what was brought to a bench device, and is no release."""

    DRAFT = "draft"
    PUBLISHED = "published"
    WITHDRAWN = "withdrawn"
    SCRATCH = "scratch"


class ReleaseComponent(Shown):
    """One image of a release, or what it brings to a place (``settings/main``). ``read``: its nameplate stood in the
    bytes, it was not stated by hand; ``base`` is the digest of the settings that it replaces, None for any;
    ``failed_on`` on how many devices it went bad for a reason of its own, where one release is shown."""

    name: str
    version: str
    digest: str
    size: int
    build_id: str = ""
    build_time: int = 0
    updater: int = 1
    slot: int | None = None
    address: int | None = None
    after: list[str] = []
    base: str | None = None
    failed_on: int = 0
    read: bool = False


class ReleaseOut(Shown):
    """A release. ``running`` counts devices that run it now, ``version_differs`` those of them that say
    another version of themselves, ``on_the_way`` live attempts towards it; ``needs`` is the
    least version of each named component that a device must run before; ``restart``: devices restart although
    nothing in it needs that; ``notes`` are Markdown."""

    id: int
    name: str
    board: str
    line: str
    version: str
    state: ReleaseState
    floor: int
    hw_rev_min: int
    hw_rev_max: int
    needs: dict[str, str] = {}
    independent: bool = False
    restart: bool = False
    notes: str = ""
    labels: dict[str, str] = {}
    revision: int = 1
    manifest: str
    key: str
    size: int
    components: list[ReleaseComponent]
    uploaded_at: Time
    uploaded_by: str
    published_at: Time | None = None
    published_by: str | None = None
    withdrawn_at: Time | None = None
    withdrawn_by: str | None = None
    withdrawn_why: str | None = None
    cleaned_at: Time | None = None
    baseline: bool = False
    running: int
    version_differs: int = 0
    on_the_way: int = 0
    checks: list[CheckOut] = []
    already_there: bool = False

    @property
    def headline(self) -> str:
        """The first line of the notes, without Markdown's marks for a heading."""
        return next((line.lstrip("# ").strip() for line in self.notes.splitlines() if line.strip()), "")


class EnvelopeCheck(Shown):
    """What publishing would say of a signed envelope; ``release`` is the very same one, if it is there already."""

    checks: list[CheckOut] = []
    release: ReleaseOut | None = None


class ReleaseEdit(Model):
    """What may be changed of a release; what is left out stays."""

    notes: Notes | None = None
    labels: Labels | None = None


class ManifestOut(Shown):
    """A release's signed manifest for people: in CBOR diagnostic notation, and who vouches for it."""

    diagnostic: str
    size: int
    key: str
    key_name: str
    key_status: str
    vendor_domain: str
    vendor_id: str
    class_id: str
    switch_order: list[list[str]]


class WithdrawalOut(Shown):
    """What withdrawing a release would stop, or stopped: rollouts that halt, and the devices on the way."""

    release: str
    rollouts: dict[int, str]
    on_the_way: int
    running: int
    baseline: bool


class UnusedRelease(Shown):
    """A release whose images nobody needs any more; ``bytes`` are freed if all that are listed go."""

    id: int
    name: str
    state: ReleaseState
    published_at: Time
    bytes: int


class CleanIn(Model):
    """The releases whose images shall go: those that were shown."""

    releases: list[Whole] = Field(min_length=1, max_length=10_000)


class CleanOut(Shown):
    """What was cleaned away."""

    releases: list[str]
    images: int


class LineageSample(Shown):
    """How many devices ran which version from ``at`` on, until the next sample."""

    at: Time
    counts: dict[str, int]


class Crossing(Shown):
    """A rollout that brought a version to devices of the line; of two that are compared, ``version`` names both
    (``2.4.0 or 2.5.2``)."""

    id: int
    name: str
    version: str
    state: str
    started_at: Time
    ended_at: Time | None = None


class LineageOut(Shown):
    """A line's versions over time on one board; ``versions`` in SemVer order, lowest first."""

    board: str
    line: str
    now: Time
    versions: list[str]
    samples: list[LineageSample]
    crossings: list[Crossing]
