"""People, sessions and tokens."""

from enum import StrEnum
from typing import Annotated

from pydantic import Field, StringConstraints

from mellow_herald.wire.model import Model, Name, Shown, Time, Title


class Role(StrEnum):
    """What a person may do; each includes reading everything."""

    VIEWER = "viewer"
    PUBLISHER = "publisher"
    OPERATOR = "operator"
    ADMIN = "admin"


class SignIn(Model):
    """Name and password of a person."""

    name: Name
    password: Annotated[str, StringConstraints(min_length=1, max_length=200)]


class Me(Shown):
    """Who is signed in."""

    name: str
    role: Role


class TokenIn(Model):
    """Asks for a token for API and command line; it expires after ``days``."""

    name: Title = "command line"
    days: Annotated[int, Field(ge=1, le=366)] = 90


class TokenOut(Shown):
    """A token. ``token`` is shown once, when it is made."""

    id: int
    name: str
    created_at: Time
    expires_at: Time
    token: str | None = None
