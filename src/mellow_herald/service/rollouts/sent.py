"""Outside evidence as other systems send it: what a CloudEvent says, and of which rollout."""

import re
from dataclasses import dataclass
from typing import Annotated, Any

from pydantic import Field, ValidationError

from mellow_herald.core.cloudevent import CloudEvent
from mellow_herald.core.limits import LARGEST_INTEGER
from mellow_herald.core.refusal import Refused
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.store import rollouts, say
from mellow_herald.wire.mistakes import mistakes
from mellow_herald.wire.model import Shown
from mellow_herald.wire.plan import Kind
from mellow_herald.wire.say import EvidenceIn, Said, Serial

ROLLOUT, DEVICE = re.compile(r"(?:^|/)rollout/(\d{1,18})(?:/|$)"), re.compile(r"(?:^|/)device/([^/]+)$")


class _Data(Shown):
    """The data of an event: what is more in it is not read."""

    kind: Kind
    text: Said
    serial: Serial | None = None
    rollout: Annotated[int, Field(strict=True, ge=1, le=LARGEST_INTEGER)] | None = None


@dataclass(frozen=True, slots=True)
class Sent:
    """What an event asks to be filed, and of which rollout, if it says so."""

    evidence: EvidenceIn
    rollout: int | None


def read(event: CloudEvent) -> Sent:
    """What an event says; raises ``Refused`` if that is not enough. Its subject may name rollout and device as the
    service's own events do: ``rollout/12/device/SERIAL``."""
    subject = event.subject or ""
    rollout, device = ROLLOUT.search(subject), DEVICE.search(subject)
    named: dict[str, Any] = {}
    if rollout:
        named["rollout"] = int(rollout[1])
    if device:
        named["serial"] = device[1]
    try:
        data = _Data.model_validate({**named, **event.data})
    except ValidationError as error:
        told = "; ".join(mistakes(error, _Data).split("\n  "))
        raise Refused(
            "bad-event", f"its data:{told}.", "Send data with kind and text, and serial or rollout."
        ) from None
    return Sent(EvidenceIn(kind=data.kind, text=data.text, serial=data.serial), data.rollout)


async def rollout_of(context: Context, sent: Sent) -> int:
    """Of which rollout it is: the one that it names; that in which its device was last; or the only one that runs."""
    if sent.rollout is not None:
        return sent.rollout
    async with context.engine.connect() as connection:
        if sent.evidence.serial is not None:
            of_device = await say.rollouts_of_device(connection, sent.evidence.serial)
            if of_device is None:
                raise ProblemError(404, "not-found", f"There is no device {sent.evidence.serial!r}.")
            if not of_device:
                raise ProblemError(409, "not-in-rollout", f"{sent.evidence.serial} was in no rollout yet.")
            return of_device[0]
        live = await rollouts.list_rollouts(connection, live=True, limit=20)
    if len(live) == 1:
        return live[0]["id"]
    running = ", ".join(str(row["id"]) for row in live) or "none"
    raise ProblemError(
        422,
        "which-rollout",
        f"It names neither rollout nor device; {running} run. Say so in data.rollout or data.serial.",
    )
