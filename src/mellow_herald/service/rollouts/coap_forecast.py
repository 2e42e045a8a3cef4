"""What a plan would meet among devices that speak CoAP, before anything starts."""

from collections.abc import Sequence

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.coap.delivery import CoapPlan, choose
from mellow_herald.core.refusal import Refused
from mellow_herald.service.rollouts.planning import Drawn, Prepared
from mellow_herald.store import coap
from mellow_herald.store.coap import CoapTarget

# More of a ring are looked at as these are; so many are named.
SAMPLE, NAMED = 2000, 3


async def warnings(connection: AsyncConnection, prepared: Prepared, drawn: Drawn, *, served: bool) -> list[str]:
    """What keeps devices that speak CoAP from taking the release as the plan has it; ``served``: the service serves
    CoAP at all."""
    ids = [one for placed in drawn.placed for one in placed.ids[:SAMPLE].tolist()]
    found = await coap.list_targets(connection, ids) if ids else []
    return read_targets(found, prepared.plan.coap, served=served)


def read_targets(found: Sequence[CoapTarget], plan: CoapPlan, *, served: bool) -> list[str]:
    """The same of what is on record of these devices."""
    if not found:
        return []
    if not served:
        speak = "1 device speaks" if len(found) == 1 else f"{len(found)} devices speak"
        return [f"{speak} CoAP, and the service does not serve it: start it with --coap-port."]
    away = [one["serial"] for one in found if not one["registered"]]
    told = [f"Not registered by CoAP now: {_named(away)}. Who is not takes it once it is."] if away else []
    cannot: dict[str, list[str]] = {}
    for one in found:
        try:
            choose(plan, one["protocols"], one["delivery"])
        except Refused as refused:
            cannot.setdefault(refused.detail, []).append(one["serial"])
    told += [f"{_named(serials)} would refuse it: {why}" for why, serials in sorted(cannot.items())]
    return told


def _named(serials: Sequence[str]) -> str:
    more = len(serials) - NAMED
    return ", ".join(serials[:NAMED]) + (f" and {more} more" if more > 0 else "")
