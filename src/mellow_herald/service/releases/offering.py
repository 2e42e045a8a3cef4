"""Whether devices may be offered a release at all."""

from collections.abc import Mapping
from typing import Any

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.key_status import KeyStatus
from mellow_herald.service.problems import ProblemError
from mellow_herald.store import keys
from mellow_herald.wire.release import ReleaseState


async def check_offerable(connection: AsyncConnection, row: Mapping[str, Any]) -> None:
    """Raises a problem unless devices may be offered this release: published, its images there, its key not revoked.

    The caller shares ``Lock.KEYS`` and holds the release's row.
    """
    # A scratch image has no name to be asked for by: only a bench install comes to it.
    if row["state"] not in (ReleaseState.PUBLISHED, ReleaseState.SCRATCH):
        why = f" ({row['withdrawn_why']})" if row["withdrawn_why"] else ""
        raise ProblemError(
            422, "not-published", f"{release_name(row)} is {row['state']}{why}. Only published releases are offered."
        )
    check_bytes(row)
    known = await keys.trusted_keys(connection)
    key = known.find(row["kid"]) if known else None
    if key is None or key.status is KeyStatus.REVOKED:
        raise ProblemError(
            422,
            "key-not-active",
            f"{release_name(row)} is signed by key {row['kid']}, which is revoked or not listed: devices would "
            "refuse it. Build it again under a higher version and sign that with an active key.",
        )


def check_bytes(row: Mapping[str, Any]) -> None:
    """Raises a problem if the release's images were cleaned away."""
    if row["cleaned_at"] is not None:
        raise ProblemError(
            422,
            "images-gone",
            f"The images of {release_name(row)} were cleaned away. Publish its release file again first.",
        )


def release_name(row: Mapping[str, Any]) -> str:
    """What a release is called: ``board/line/version``."""
    return f"{row['board']}/{row['line']}/{row['version']}"
