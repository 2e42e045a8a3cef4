"""Problem details (RFC 9457): every error of the service is one of these."""

from mellow_herald.wire.check import CheckOut
from mellow_herald.wire.model import Shown

MEDIA_TYPE = "application/problem+json"
TYPE_PREFIX = "urn:mellow-herald:problem:"


class Problem(Shown):
    """What went wrong. ``detail`` says what to do; ``type`` ends in a stable kebab-case word; a
    release that was refused comes with all its ``checks``."""

    type: str
    title: str
    status: int
    detail: str
    instance: str | None = None
    checks: list[CheckOut] | None = None

    @property
    def kind(self) -> str:
        """The stable word at the end of ``type``."""
        return self.type.removeprefix(TYPE_PREFIX)
