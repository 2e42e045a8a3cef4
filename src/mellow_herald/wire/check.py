"""What publishing looks at: the question, and the lines of the answer."""

from typing import Annotated

from pydantic import Field, StrictBool

from mellow_herald.core.appearance import Kind
from mellow_herald.core.leaks import LeakKind
from mellow_herald.core.limits import LARGEST_REVISION
from mellow_herald.core.verdict import Verdict
from mellow_herald.wire.model import ComponentName, Digest, Model, Name, Shown, Text, Version, Whole

Revision = Annotated[int, Field(strict=True, ge=0, le=LARGEST_REVISION)]


class CheckOut(Shown):
    """One check: how it came out, and what to do."""

    name: str
    verdict: Verdict
    detail: str
    mend: str = ""


class AllowedIn(Model):
    """What the engineer asks for in so many words."""

    lower_version: StrictBool = False
    cut_off_for_good: StrictBool = False
    as_is: StrictBool = False
    keeps_secret: Annotated[str, Field(max_length=500)] = ""


class LeakIn(Model):
    """Something of a secret's shape at ``offset`` of an image; the secret itself is not told."""

    kind: LeakKind
    offset: Whole


class ImageIn(Model):
    """An image as it was looked at on the engineer's machine. ``read``: its nameplate stood in the bytes."""

    component: ComponentName = "app"
    version: Version
    digest: Digest
    size: Whole
    updater: Annotated[int, Field(strict=True, ge=0, le=LARGEST_REVISION)] = 1
    build_id: Text = ""
    build_time: Whole = 0
    slot: Annotated[int, Field(strict=True, ge=0, le=31)] | None = None
    address: Whole | None = None
    read: StrictBool = False
    seems: Kind | None = None
    seems_words: Text = ""
    leaks: list[LeakIn] = Field(default=[], max_length=64)


class CheckAsk(Model):
    """A release that might be published, to be told what publishing would say."""

    board: Name
    line: Name
    version: Version
    floor: Whole
    vendor_domain: Text | None = None
    hw_rev_min: Revision = 0
    hw_rev_max: Revision = LARGEST_REVISION
    images: list[ImageIn] = Field(min_length=1, max_length=32)
    allowed: AllowedIn = AllowedIn()
