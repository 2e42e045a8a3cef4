"""Webhooks: events sent on to other programs, as CloudEvents 1.0."""

from typing import Annotated, Any, Literal

from pydantic import AfterValidator, Field, StringConstraints

from mellow_herald.wire.model import Model, Shown, Text, Time

Address = Annotated[
    str,
    StringConstraints(max_length=2000, pattern=r"^https?://[^\s\x00/?#]+([/?#][^\s\x00]*)?$"),
    Field(examples=["https://events.thistledown.example/herald"]),
]
EventKind = Literal["rollout", "attempt", "device", "release", "admission"]


# Not those that are made for each call, nor those that say how it is carried.
HeaderName = Annotated[
    str,
    StringConstraints(pattern=r"^[A-Za-z][A-Za-z0-9-]{0,62}$", to_lower=True, strip_whitespace=True),
    AfterValidator(lambda name: _own(name)),
]
HeaderValue = Annotated[str, StringConstraints(min_length=1, max_length=1000, pattern=r"^[\x20-\x7e]*$")]
_OURS = ("host", "content-", "signature", "transfer-", "connection", "accept", "expect", "upgrade", "te")


def _own(name: str) -> str:
    if name.startswith(_OURS):
        raise ValueError(f"the header {name} is made for each call")
    return name


class WebhookIn(Model):
    """Where events are to go, and which kinds of them. ``headers`` go with every call, a password of the receiver say;
    their values are kept secret."""

    url: Address
    kinds: Annotated[list[EventKind], Field(min_length=1, max_length=5)] = Field(default_factory=lambda: ["rollout"])  # type: ignore[arg-type]
    headers: Annotated[dict[HeaderName, HeaderValue], Field(max_length=10)] = Field(default_factory=dict)
    note: Text = ""


class WebhookOut(Shown):
    """A webhook, with the names of its ``headers``. ``secret`` is what its calls are signed with, shown when it is
    made and never again. ``waiting`` events are still tried, ``dead`` ones no longer."""

    id: int
    url: str
    kinds: list[str]
    headers: list[str]
    note: str
    made_by: str
    made_at: Time
    closed_at: Time | None
    delivered: int
    delivered_at: Time | None
    waiting: int
    dead: int
    failure: str
    secret: str | None = None


class DeadLetter(Shown):
    """An event that a webhook did not take after all tries."""

    id: int
    event: int
    tries: int
    made_at: Time
    failure: str
    body: dict[str, Any]


class RedeliverOut(Shown):
    """How many dead letters are tried again."""

    events: int
