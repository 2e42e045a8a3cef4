"""Parameters that several routers take; what PostgreSQL could not take is refused before it gets there."""

from typing import Annotated

from fastapi import Depends, Header, Path, Query

from mellow_herald.core.limits import LARGEST_INTEGER
from mellow_herald.service.context import Context, context_of
from mellow_herald.service.people.sign_in import SignIns, door_of

Ctx = Annotated[Context, Depends(context_of)]
Door = Annotated[SignIns, Depends(door_of)]
Id = Annotated[int, Path(ge=0, le=LARGEST_INTEGER)]
IdCursor = Annotated[int | None, Query(ge=0, le=LARGEST_INTEGER, description="Cursor: `next` of the page before.")]
TextCursor = Annotated[
    str | None, Query(max_length=200, pattern=r"^[^\x00]*$", description="Cursor: `next` of the page before.")
]
RequestKey = Annotated[
    str | None, Header(alias="Idempotency-Key", max_length=200, description="The same key does it only once.")
]
IfMatch = Annotated[
    str | None, Header(alias="If-Match", pattern=r'^"\d{1,9}"$', description="Only if this revision still stands.")
]


def revision_of(if_match: str | None) -> int | None:
    """The revision that an ``If-Match`` header names."""
    return None if if_match is None else int(if_match.strip('"'))
