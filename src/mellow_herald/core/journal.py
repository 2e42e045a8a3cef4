"""The journal's hash chain: each link's SHA-256 covers the link before it, so nothing can be changed unseen."""

import hashlib
import json
from collections.abc import Iterable, Mapping
from datetime import UTC, datetime
from typing import Any

GENESIS = "0" * 64


def link_hash(previous: str, link: int, entry: Mapping[str, Any]) -> str:
    """The hash (64 hex digits) of link number ``link`` with content ``entry``, after the hash ``previous``."""
    body = json.dumps([previous, link, dict(entry)], sort_keys=True, separators=(",", ":"), ensure_ascii=True)
    return hashlib.sha256(body.encode()).hexdigest()


def covered(who: str, what: str, subject: str, why: str, data: Mapping[str, Any], at: datetime) -> dict[str, Any]:
    """What the hash of an entry covers, and how."""
    told = {"who": who, "what": what, "subject": subject, "why": why, "data": dict(data)}
    return {**told, "at": at.astimezone(UTC).isoformat()}


class Chain:
    """Follows a chain link by link, from its beginning or from link number ``link`` with hash ``previous``."""

    def __init__(self, link: int = 0, previous: str = GENESIS) -> None:
        self.link, self.hash = link, previous

    def follows(self, link: int, hashed: str, entry: Mapping[str, Any]) -> bool:
        """Whether this is the next link, and its hash covers ``entry`` and the link before; then it is gone on to."""
        if link != self.link + 1 or hashed != link_hash(self.hash, link, entry):
            return False
        self.link, self.hash = link, hashed
        return True


def first_broken(chain: Iterable[tuple[int, str, Mapping[str, Any]]]) -> int | None:
    """The number of the first link whose hash does not follow, or None; ``chain`` gives (link, hash, entry)."""
    followed = Chain()
    return next((link for link, hashed, entry in chain if not followed.follows(link, hashed, entry)), None)
