"""Bodies that are no JSON, for schemathesis: bytes and text as they are."""

from typing import Any

import schemathesis

MEDIA_TYPES = ("application/suit-envelope+cose", "application/jsonl", "text/csv", "text/plain")


def as_it_is(ctx: Any, value: Any) -> Any:
    """The body as bytes."""
    return value if isinstance(value, bytes) else str(value).encode("utf-8", "surrogatepass")


for media_type in MEDIA_TYPES:
    schemathesis.serializer(media_type)(as_it_is)
