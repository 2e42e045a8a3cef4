"""The base of all models, and types that many of them use."""

import re
from datetime import date, datetime
from typing import Annotated, Generic, TypeVar

from pydantic import AfterValidator, AwareDatetime, BaseModel, BeforeValidator, ConfigDict, Field, StringConstraints

from mellow_herald.core.duration import parse_duration
from mellow_herald.core.limits import FIRST_YEAR, LARGEST_INTEGER, LAST_YEAR
from mellow_herald.core.refusal import Refused
from mellow_herald.core.version import parse_version


def checked(value: str, check: object) -> str:
    """The value, if ``check`` does not refuse it; for validators of models."""
    try:
        check(value)  # type: ignore[operator]
    except Refused as refusal:
        raise ValueError(str(refusal)) from None
    return value


Item = TypeVar("Item")
Day = TypeVar("Day", bound=date)

# NUL cannot be stored as text in PostgreSQL, and no name needs it.
Text = Annotated[str, StringConstraints(max_length=2000, pattern=r"^[^\x00]*$")]
Name = Annotated[str, StringConstraints(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$")]
# Why somebody does something: one line, for the journal and for whoever reads it in a terminal.
Reason = Annotated[str, StringConstraints(min_length=3, max_length=500, pattern=r"^[^\x00-\x1f\x7f]*$")]
# A component: firmware by its name, what has a place by kind and place.
ComponentName = Annotated[
    str,
    StringConstraints(
        pattern=r"^([A-Za-z0-9][A-Za-z0-9._-]{0,62}|(file|settings|certificate)/[A-Za-z0-9][A-Za-z0-9_-]{0,50})$"
    ),
    Field(examples=["radio", "settings/main"]),
]
Title = Annotated[str, StringConstraints(min_length=1, max_length=200, pattern=r"^[^\x00-\x1f]*$")]
Digest = Annotated[str, StringConstraints(pattern=r"^[0-9a-f]{64}$")]
Duration = Annotated[str, AfterValidator(lambda v: checked(v, parse_duration)), Field(examples=["90s", "30m", "2h"])]
Version = Annotated[
    str,
    StringConstraints(max_length=100, pattern=r"^[^\x00]*$"),
    AfterValidator(lambda v: checked(v, parse_version)),
    Field(examples=["2.5.0"]),
]
Labels = dict[Name, Annotated[str, StringConstraints(max_length=200, pattern=r"^[^\x00]*$")]]
# The largest whole number that PostgreSQL's bigint and JSON readers both keep exact.
Whole = Annotated[int, Field(strict=True, ge=0, le=LARGEST_INTEGER)]
# JSON has no infinity and no NaN (RFC 8259, section 6), nor has PostgreSQL's jsonb; 1e999 is read as infinity.
Number = Annotated[float, Field(strict=True, allow_inf_nan=False)]


def _within_calendar(at: Day) -> Day:
    if not FIRST_YEAR <= at.year <= LAST_YEAR:
        raise ValueError(f"a time has a year from {FIRST_YEAR} to {LAST_YEAR}")
    return at


def _no_number(at: object) -> object:
    """A time is written as RFC 3339 has it: a number could be seconds, milliseconds or a slip of the pen."""
    if isinstance(at, int | float) or (isinstance(at, str) and PLAIN_NUMBER.fullmatch(at.strip())):
        raise ValueError("a time is written like 2026-11-29T09:00:00Z")
    return at


PLAIN_NUMBER = re.compile(r"[+-]?[0-9.]+(e[+-]?[0-9]+)?", re.IGNORECASE)
# Days and times that can be told in any zone, and that later ones can be reckoned from.
CalendarDay = Annotated[date, BeforeValidator(_no_number), AfterValidator(_within_calendar)]
AnyTime = Annotated[datetime, BeforeValidator(_no_number), AfterValidator(_within_calendar)]
Moment = Annotated[AwareDatetime, BeforeValidator(_no_number), AfterValidator(_within_calendar)]
Time = datetime


class Model(BaseModel):
    """Base of the engineer's API: a field that is not known is a mistake and is said so."""

    model_config = ConfigDict(extra="forbid")


class Shown(BaseModel):
    """Base of what is answered: unknown fields are ignored, so that an older client reads a newer service. Each is
    built when it is first used, since a command uses few of them."""

    model_config = ConfigDict(extra="ignore", defer_build=True)


class Page(Shown, Generic[Item]):
    """A part of a listing. ``next`` is the cursor of the following page, None at the end; ``about``: the total is not
    counted, but told by a sample."""

    items: list[Item]
    next: str | None = None
    total: int | None = None
    about: bool = False
