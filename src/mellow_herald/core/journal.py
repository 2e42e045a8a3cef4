"""The journal's hash chain: each link's SHA-256 covers the link before it, so nothing can be changed unseen."""

import hashlib
import json
from collections.abc import Iterable, Mapping
from typing import Any

GENESIS = "0" * 64


def link_hash(previous: str, link: int, entry: Mapping[str, Any]) -> str:
    """The hash (64 hex digits) of link number ``link`` with content ``entry``, after the hash ``previous``."""
    body = json.dumps([previous, link, dict(entry)], sort_keys=True, separators=(",", ":"), ensure_ascii=True)
    return hashlib.sha256(body.encode()).hexdigest()


def first_broken(chain: Iterable[tuple[int, str, Mapping[str, Any]]]) -> int | None:
    """The number of the first link whose hash does not follow, or None; ``chain`` gives (link, hash, entry)."""
    previous, expected = GENESIS, 1
    for link, hashed, entry in chain:
        if link != expected or hashed != link_hash(previous, link, entry):
            return link
        previous, expected = hashed, expected + 1
    return None
