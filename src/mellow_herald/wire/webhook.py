"""Webhooks: events sent on to other programs, as CloudEvents 1.0."""

from typing import Annotated, Any, Literal

from pydantic import Field, StringConstraints

from mellow_herald.wire.model import Model, Shown, Text, Time

Address = Annotated[
    str,
    StringConstraints(max_length=2000, pattern=r"^https?://[^\s\x00/?#]+([/?#][^\s\x00]*)?$"),
    Field(examples=["https://events.thistledown.example/herald"]),
]
EventKind = Literal["rollout", "attempt", "device", "release", "admission"]


class WebhookIn(Model):
    """Where events are to go, and which kinds of them."""

    url: Address
    kinds: Annotated[list[EventKind], Field(min_length=1, max_length=5)] = Field(default_factory=lambda: ["rollout"])  # type: ignore[arg-type]
    note: Text = ""


class WebhookOut(Shown):
    """A webhook. ``secret`` is what its calls are signed with, shown when it is made and never again. ``waiting``
    events are still tried, ``dead`` ones no longer."""

    id: int
    url: str
    kinds: list[str]
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
