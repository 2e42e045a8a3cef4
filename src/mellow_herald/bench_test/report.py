"""What was found, as a page and for build pipelines."""

import re
from collections.abc import Sequence
from html import escape
from xml.etree import ElementTree as Xml

from mellow_herald.bench_test.station import Finding, Outcome

MARKS = {Outcome.RIGHT: "✓", Outcome.WRONG: "✗", Outcome.NOT_TRIED: "–"}
STYLE = """
body { font: 16px/1.5 system-ui, sans-serif; color: #26323a; background: #faf9f5 }
body { max-width: 60rem; margin: 2rem auto; padding: 0 1rem }
h1 { font-size: 1.5rem } h2 { font-size: 1.1rem; margin: 0 }
section { border-left: 4px solid #9aa7ad; background: #fff; padding: .8rem 1rem; margin: .8rem 0 }
section.right { border-color: #3c7a57 } section.wrong { border-color: #a8324e }
q { color: #55646c; font-style: italic; quotes: none } ul { margin: .4rem 0; padding-left: 1.2rem }
.wrong li.wrong { color: #a8324e; font-weight: 600 } small { color: #55646c }
"""


def summary(findings: Sequence[Finding]) -> str:
    """All of it in a line."""
    counts = {outcome: sum(one.outcome is outcome for one in findings) for outcome in Outcome}
    return ", ".join(f"{count} {outcome.value}" for outcome, count in counts.items())


def as_html(findings: Sequence[Finding], device: str) -> str:
    """A page that stands by itself."""
    parts = []
    for one in findings:
        lines = [f'<li class="wrong">{escape(words)}</li>' for words in one.wrong]
        lines += [f"<li>{escape(words)}</li>" for words in one.seen]
        parts.append(
            f'<section class="{one.outcome.value.replace(" ", "-")}"><h2>{MARKS[one.outcome]} {escape(one.title)} '
            f"<small>{one.name}, {one.outcome.value}, {one.seconds:.1f} s</small></h2>"
            f"<q>{_code(one.sentence)}</q><ul>{''.join(lines)}</ul></section>"
        )
    title = f"Bench test of {escape(device)}"
    head = f'<meta charset="utf-8"><title>{title}</title><style>{STYLE}</style>'
    return (
        f'<!doctype html><html lang="en"><head>{head}</head>'
        f"<body><h1>{title}</h1><p>{summary(findings)}</p>{''.join(parts)}</body></html>\n"
    )


def _code(sentence: str) -> str:
    return re.sub(r"`([^`]+)`", r"<code>\1</code>", escape(sentence))


def as_junit(findings: Sequence[Finding], device: str) -> str:
    """JUnit XML, as build pipelines read it: a test case for each station."""
    suite = Xml.Element(
        "testsuite",
        name=f"bench test of {device}",
        tests=str(len(findings)),
        failures=str(sum(one.outcome is Outcome.WRONG for one in findings)),
        skipped=str(sum(one.outcome is Outcome.NOT_TRIED for one in findings)),
        time=f"{sum(one.seconds for one in findings):.3f}",
    )
    for one in findings:
        case = Xml.SubElement(suite, "testcase", classname="bench-test", name=one.name, time=f"{one.seconds:.3f}")
        if one.outcome is Outcome.WRONG:
            failure = Xml.SubElement(case, "failure", message=_plain(one.wrong[0]))
            failure.text = _plain("\n".join([*one.wrong, f"The protocol says: {one.sentence}"]))
        elif one.outcome is Outcome.NOT_TRIED:
            Xml.SubElement(case, "skipped", message=_plain(one.seen[-1]))
        Xml.SubElement(case, "system-out").text = _plain("\n".join(one.seen))
    return '<?xml version="1.0" encoding="utf-8"?>\n' + Xml.tostring(suite, encoding="unicode") + "\n"


def _plain(text: str) -> str:
    """Without what XML cannot hold."""
    return "".join(letter for letter in text if letter in "\n\t" or letter.isprintable())
