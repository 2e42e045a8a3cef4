"""The report as one HTML file with charts: no script, nothing to load."""

from collections.abc import Iterable
from html import escape
from math import log

from mellow_herald.core.attempt import State
from mellow_herald.core.course import stacked
from mellow_herald.core.visible import visible
from mellow_herald.service.rollouts.report_change import change_in_words, change_picture
from mellow_herald.service.rollouts.report_rehearsal import HEADS, compare
from mellow_herald.service.rollouts.report_text import (
    ARM_HEADS,
    accounting,
    approval_cells,
    arm_cells,
    evidence_cells,
    moment,
    session_cells,
    size,
    span,
    what_it_came_to,
)
from mellow_herald.wire.brake import BrakeOut
from mellow_herald.wire.report import ReportOut, RingReport

WIDTH, HEIGHT = 920, 220
COLOURS = {
    State.CONFIRMED: "#4f8a5b",
    State.FAILED: "#b3405b",
    State.REVERTED: "#b3405b",
    State.SILENT: "#b3405b",
    State.RELAPSED: "#b3405b",
    State.ROLLED_BACK: "#a39b8b",
    State.CALLED_OFF: "#a39b8b",
    State.PROVING: "#d99a2b",
    State.INSTALLING: "#e2b055",
    State.CLEARED: "#ebc680",
    State.STAGED: "#5b7fa6",
    State.DOWNLOADING: "#7f9cbb",
    State.OFFERED: "#a3b8ce",
    State.QUEUED: "#d3dce1",
}
LEG_COLOURS = ("#8fa3ad", "#5b7fa6", "#c9a24f", "#d99a2b", "#4f8a5b")
STYLE = """
:root { color-scheme: light; }
body { font: 15px/1.5 Inter, "Liberation Sans", Arial, sans-serif; color: #22343c; background: #faf8f3;
  max-width: 980px; margin: 32px auto; padding: 0 24px; font-variant-numeric: tabular-nums; }
h1 { font-size: 24px; margin: 0; } h2 { font-size: 17px; margin: 32px 0 8px; }
table { border-collapse: collapse; width: 100%; }
th, td { text-align: left; padding: 4px 12px 4px 0; vertical-align: top;
  border-bottom: 1px solid #e6e0d3; } th { font-weight: 600; color: #66757c; } .n { text-align: right; }
.quiet { color: #66757c; } .bad { color: #b3405b; } svg { width: 100%; height: auto; background: #fff;
  border: 1px solid #e6e0d3; border-radius: 6px; } .legend span { margin-right: 14px; white-space: nowrap; }
.legend i { display: inline-block; width: 11px; height: 11px; border-radius: 2px; margin-right: 5px; }
pre { white-space: pre-wrap; font-size: 12px; margin: 4px 0; } summary { cursor: pointer; }
.columns { display: grid; grid-template-columns: 1fr 1fr; gap: 32px; }
"""


def write_page(report: ReportOut) -> str:
    """The whole page."""
    body = visible("\n".join(_parts(report)), keep="\n\t")
    title = escape(f"Rollout {report.rollout.id}: {report.rollout.name}")
    return (
        f'<!doctype html>\n<html lang="en"><head><meta charset="utf-8"><title>{title}</title>'
        f"<style>{STYLE}</style></head>\n<body>\n{body}\n</body></html>\n"
    )


def _parts(report: ReportOut) -> Iterable[str]:
    rollout, plan = report.rollout, report.rollout.plan
    yield f"<h1>{escape(rollout.name)}</h1>"
    yield (
        f'<p class="quiet">Rollout {rollout.id} · {escape(rollout.release)} · <strong>{rollout.state}</strong><br>'
        f"started {moment(rollout.started_at)} by {escape(rollout.created_by)}, ended {moment(rollout.ended_at)} · "
        f"{size(rollout.moved_bytes)} of {size(rollout.all_bytes)} moved · service time, UTC</p>"
    )
    yield f"<ul>{''.join(f'<li>{escape(sentence)}</li>' for sentence in what_it_came_to(report))}</ul>"
    yield "<h2>States over time</h2>"
    yield _areas(report)
    yield '<div class="columns"><section><h2>What was planned</h2>'
    pace, numbers = plan.pace, plan.numbers
    facts = [
        ("target", plan.target),
        *([("left out", plan.leave_out)] if plan.leave_out else []),
        ("downloading at once", str(pace.downloading_at_once or "any number")),
        ("at risk at once", str(pace.at_risk_at_once or "any number")),
        ("retries", f"{numbers.retries}, after {numbers.retry_pause}"),
        ("answer within", numbers.answer_within),
        ("firmware brake", f"{plan.brake.firmware_limit:.1%} of the exposed"),
        ("delivery brake", f"{plan.brake.delivery_limit:.1%} of the offered"),
        ("watched by", ", ".join(plan.brake.watch_by) or "nothing"),
        ("hard stop", str(plan.brake.hard_stop or "none")),
        *([("harm budget", f"{plan.harm.at_most} devices")] if plan.harm is not None else []),
    ]
    yield _table([], [[escape(name), escape(value)] for name, value in facts])
    yield "</section><section><h2>What happened</h2>"
    yield _table(["", "devices"], [[escape(name), str(count)] for name, count in accounting(report)], numbers={1})
    yield "</section></div><h2>Rings</h2>"
    rows = [
        [
            escape(one.name),
            str(ring.planned),
            moment(one.opened_at),
            moment(one.done_at),
            ring.soak,
            str(one.devices),
            str(one.good),
            f'<span class="bad">{one.bad}</span>' if one.bad else "0",
        ]
        for one, ring in zip(report.rings, rollout.rings, strict=True)
    ]
    heads = ["ring", "planned", "opened", "done", "soak", "attempts", "good", "bad"]
    yield _table(heads, rows, numbers={1, 5, 6, 7})
    if report.comparison is not None:
        yield f"<h2>Its two releases side by side</h2><p>{escape(report.comparison.words)}.</p>"
        yield _table(
            ARM_HEADS,
            [[escape(cell) for cell in cells] for cells in arm_cells(report.comparison)],
            numbers={2, 3, 4, 5},
        )
        yield f"<ul>{''.join(f'<li>{escape(one.words)}</li>' for one in report.comparison.readings)}</ul>"
    yield from _harm(report)
    compared = list(compare(report))
    if compared:
        yield "<h2>What was rehearsed, beside what happened</h2>"
        yield '<p class="quiet">Quantiles of 10, 50 and 90 % of all runs.</p>'
    for one in compared:
        rows = [[escape(cell) for cell in row] for row in one.rows]
        yield f"<h3>{escape(one.title)}</h3>{_table(list(HEADS), rows, numbers={3, 4})}"
    if rollout.budget is not None:
        yield f"<h2>Its harm budget</h2><p>{escape(rollout.budget.words)}.</p>"
        yield f"<ul>{''.join(f'<li>{moment(one.began_at)} {escape(one.words)}</li>' for one in report.waves)}</ul>"
    if report.evidence is not None:
        yield f"<h2>What was heard outside</h2><p>{escape(report.evidence.words)}.</p>"
        rows = [[escape(cell) for cell in evidence_cells(one)] for one in report.evidence.items]
        yield _table(["when", "from", "kind", "device", "text", "what became of it"], rows)
    if report.approvals:
        yield "<h2>Who approved, and what they saw</h2>"
        rows = [[escape(cell) for cell in approval_cells(one)] for one in report.approvals]
        yield _table(["when", "who", "ring", "why", "seen"], rows)
    if report.changes:
        yield "<h2>What it did to readings</h2>"
        for change in report.changes:
            yield f"<p>{escape(change_in_words(change))}</p>"
            yield change_picture(change)
    yield "<h2>Where the time went</h2>"
    yield '<p class="quiet">Median of the devices that went each leg of the way.</p>'
    yield _legs(report.rings)
    yield _phases(report.rings)
    if report.sessions:
        yield "<h2>Sessions by radio</h2>"
        heads = ["session", "set up from", "began", "sent for", "fragments", "complete", "ended"]
        yield _table(heads, [[escape(cell) for cell in session_cells(one)] for one in report.sessions], {3, 4, 5})
    if report.rollout.failed_parts:
        yield "<h2>Parts that failed</h2>"
        parts = [
            [
                escape(one.part),
                escape(report.rollout.rings[one.ring].name),
                str(one.devices),
                f"{escape(one.serial)}: {escape(one.line)}",
            ]
            for one in report.rollout.failed_parts
        ]
        yield _table(["part", "ring", "devices", "the first of them"], parts, numbers={2})
    if report.alarms:
        yield '<h2>Alarms of neighbours</h2><p class="quiet">Its restarts explain them: they count nowhere.</p>'
        told = [[moment(one.at), escape(one.serial), escape(one.kind), escape(one.about)] for one in report.alarms]
        yield _table(["when", "from", "alarm", "about"], told)
    if report.failures:
        yield "<h2>Devices that went wrong</h2>"
        yield _table(
            ["serial", "rev", "state", "reason", "try", "when", "last words"],
            [
                [
                    escape(bad.serial),
                    str(bad.hw_rev),
                    bad.state.value,
                    escape(bad.reason),
                    str(bad.try_number),
                    moment(bad.at),
                    _last_words(bad.detail, bad.log),
                ]
                for bad in report.failures
            ],
        )
    yield "<h2>Who decided what</h2>"
    yield _table(
        ["when", "who", "what", "why"],
        [[moment(e.at), escape(e.who), escape(e.what), escape(e.why)] for e in report.decisions],
    )


def _harm(report: ReportOut) -> Iterable[str]:
    """The brakes with their lines over time, the control, and the suspects."""
    shown = [brake for brake in report.brakes.brakes if brake.seen]
    if shown:
        yield f"<h2>What the brakes saw</h2><p class='quiet'>Round {report.brakes.round}.</p>"
    for brake in shown:
        mark = ' class="bad"' if brake.halts else ""
        yield f"<p{mark}>{escape(brake.words)}</p>"
        if brake.bad:
            yield _evidence(brake)
    if shown and report.brakes.control is not None:
        yield f'<p class="quiet">{escape(report.brakes.control.words)}</p>'
    if report.suspects.bad:
        yield f"<h2>What failing devices have in common</h2><p>{escape(report.suspects.words)}</p>"
    if report.suspects.suspects:
        rows = [
            [
                f"<strong>{escape(one.words)}</strong>",
                f"{one.bad} of {one.devices} ({one.rate:.0%})",
                f"{one.other_bad} of {one.others} ({one.other_rate:.0%})",
                f"{100 * one.difference:+.0f} ({100 * one.low:+.0f} … {100 * one.high:+.0f})",
                f"<code>{escape(one.selector)}</code>",
            ]
            for one in report.suspects.suspects
        ]
        yield _table(["suspect", "bad", "others bad", "difference, points", "selector"], rows, numbers={1, 2, 3})


def _evidence(brake: BrakeOut) -> str:
    """Evidence over time on a logarithmic scale that ends a little above what halts."""
    top, bottom, least = 22, 110, 0.1
    begin, length = brake.history[0].at, (brake.history[-1].at - brake.history[0].at).total_seconds() or 1

    def y(value: float) -> float:
        share = log(max(value, least) / least) / log(brake.halts_at / least)
        return max(2.0, bottom - (bottom - top) * share)

    path, last = [f"M0 {y(1):.1f}"], 1.0
    for point in brake.history:
        x = WIDTH * (point.at - begin).total_seconds() / length
        path += [f"L{x:.1f} {y(last):.1f}", f"L{x:.1f} {y(point.evidence):.1f}"]
        last = point.evidence
    colour = "#b3405b" if brake.halts else "#4f8a5b"
    return (
        f'<svg viewBox="0 0 {WIDTH} {bottom + 6}" role="img" aria-label="Evidence over time">'
        f'<line x1="0" x2="{WIDTH}" y1="{top}" y2="{top}" stroke="#b3405b" stroke-dasharray="5 4"/>'
        f'<text x="6" y="{top - 6}" font-size="12" fill="#66757c">halts at {brake.halts_at:g}</text>'
        f'<path d="{"".join(path)}" fill="none" stroke="{colour}" stroke-width="2.5"/></svg>'
    )


def _last_words(detail: str, log: str) -> str:
    if not log:
        return escape(detail)
    return f"<details><summary>{escape(detail or 'its log')}</summary><pre>{escape(log)}</pre></details>"


def _table(heads: list[str], rows: list[list[str]], numbers: frozenset[int] | set[int] = frozenset()) -> str:
    """A table of cells that are HTML already."""
    mark = dict.fromkeys(numbers, ' class="n"')
    head = "".join(f"<th{mark.get(n, '')}>{escape(name)}</th>" for n, name in enumerate(heads))
    lines = [
        f"<tr>{''.join(f'<td{mark.get(n, str())}>{cell}</td>' for n, cell in enumerate(row))}</tr>" for row in rows
    ]
    return f"<table>{f'<tr>{head}</tr>' if heads else ''}{''.join(lines)}</table>"


def _areas(report: ReportOut) -> str:
    points = [(point.at, {State(s): n for s, n in point.states.items()}) for point in report.course.points]
    if len(points) < 2:
        return '<p class="quiet">Nothing has moved yet.</p>'
    order = [state for state in COLOURS if any(state in counts for _, counts in points)]
    sums = stacked(points, order)
    top = max(row[-1] for row in sums) or 1
    begin, length = points[0][0], (points[-1][0] - points[0][0]).total_seconds() or 1

    def x(n: int) -> float:
        return WIDTH * (points[n][0] - begin).total_seconds() / length

    def y(value: int) -> float:
        return HEIGHT * (1 - value / top)

    shapes = []
    for k, state in enumerate(order):
        # Steps, not slopes: between two moments nothing moved.
        upper, lower = [], []
        for n in range(len(points)):
            right = x(n + 1) if n + 1 < len(points) else WIDTH
            upper += [f"{x(n):.1f},{y(sums[n][k + 1]):.1f}", f"{right:.1f},{y(sums[n][k + 1]):.1f}"]
            lower += [f"{right:.1f},{y(sums[n][k]):.1f}", f"{x(n):.1f},{y(sums[n][k]):.1f}"]
        # The lower edge runs back, so each of its steps does, too.
        back = [point for n in range(len(points) - 1, -1, -1) for point in lower[2 * n : 2 * n + 2]]
        shapes.append(f'<polygon fill="{COLOURS[state]}" points="{" ".join(upper + back)}"/>')
    opened = [
        f'<line x1="{at:.1f}" x2="{at:.1f}" y1="0" y2="{HEIGHT}" stroke="#22343c" stroke-dasharray="3 3"/>'
        f'<text x="{at + 4:.1f}" y="14" font-size="12" fill="#22343c">{escape(ring.name)}</text>'
        for ring in report.rings
        if ring.opened_at is not None
        for at in [min(WIDTH - 1, max(0.0, WIDTH * (ring.opened_at - begin).total_seconds() / length))]
    ]
    legend = "".join(f'<span><i style="background:{COLOURS[s]}"></i>{s.value}</span>' for s in order)
    return (
        f'<svg viewBox="0 0 {WIDTH} {HEIGHT}" role="img" aria-label="Devices by state over time">{"".join(shapes)}'
        f"{''.join(opened)}</svg>"
        f'<p class="legend">{legend}</p><p class="quiet">{moment(points[0][0])} to {moment(points[-1][0])}; '
        f"{top} devices at the top.</p>"
    )


def _phases(rings: list[RingReport]) -> str:
    rows = [
        [escape(ring.name), leg.leg, str(leg.devices), span(leg.median_s), span(leg.longest_s)]
        for ring in rings
        for leg in ring.phases
    ]
    return _table(["ring", "", "devices", "median", "longest"], rows, numbers={2, 3, 4}) if rows else ""


def _legs(rings: list[RingReport]) -> str:
    shown = [ring for ring in rings if ring.spent]
    if not shown:
        return '<p class="quiet">No device has come far enough yet.</p>'
    names = list(dict.fromkeys(leg.leg for ring in shown for leg in ring.spent))
    longest = max(sum(leg.median_s for leg in ring.spent) for ring in shown) or 1
    bars, left = [], 130
    for n, ring in enumerate(shown):
        at, top = float(left), 12 + n * 30
        bars.append(f'<text x="8" y="{top + 14}" font-size="13" fill="#22343c">{escape(ring.name[:18])}</text>')
        for leg in ring.spent:
            width = (WIDTH - left - 120) * leg.median_s / longest
            colour = LEG_COLOURS[names.index(leg.leg) % len(LEG_COLOURS)]
            tip = f"{leg.leg}: {span(leg.median_s)} (95 % within {span(leg.nearly_all_s)}, {leg.devices} devices)"
            bars.append(
                f'<rect x="{at:.1f}" y="{top}" width="{max(width, 1):.1f}" height="20" fill="{colour}">'
                f"<title>{escape(tip)}</title></rect>"
            )
            at += width
        total = span(sum(leg.median_s for leg in ring.spent))
        bars.append(f'<text x="{at + 8:.1f}" y="{top + 14}" font-size="13" fill="#66757c">{total}</text>')
    legend = "".join(
        f'<span><i style="background:{LEG_COLOURS[n % len(LEG_COLOURS)]}"></i>{escape(name)}</span>'
        for n, name in enumerate(names)
    )
    height = 24 + 30 * len(shown)
    rows = [
        [
            escape(ring.name),
            escape(leg.leg),
            str(leg.devices),
            span(leg.median_s),
            span(leg.nearly_all_s),
            span(leg.longest_s),
        ]
        for ring in shown
        for leg in ring.spent
    ]
    heads = ["ring", "leg", "devices", "median", "95 % within", "longest"]
    return (
        f'<svg viewBox="0 0 {WIDTH} {height}" role="img" aria-label="Time by leg and ring">{"".join(bars)}</svg>'
        f'<p class="legend">{legend}</p>'
        f"<details><summary>The numbers</summary>{_table(heads, rows, numbers={2, 3, 4, 5})}</details>"
    )
