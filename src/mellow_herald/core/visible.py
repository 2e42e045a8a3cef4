"""Characters that a terminal would obey, or that would turn the words around them about, made visible instead."""

import re

# C0 and C1 controls and DEL (ECMA-48), the separators of lines, and what changes the direction of text (UAX #9).
_OBEYED = "\x00-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028\u2029\u202a-\u202e\u2066-\u2069\ufeff"
OBEYED = re.compile(f"[{_OBEYED}]")
PICTURES, DELETE = 0x2400, 0x2421


def visible(text: str, keep: str = "") -> str:
    """``text`` with each of these characters, but those to ``keep``, as its picture (ESC as ␛) or its number."""
    if not OBEYED.search(text):
        return text
    return OBEYED.sub(lambda found: found[0] if found[0] in keep else _picture(ord(found[0])), text)


def _picture(code: int) -> str:
    if code < 0x20:
        return chr(PICTURES + code)
    return chr(DELETE) if code == 0x7F else f"⟨U+{code:04X}⟩"
