"""What a device registers: the objects that it has, as links (RFC 6690)."""

import re

from mellow_herald.core.refusal import Refused

LINK = re.compile(r"<([^<>]*)>((?:;[^,;\"]*(?:\"[^\"]*\")?)*)")
ALTERNATE_PATH = 'rt="oma.lwm2m"'


def read_links(payload: bytes) -> frozenset[str]:
    """The paths of a link list, without the root under which a device may have put them: ``/5/0``. ``Refused`` if it is
    no such list."""
    try:
        text = payload.decode()
    except UnicodeDecodeError:
        raise _odd() from None
    root, paths, at = "", [], 0
    while at < len(text):
        found = LINK.match(text, at)
        if found is None or (found.end() < len(text) and text[found.end()] != ","):
            raise _odd()
        path, about = found.groups()
        if ALTERNATE_PATH in about:
            root = path.rstrip("/")
        paths.append(path)
        at = found.end() + 1
    return frozenset(path.removeprefix(root) or "/" for path in paths)


def _odd() -> Refused:
    return Refused("bad-links", "the objects are no link list.", "Write them as </3/0>,</5/0> (RFC 6690).")
