"""How a release comes to a device that speaks CoAP: it fetches it, or it is written to it; by which transport, and in
blocks of which size. The plan says, or what the device says that it can."""

from collections.abc import Collection
from dataclasses import dataclass
from enum import IntEnum, StrEnum

from mellow_herald.core.refusal import Refused

# RFC 7959: 16 to 1024 bytes, in powers of two.
BLOCKS = tuple(1 << exponent for exponent in range(4, 11))
USUAL_BLOCK = 512


class Method(StrEnum):
    """Whether a device fetches (``pull``) or is written to (``push``)."""

    PULL = "pull"
    PUSH = "push"


class Transport(StrEnum):
    """By what a device fetches."""

    COAP = "coap"
    HTTP = "http"


class Protocol(IntEnum):
    """What a device says in 5/0/8."""

    COAP = 0
    COAPS = 1
    HTTP = 2
    HTTPS = 3
    COAP_TCP = 4
    COAPS_TCP = 5


class DeliveryMethod(IntEnum):
    """What a device says in 5/0/9."""

    PULL = 0
    PUSH = 1
    BOTH = 2


# What carries which: the security of OSCORE is inside of CoAP, so it is CoAP's own number that counts.
CARRIES = {Transport.COAP: {Protocol.COAP}, Transport.HTTP: {Protocol.HTTP, Protocol.HTTPS}}


@dataclass(frozen=True, slots=True)
class CoapPlan:
    """What a plan says of it; None: as the device can. ``block`` in bytes."""

    method: Method | None = None
    transport: Transport | None = None
    block: int | None = None

    def check(self) -> None:
        """Raises ``Refused`` if a value makes no sense."""
        if self.block is not None and self.block not in BLOCKS:
            known = ", ".join(map(str, BLOCKS))
            raise Refused("bad-plan", f"coap.block: {self.block} is no block size.", f"There are {known}.")
        if self.method is Method.PUSH and self.transport is Transport.HTTP:
            raise Refused(
                "bad-plan",
                "coap.transport: what is pushed is written by CoAP.",
                "Leave out coap.transport, or pull.",
            )


@dataclass(frozen=True, slots=True)
class Delivery:
    """How it is done."""

    method: Method
    transport: Transport
    block: int


def choose(plan: CoapPlan, protocols: Collection[int], delivery: int | None) -> Delivery:
    """The way for a device that says 5/0/8 (empty: nothing) and 5/0/9 (None: nothing); ``Refused`` if the plan asks for
    what it cannot. Where both can be, it fetches: a transfer that broke off goes on where it was."""
    only: dict[int | None, list[Method]] = {DeliveryMethod.PULL: [Method.PULL], DeliveryMethod.PUSH: [Method.PUSH]}
    can = only.get(delivery, list(Method))
    by = [one for one in Transport if not protocols or CARRIES[one] & {*protocols}]
    if plan.method is not None and plan.method not in can:
        raise _cannot(f"the plan has it {plan.method}, and it takes firmware by {can[0]} only (5/0/9 is {delivery})")
    method = plan.method or can[0]
    block = plan.block or USUAL_BLOCK
    if method is Method.PUSH:
        return Delivery(method, Transport.COAP, block)
    told = ", ".join(str(int(one)) for one in sorted(protocols))
    if plan.transport is not None and plan.transport not in by:
        raise _cannot(f"the plan has it fetch by {plan.transport}, and it cannot (5/0/8 is {told})")
    if not by:
        raise _cannot(f"it can fetch by nothing that the service serves (5/0/8 is {told})")
    return Delivery(method, plan.transport or by[0], block)


def _cannot(why: str) -> Refused:
    return Refused("cannot-deliver", f"{why}.", "Correct [coap] in the plan, or leave it out.")
