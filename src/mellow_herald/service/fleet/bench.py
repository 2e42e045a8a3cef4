"""Bench installs: a local build brought to one bench device while it is developed.

It is sealed on the engineer's machine as a release is, since devices take nothing else, and kept as a scratch image:
never a release, no version used up, in no lineage, gone when no device has it any more.
"""

from collections.abc import AsyncIterator
from dataclasses import dataclass

from mellow_herald.core.eligibility import Allow
from mellow_herald.core.verdict import Allowed
from mellow_herald.service.context import Context
from mellow_herald.service.fleet.devices import lone_plan, show
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.releases.offering import release_name
from mellow_herald.service.releases.publishing import Wishes, drain, receive
from mellow_herald.service.rollouts.life import start
from mellow_herald.store import releases


@dataclass(frozen=True, slots=True)
class BenchWishes:
    """How a build is brought to the bench. ``again``: although the device runs these very bytes."""

    allowed: Allowed
    again: bool
    reason: str


async def install_build(
    context: Context,
    serial: str,
    body: AsyncIterator[bytes],
    announced: int | None,
    by: str,
    wishes: BenchWishes,
    request_key: str | None,
) -> tuple[int, bool]:
    """Takes a sealed build for one bench device and brings it there at once; returns the id of the rollout of one, and
    whether it is new. Whatever the device runs may be overwritten: that is what a bench is for."""
    try:
        device = await show(context, serial)
        if not device.on_bench:
            raise ProblemError(
                409,
                "no-bench-device",
                f"{serial} is no bench device, and gets releases only. If builds are to be tried on it, mark it: "
                f"herald device mark {serial} --bench.",
            )
    except ProblemError:
        await drain(body)
        raise
    scratch, _ = await receive(context, body, announced, by, Wishes(bench=serial, allowed=wishes.allowed))
    async with context.engine.connect() as connection:
        (row,) = await releases.list_releases(connection, release_id=scratch)
    allow = [Allow.OLDER, Allow.UNKNOWN_BUILDS, Allow.BENCH_BUILDS, *([Allow.AGAIN] if wishes.again else [])]
    name = f"bench: {row['version']} on {serial}: {wishes.reason}"
    document = lone_plan(serial, release_name(row), name, allow)
    return await start(context, document, by, request_key, overtake=True, scratch=scratch, alone=serial)
