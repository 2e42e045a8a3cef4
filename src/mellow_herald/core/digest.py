"""SHA-256 digests as this project writes them: 64 lower-case hex digits."""

import hashlib
import re

DIGEST = re.compile(r"[0-9a-f]{64}")


def sha256_hex(data: bytes) -> str:
    """The SHA-256 of ``data`` as 64 hex digits."""
    return hashlib.sha256(data).hexdigest()


def is_digest(text: str) -> bool:
    """Whether ``text`` is written as a digest."""
    return DIGEST.fullmatch(text) is not None
