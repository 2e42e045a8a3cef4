"""People, sessions and tokens."""

from collections.abc import Sequence
from enum import StrEnum
from typing import Annotated

from pydantic import Field, StringConstraints, model_validator

from mellow_herald.wire.board import Where
from mellow_herald.wire.model import Model, Name, Shown, Time, Title


class Role(StrEnum):
    """What a person may do; each includes reading everything, and a person may have several."""

    VIEWER = "viewer"
    PUBLISHER = "publisher"
    OPERATOR = "operator"
    ADMIN = "admin"


Password = Annotated[str, StringConstraints(min_length=1, max_length=200)]
Roles = Annotated[list[Role], Field(min_length=1, max_length=4)]


def check_narrowing(roles: Sequence[Role], only: str | None) -> None:
    """Whoever decides for everybody cannot be narrowed."""
    whole = sorted({Role.ADMIN, Role.PUBLISHER} & set(roles))
    if only is not None and whole:
        raise ValueError(f"only: what {' and '.join(whole)} may is for all devices; narrow viewers and operators.")


class SignIn(Model):
    """Name and password of a person."""

    name: Name
    password: Password


class Me(Shown):
    """Who is signed in. ``must_change``: nothing else is allowed before the first password is changed. ``only``: a
    selector, if they are narrowed to the devices that it picks."""

    name: str
    roles: list[Role]
    only: str | None = None
    must_change: bool = False


class PasswordChange(Model):
    """One's own password, ``old`` and ``new`` (at least 10 characters)."""

    old: Password
    new: Annotated[str, StringConstraints(min_length=10, max_length=200)]


class PersonIn(Model):
    """Somebody new in the team; with ``only``, narrowed to the devices that a selector picks."""

    name: Name
    roles: Roles
    only: Where | None = None

    @model_validator(mode="after")
    def _may_be_narrowed(self) -> "PersonIn":
        check_narrowing(self.roles, self.only)
        return self


class RolesIn(Model):
    """The roles that somebody is to have, and what they are narrowed to (null: nothing; left out: as before)."""

    roles: Roles
    only: Where | None = None

    @model_validator(mode="after")
    def _may_be_narrowed(self) -> "RolesIn":
        check_narrowing(self.roles, self.only)
        return self


class PersonOut(Shown):
    """Somebody in the team, with how many open ``tokens`` and when they signed in last (real time). ``password`` is the
    first one, told once; ``must_change`` until they have chosen their own."""

    name: str
    roles: list[Role]
    only: str | None = None
    must_change: bool
    created_at: Time
    closed_at: Time | None
    tokens: int
    signed_in_at: Time | None
    password: str | None = None


class TokenFor(StrEnum):
    """What a token may be for alone: to send outside evidence."""

    EVIDENCE = "evidence"


class TokenIn(Model):
    """Asks for a token for API and command line; it expires after ``days``. With ``only_for`` it may do that alone."""

    name: Title = "command line"
    days: Annotated[int, Field(strict=True, ge=1, le=366)] = 90
    only_for: TokenFor | None = None


class TokenOut(Shown):
    """A token, and whose it is. ``token`` is shown once, when it is made."""

    id: int
    name: str
    person: str
    created_at: Time
    expires_at: Time
    only_for: TokenFor | None = None
    token: str | None = None
