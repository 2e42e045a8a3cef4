"""The report as Markdown."""

from collections.abc import Iterable
from datetime import datetime

from mellow_herald.core.visible import visible
from mellow_herald.service.rollouts.report_change import change_in_words
from mellow_herald.service.rollouts.report_rehearsal import HEADS, compare
from mellow_herald.wire.brake import BrakeOut
from mellow_herald.wire.comparison import ComparisonOut
from mellow_herald.wire.radio import RadioSessionOut
from mellow_herald.wire.report import ReportOut
from mellow_herald.wire.say import ApprovalOut, EvidenceOut

MOMENT = "%Y-%m-%d %H:%M:%S"


def write_markdown(report: ReportOut) -> str:
    """The report as one Markdown document (CommonMark with tables); it may well be read in a terminal."""
    return visible("\n".join(_parts(report)).rstrip() + "\n", keep="\n")


def span(seconds: float) -> str:
    """A length of time as people say it: ``45 s``, ``3 min 20 s``, ``2 h 5 min``."""
    whole = round(seconds)
    if whole < 60:
        return f"{whole} s"
    minutes, rest = divmod(whole, 60)
    if minutes < 60:
        return f"{minutes} min {rest} s" if rest else f"{minutes} min"
    hours, minutes = divmod(minutes, 60)
    return f"{hours} h {minutes} min" if minutes else f"{hours} h"


def moment(at: datetime | None) -> str:
    """A time as it stands in a report; a dash where there is none."""
    return at.strftime(MOMENT) if at else "–"


def size(count: int) -> str:
    """A number of bytes with a unit."""
    amount = float(count)
    for unit in ("B", "kB", "MB", "GB"):
        if amount < 1000 or unit == "GB":
            return f"{amount:.0f} {unit}" if unit == "B" else f"{amount:.1f} {unit}"
        amount /= 1000
    raise AssertionError("unreachable")


def accounting(report: ReportOut) -> list[tuple[str, int]]:
    """The sum that must add up: targeted = passed over + never given an attempt + attempts by state."""
    rollout = report.rollout
    rows = [("targeted", rollout.targeted)]
    rows += [(f"passed over: {reason}", count) for reason, count in sorted(rollout.passed_over.items())]
    rows += [("never given an attempt", rollout.never_given)]
    rows += [(state.value, count) for state, count in rollout.states.items()]
    return rows


def what_it_came_to(report: ReportOut) -> list[str]:
    """What a rollout came to, and what went wrong on the way whatever came of it, a sentence each."""
    rollout = report.rollout
    told = [f"Outcome: {rollout.outcome.value}." if rollout.outcome else "It goes on."]
    if rollout.reason and rollout.reason != rollout.halted_why:
        told.append(f"Why it is {rollout.state.value}: {rollout.reason}.")
    if rollout.halted_why:
        told.append(f"It was halted: {rollout.halted_why}.")
    if rollout.round > 1:
        told.append(f"It was resumed; this is round {rollout.round}.")
    if rollout.plan.leave_out:
        told.append(f"It left out {rollout.plan.leave_out}.")
    if rollout.second_release is not None:
        told.append(f"It compared {rollout.release} with {rollout.second_release}, by lot.")
        told.append(f"{rollout.chosen} was chosen for the rest." if rollout.chosen else "Neither was chosen yet.")
    if rollout.harm:
        reasons = ", ".join(f"{count} {reason}" for reason, count in sorted(rollout.harm.items()))
        told.append(f"Ever bad: {rollout.ever_bad} ({reasons}); {rollout.exposed} were exposed.")
    if rollout.unasked:
        told.append(f"{rollout.unasked} switched without clearance (acted-without-clearance).")
    if rollout.rolled_back_by:
        told.append(f"Rolled back by rollout {', '.join(str(one) for one in rollout.rolled_back_by)}.")
    if rollout.stands_still:
        told.append(f"Nothing moves by itself: {rollout.stands_still}.")
    return told


ARM_HEADS = ["arm", "release", "by lot", "exposed", "good", "bad", "share bad of those that count"]


def arm_cells(told: ComparisonOut) -> list[list[str]]:
    """A row of cells for each of two releases."""
    return [
        [
            f"{one.name} (chosen)" if one.name == told.chosen else one.name,
            one.release,
            *(str(count) for count in (one.given, one.exposed, one.good, one.bad)),
            f"{one.counted_bad} of {one.counted} ({one.low:.1%} … {one.high:.1%})",
        ]
        for one in told.arms
    ]


def _parts(report: ReportOut) -> Iterable[str]:
    rollout, plan = report.rollout, report.rollout.plan
    yield f"# {_plain(rollout.name)}\n"
    yield f"Rollout {rollout.id} of {rollout.release}: **{rollout.state}**\n"
    yield from (f"- {_plain(sentence)}" for sentence in what_it_came_to(report))
    yield f"\nStarted {moment(rollout.started_at)} by {rollout.created_by}, ended {moment(rollout.ended_at)}. "
    yield f"{size(rollout.moved_bytes)} of {size(rollout.all_bytes)} moved. Times are service time, UTC.\n"
    yield "## What was planned\n"
    yield f"- target: `{_code(plan.target)}`" + (f", without `{_code(plan.leave_out)}`" if plan.leave_out else "")
    pace = plan.pace
    downloading, at_risk = pace.downloading_at_once or "any number", pace.at_risk_at_once or "any number"
    yield f"- at once: {downloading} downloading, {at_risk} at risk"
    numbers = plan.numbers
    yield f"- {numbers.retries} retries, an answer within {numbers.answer_within}, on trial {numbers.trial_for}"
    brake = plan.brake
    watched = f", watched by {', '.join(brake.watch_by)}" if brake.watch_by else ""
    yield (
        f"- brakes: {brake.firmware_limit:.1%} of the exposed, {brake.delivery_limit:.1%} of the offered; a good "
        f"release is halted with a chance of at most {brake.alpha:.0%}{watched}"
    )
    if plan.harm is not None:
        surely = "for sure" if plan.harm.sure else f"with a certainty of {plan.harm.certainty:.2%}"
        yield f"- at most {plan.harm.at_most} devices hurt, {surely}"
    if plan.brake.hard_stop:
        yield f"- halt at {plan.brake.hard_stop} bad devices"
    yield "\n| ring | planned | opens | soak | enough |\n|---|---:|---|---|---:|"
    for ring, planned in zip(rollout.rings, plan.rings, strict=True):
        yield f"| {_cell(ring.name)} | {ring.planned} | {ring.opens.value} | {ring.soak} | {planned.enough:.0%} |"
    yield "\n## What happened\n\n| | devices |\n|---|---:|"
    for name, count in accounting(report):
        yield f"| {name} | {count} |"
    compared = list(compare(report))
    if compared:
        yield "\n## What was rehearsed, beside what happened\n\nQuantiles of 10, 50 and 90 % of all runs."
    for beside in compared:
        yield f"\n*{_plain(beside.title)}*\n\n| {' | '.join(HEADS)} |\n|---|---|---|---:|---:|---|"
        for row in beside.rows:
            yield f"| {' | '.join(_cell(cell) for cell in row)} |"
    if report.comparison is not None:
        yield f"\n## Its two releases side by side\n\n{_plain(report.comparison.words)}.\n"
        yield f"| {' | '.join(ARM_HEADS)} |\n|---|---|---:|---:|---:|---:|---|"
        for cells in arm_cells(report.comparison):
            yield f"| {' | '.join(_cell(cell) for cell in cells)} |"
        yield from (f"\n- {_plain(one.words)}" for one in report.comparison.readings)
    if rollout.budget is not None:
        yield f"\n## Its harm budget\n\n{_plain(rollout.budget.words)}.\n"
        for wave in report.waves:
            yield f"- {moment(wave.began_at)} {_plain(wave.words)}"
    if report.evidence is not None:
        yield f"\n## What was heard outside\n\n{_plain(report.evidence.words)}.\n"
        yield "| when | from | kind | device | text | what became of it |\n|---|---|---|---|---|---|"
        for heard in report.evidence.items:
            yield f"| {' | '.join(_cell(cell) for cell in evidence_cells(heard))} |"
    if report.approvals:
        yield "\n## Who approved, and what they saw\n\n| when | who | ring | why | seen |\n|---|---|---|---|---|"
        for given in report.approvals:
            yield f"| {' | '.join(_cell(cell) for cell in approval_cells(given))} |"
    if any(brake.seen for brake in report.brakes.brakes):
        yield f"\n## What the brakes saw\n\nRound {report.brakes.round}.\n"
        for seen in report.brakes.brakes:
            yield f"- {_plain(seen.words)}" + (f"; at its highest {_highest(seen):.1f}" if seen.history else "")
        if report.brakes.control is not None:
            yield f"- {_plain(report.brakes.control.words)}"
    if report.changes:
        yield "\n## What it did to readings\n"
        for change in report.changes:
            yield f"- {_plain(change_in_words(change))}"
    if report.suspects.bad:
        yield f"\n## What failing devices have in common\n\n{_plain(report.suspects.words)}"
    if report.suspects.suspects:
        yield "\n| suspect | bad | others bad | difference | selector |\n|---|---:|---:|---:|---|"
        for one in report.suspects.suspects:
            yield (
                f"| {_cell(one.words)} | {one.bad} of {one.devices} | {one.other_bad} of {one.others} "
                f"| {one.difference:+.0%} ({one.low:+.0%} … {one.high:+.0%}) | `{_code(one.selector)}` |"
            )
    yield "\n| ring | opened | done | devices | good | bad |\n|---|---|---|---:|---:|---:|"
    for part in report.rings:
        yield (
            f"| {_cell(part.name)} | {moment(part.opened_at)} | {moment(part.done_at)} | {part.devices} | {part.good} "
            f"| {part.bad} |"
        )
    yield "\n## Where the time went\n\n| ring | leg | devices | median | 95 % within | longest |"
    yield "|---|---|---:|---:|---:|---:|"
    for part in report.rings:
        for leg in [*part.spent, *part.phases]:
            yield (
                f"| {_cell(part.name)} | {leg.leg} | {leg.devices} | {span(leg.median_s)} | {span(leg.nearly_all_s)} "
                f"| {span(leg.longest_s)} |"
            )
    if report.sessions:
        yield "\n## Sessions by radio\n\n| session | set up from | began | sent for | fragments | complete | ended |"
        yield "|---|---|---|---:|---:|---:|---|"
        for session in report.sessions:
            yield f"| {' | '.join(session_cells(session))} |"
    if rollout.failed_parts:
        yield "\n## Parts that failed\n\n| part | ring | devices | the first of them |\n|---|---|---:|---|"
        for failed in rollout.failed_parts:
            ring_name = _cell(rollout.rings[failed.ring].name)
            yield f"| {_cell(failed.part)} | {ring_name} | {failed.devices} | {failed.serial}: {_cell(failed.line)} |"
    if report.alarms:
        yield "\n## Alarms of neighbours that it explains\n\n| when | from | alarm | about |\n|---|---|---|---|"
        for alarm in report.alarms:
            yield f"| {moment(alarm.at)} | {alarm.serial} | {_cell(alarm.kind)} | {_cell(alarm.about)} |"
    if report.failures:
        yield "\n## Devices that went wrong\n\n| serial | rev | state | reason | try | when | last words |"
        yield "|---|---:|---|---|---:|---|---|"
        for bad in report.failures:
            yield (
                f"| {bad.serial} | {bad.hw_rev} | {bad.state.value} | {bad.reason} | {bad.try_number} "
                f"| {moment(bad.at)} | {_cell(bad.detail)} |"
            )
    yield "\n## Who decided what\n\n| when | who | what | why |\n|---|---|---|---|"
    for entry in report.decisions:
        yield f"| {moment(entry.at)} | {_cell(entry.who)} | {_cell(entry.what)} | {_cell(entry.why)} |"


def evidence_cells(one: EvidenceOut) -> list[str]:
    """A piece of evidence as a line of a table."""
    became = "counts as bad" if one.counts else "waits to be acknowledged" if one.waits else ""
    if one.acknowledged_by:
        became = (
            f"acknowledged by {one.acknowledged_by}{' as unrelated' if one.unrelated else ''}: {one.acknowledged_why}"
        )
    if one.withdrawn_by:
        became = f"withdrawn by {one.withdrawn_by}: {one.withdrawn_why}"
    elif one.serial and not one.exposed:
        became = "had not the release then"
    return [moment(one.at), one.filed_by, one.kind, one.serial or "", one.text, became]


def approval_cells(one: ApprovalOut) -> list[str]:
    """An approval as a line of a table, with what there was to see."""
    seen = one.shown
    words = [
        f"{seen.get('hurt', 0)} of {seen.get('exposed', 0)} hurt",
        *seen.get("brakes", []),
        seen.get("control"),
        seen.get("budget"),
        *seen.get("rehearsed", []),
        (seen.get("evidence") or {}).get("words"),
    ]
    void = f" (void: {one.void_why})" if one.void_why else ""
    return [
        moment(one.at),
        one.by,
        f"{one.ring + 1}",
        f"{one.reason}{void}",
        "; ".join(str(word) for word in words if word),
    ]


def session_cells(one: RadioSessionOut) -> list[str]:
    """A session as a line of a table: where its time went, and what came of it."""
    repair = f", repair of {one.repair_of}" if one.repair_of is not None else ""
    took = span((one.ended_at - one.began_at).total_seconds()) if one.began_at and one.ended_at else ""
    late = f", {len(one.late)} not ready" if one.late else ""
    late += f", put off {one.postponed} times" if one.postponed else ""
    return [
        f"{one.id}{repair}",
        moment(one.planned_at),
        moment(one.began_at) + late,
        took,
        f"{one.sent} of {one.to_send}",
        f"{one.complete} of {sum(one.counts.values())}",
        one.outcome or one.state,
    ]


def _highest(brake: BrakeOut) -> float:
    return max(point.evidence for point in brake.history)


def _plain(text: str) -> str:
    return " ".join(text.split())


def _cell(text: str) -> str:
    return _plain(text).replace("\\", "\\\\").replace("|", "\\|").replace("<", "&lt;")


def _code(text: str) -> str:
    return _plain(text).replace("`", "'")
