"""Releases."""

from mellow_herald.wire.model import Shown, Time

ENVELOPE_MEDIA_TYPE = "application/suit-envelope+cose"


class ReleaseComponent(Shown):
    """One component's image."""

    name: str
    version: str
    digest: str
    size: int
    build_id: str = ""


class ReleaseOut(Shown):
    """A release. ``running`` counts devices that run it now, ``on_the_way`` live attempts towards it."""

    id: int
    name: str
    board: str
    line: str
    version: str
    state: str
    floor: int
    hw_rev_min: int
    hw_rev_max: int
    description: str
    manifest: str
    key: str
    size: int
    components: list[ReleaseComponent]
    published_at: Time
    published_by: str
    running: int = 0
    on_the_way: int = 0
    already_there: bool = False
