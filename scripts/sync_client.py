"""Writes the synchronous client from the asynchronous one: ``--check`` only tells whether it is up to date.

Token by token, so that names in comments and messages stay. What has another name where nothing is awaited stands in
``NAMES``; the rest is leaving ``async`` and ``await`` out, and letting the formatter have the last word.
"""

import io
import subprocess
import sys
import tokenize
from pathlib import Path

CLIENT = Path(__file__).parent.parent / "src/mellow_herald/client"
SOURCE, TARGET = CLIENT / "asynchronous", CLIENT / "synchronous"
NAMES = {
    "AsyncHerald": "Herald",
    "AsyncIterator": "Iterator",
    "AsyncClient": "Client",
    "AsyncBaseTransport": "BaseTransport",
    "__aenter__": "__enter__",
    "__aexit__": "__exit__",
    "aclose": "close",
    "aread": "read",
    "aiter_bytes": "iter_bytes",
    "aiter_lines": "iter_lines",
    "async_events": "events",
    "every_async": "every",
    "in_thread": "here",
    "pause_async": "pause",
    "asynchronous": "synchronous",
}
PHRASES = {
    "The asynchronous client: every call is awaited.": "The synchronous client, written from the asynchronous one.",
    ", by the asynchronous client": ", by the synchronous client",
    "``async with``": "``with``",
}
HEAD = "# Written by `make client` from ../asynchronous; change it there.\n"


def synchronous(source: str) -> str:
    """The same program where nothing is awaited."""
    written: list[tuple[int, str]] = []
    tokens = list(tokenize.generate_tokens(io.StringIO(source).readline))
    for token in tokens:
        text = token.string
        if token.type == tokenize.NAME:
            text = "" if text in ("async", "await") else NAMES.get(text, text)
        elif token.type == tokenize.STRING:
            for before, after in (PHRASES | {f'"{name}"': f'"{other}"' for name, other in NAMES.items()}).items():
                text = text.replace(before, after)
        written.append((token.type, text))
    return HEAD + _spaced(source, tokens, [text for _, text in written])


def _spaced(source: str, tokens: list[tokenize.TokenInfo], texts: list[str]) -> str:
    """The new texts with the old white space between them."""
    lines = source.splitlines(keepends=True)
    starts = [0]
    for line in lines:
        starts.append(starts[-1] + len(line))

    def at(place: tuple[int, int]) -> int:
        return min(starts[min(place[0] - 1, len(lines))] + place[1], len(source))

    out, last, dropped = [], 0, False
    for token, text in zip(tokens, texts, strict=True):
        begin, end = at(token.start), at(token.end)
        gap = source[last:begin]
        out += ["" if dropped else gap, text if token.string.strip() else token.string]
        dropped = token.string in ("async", "await") and not text
        last = end
    return "".join(out)


def formatted(source: str) -> str:
    """As the formatter writes it, imports in order."""
    for arguments in (["check", "--quiet", "--select", "I", "--fix"], ["format", "--quiet"]):
        ruff = [str(Path(sys.executable).with_name("ruff")), *arguments, "--stdin-filename", str(TARGET / "x.py"), "-"]
        source = subprocess.run(ruff, input=source, capture_output=True, text=True, check=True).stdout
    return source


def main() -> int:
    """Writes the files, or says which are not as they should be."""
    expected = {path.name: formatted(synchronous(path.read_text())) for path in sorted(SOURCE.glob("*.py"))}
    present = {path.name: path.read_text() for path in TARGET.glob("*.py")}
    if "--check" in sys.argv:
        wrong = sorted(name for name in expected.keys() | present.keys() if expected.get(name) != present.get(name))
        for name in wrong:
            print(f"{TARGET / name} is not what is written from {SOURCE / name}: run `make client`.", file=sys.stderr)
        return bool(wrong)
    TARGET.mkdir(exist_ok=True)
    for name in present.keys() - expected.keys():
        (TARGET / name).unlink()
    for name, text in expected.items():
        (TARGET / name).write_text(text)
    return 0


if __name__ == "__main__":
    sys.exit(main())
