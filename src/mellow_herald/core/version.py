"""Versions of releases and components: SemVer 2.0.0 (semver.org), and a key that sorts them in SQL."""

from functools import lru_cache

import semver

from mellow_herald.core.refusal import Refused


@lru_cache(maxsize=4096)
def parse_version(text: str) -> semver.Version:
    """Parses a SemVer 2.0.0 version; raises ``Refused`` with the text at fault."""
    try:
        return semver.Version.parse(text)
    except (ValueError, TypeError):
        raise Refused(
            "bad-version",
            f"{text!r} is not a version.",
            "Write it as MAJOR.MINOR.PATCH, e.g. 2.5.0 or 2.5.0-rc.1.",
        ) from None


def version_key(text: str) -> bytes:
    """A key whose byte order equals SemVer precedence (section 11); build metadata does not count.

    Numbers are written as their length and then their digits in 8 bytes, so that a longer number sorts later.
    A pre-release sorts before its release: 0x01 opens a list of identifiers, 0x02 says there is none.
    """
    version = parse_version(text)
    key = b"".join(_number(n) for n in (version.major, version.minor, version.patch))
    if version.prerelease is None:
        return key + b"\x02"
    key += b"\x01"
    for part in version.prerelease.split("."):
        # Numeric identifiers sort below alphanumeric ones; the closing 0x00 makes a shorter list sort first.
        key += b"\x01" + _number(int(part)) if part.isdigit() else b"\x02" + part.encode("ascii") + b"\x00"
    return key + b"\x00"


def _number(value: int) -> bytes:
    digits = value.to_bytes((value.bit_length() + 7) // 8, "big")
    if len(digits) > 255:
        raise Refused("bad-version", f"the number {value} in the version is too large.")
    return bytes([len(digits)]) + digits
