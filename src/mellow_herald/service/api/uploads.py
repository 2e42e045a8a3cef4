"""What calls that take a release file have in common."""

from typing import Annotated, Any

from fastapi import Depends, Query, Request

from mellow_herald.core.verdict import Allowed
from mellow_herald.service.problems import ProblemError
from mellow_herald.wire.release import ENVELOPE_MEDIA_TYPE

BODY: dict[str, Any] = {
    "requestBody": {
        "required": True,
        "description": "A release file made by `herald release seal`: a SUIT envelope with its images inside.",
        "content": {ENVELOPE_MEDIA_TYPE: {"schema": {"type": "string", "format": "binary"}}},
    }
}


def allowed(
    lower_version: bool = False,
    cut_off_for_good: bool = False,
    as_is: bool = False,
    keeps_secret: Annotated[
        str, Query(max_length=500, description="Why a secret stands in an image; it goes to the journal.")
    ] = "",
) -> Allowed:
    """What the engineer asks for in so many words, as query parameters."""
    return Allowed(lower_version, cut_off_for_good, as_is, keeps_secret)


AllowedParams = Annotated[Allowed, Depends(allowed)]


def check_media_type(request: Request) -> None:
    """Refuses a body that does not say it is a release file."""
    media_type = request.headers.get("content-type", "").partition(";")[0]
    if media_type != ENVELOPE_MEDIA_TYPE:
        raise ProblemError(415, "wrong-media-type", f"Send a release file as {ENVELOPE_MEDIA_TYPE}.")


def announced_length(request: Request) -> int | None:
    """How many bytes the body is said to have."""
    announced = request.headers.get("content-length")
    return int(announced) if announced is not None and announced.isdigit() else None
