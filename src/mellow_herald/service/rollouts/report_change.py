"""What an update did to readings, in a report: in a sentence, and as a picture that needs nothing else."""

from html import escape

from mellow_herald.wire.readings import ChangeOut, CourseOut, EffectOut

WIDTH, HEIGHT, EDGE = 920, 200, 46
UPDATED, CONTROL = "#b3405b", "#5b7fa6"
HOUR_S = 3600.0


def change_in_words(told: ChangeOut) -> str:
    """What it did to a reading a day, beside those that were not updated."""
    effect = told.per_day
    if effect.difference is None or effect.after is None:
        return f"{told.signal}: too little to say ({told.devices} updated, {told.control_devices} not)"
    spread = "" if effect.low is None or effect.high is None else f" ({effect.low:+.3g} … {effect.high:+.3g})"
    before = "" if effect.before is None else f", {effect.before.median:+.3g} before"
    others = _control(effect)
    return (
        f"{told.signal}: {effect.after.median:+.3g} {told.unit} a day after the update{before}{others};"
        f" the update did {effect.difference:+.3g} {told.unit} a day{spread}, {told.devices} updated,"
        f" {told.control_devices} not"
    )


def _control(effect: EffectOut) -> str:
    return "" if effect.control_after is None else f", {effect.control_after.median:+.3g} in the control"


def change_picture(told: ChangeOut) -> str:
    """Median and quartiles of how far devices are from what they had at their switch, updated and not."""
    lines = [(told.updated, UPDATED, "updated"), (told.control, CONTROL, "not updated")]
    points = [point for course, _, _ in lines for point in course]
    low, high = min(point.low for point in points), max(point.high for point in points)
    begin, end = min(point.after_s for point in points), max(point.after_s for point in points)
    height, length = (high - low) or 1.0, (end - begin) or 1.0

    def x(after_s: float) -> float:
        return EDGE + (WIDTH - EDGE) * (after_s - begin) / length

    def y(value: float) -> float:
        return 8 + (HEIGHT - 30) * (1 - (value - low) / height)

    def band(course: list[CourseOut], colour: str) -> str:
        upper = [f"{x(one.after_s):.1f},{y(one.high):.1f}" for one in course]
        lower = [f"{x(one.after_s):.1f},{y(one.low):.1f}" for one in reversed(course)]
        middle = " ".join(f"{x(one.after_s):.1f},{y(one.median):.1f}" for one in course)
        return (
            f'<polygon points="{" ".join(upper + lower)}" fill="{colour}" fill-opacity="0.18"/>'
            f'<polyline points="{middle}" fill="none" stroke="{colour}" stroke-width="2"/>'
        )

    shapes = "".join(band(course, colour) for course, colour, _ in lines if course)
    switch = f'<line x1="{x(0):.1f}" x2="{x(0):.1f}" y1="0" y2="{HEIGHT}" stroke="#22343c" stroke-dasharray="3 3"/>'
    bottom = HEIGHT - 4
    texts: list[tuple[float, float, str, str]] = [
        (EDGE - 6, y(low) + 4, "end", f"{low:.3g}"),
        (EDGE - 6, y(high) + 4, "end", f"{high:.3g}"),
        (x(begin), bottom, "start", f"{begin / HOUR_S:+.1f} h"),
        (WIDTH, bottom, "end", f"{end / HOUR_S:+.1f} h"),
    ]
    marks = "".join(
        f'<text x="{at:.1f}" y="{down:.1f}" font-size="12" text-anchor="{end_of}" fill="#66757c">{escape(words)}</text>'
        for at, down, end_of, words in texts
    )
    shown = [(colour, name) for course, colour, name in lines if course]
    legend = "".join(f'<span><i style="background:{colour}"></i>{name}</span>' for colour, name in shown)
    label = escape(f"{told.signal} before and after")
    return (
        f'<svg viewBox="0 0 {WIDTH} {HEIGHT}" role="img" aria-label="{label}">{shapes}{switch}{marks}</svg>'
        f'<p class="legend">{legend}</p>'
    )
