"""The checks of a release against what the service knows: boards, and what was published before."""

from collections.abc import Mapping

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.appearance import Appearance
from mellow_herald.core.checks import check_release
from mellow_herald.core.leaks import Leak
from mellow_herald.core.nameplate import Nameplate
from mellow_herald.core.suit import Component, Manifest
from mellow_herald.core.verdict import Allowed, Check, ChecksFailed, Reading, refused
from mellow_herald.service.clock import Clock
from mellow_herald.store import boards, releases
from mellow_herald.wire.check import CheckAsk


async def check(
    connection: AsyncConnection,
    clock: Clock,
    manifest: Manifest,
    allowed: Allowed,
    readings: Mapping[str, Reading] | None = None,
    *,
    scratch: bool = False,
) -> tuple[Check, ...]:
    """All checks of a release; ``readings`` are by image digest, None while the bytes are not there yet. What is
    brought to the bench alone (``scratch``) may have any version, again and again."""
    row = await boards.find_board(connection, manifest.board)
    board = None if row is None else boards.board_facts(row)
    earlier = None if scratch else await releases.earlier_releases(connection, manifest.board, manifest.line)
    # A build machine lives in real time, even where the service's time is scaled.
    return check_release(manifest, board, earlier, clock.real(), allowed, readings)


async def must_pass(
    connection: AsyncConnection,
    clock: Clock,
    manifest: Manifest,
    allowed: Allowed,
    readings: Mapping[str, Reading] | None = None,
    *,
    scratch: bool = False,
) -> tuple[Check, ...]:
    """The same; raises ``ChecksFailed`` if one refuses."""
    checks = await check(connection, clock, manifest, allowed, readings, scratch=scratch)
    if refused(checks):
        raise ChecksFailed(checks)
    return checks


async def foresee(connection: AsyncConnection, clock: Clock, asked: CheckAsk) -> tuple[Check, ...]:
    """What publishing would say of a release that has not been sealed yet."""
    row = await boards.find_board(connection, asked.board)
    domain = asked.vendor_domain or (row["vendor_domain"] if row else "unknown.invalid")
    known = set(Component.__annotations__)
    components = tuple(
        Component(name=image.component, **{k: v for k, v in image.model_dump().items() if k in known})
        for image in asked.images
    )
    manifest = Manifest(
        domain, asked.line, asked.board, asked.version, asked.floor, components, asked.hw_rev_min, asked.hw_rev_max
    )
    readings = {
        image.digest: Reading(
            Nameplate(
                asked.line,
                asked.board,
                image.component,
                image.version,
                asked.floor,
                image.updater,
                image.build_id,
                image.build_time,
                asked.hw_rev_min,
                asked.hw_rev_max,
            )
            if image.read
            else None,
            Appearance(image.seems, image.seems_words, "Pass the application's image.") if image.seems else None,
            tuple(Leak(leak.kind, leak.offset) for leak in image.leaks),
        )
        for image in asked.images
    }
    return await check(connection, clock, manifest, Allowed(**asked.allowed.model_dump()), readings)
