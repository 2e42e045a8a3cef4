"""What went wrong in a rollout, try by try."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.text import Text

from mellow_herald.cli.looks import ROSE, styled
from mellow_herald.cli.output import console

if TYPE_CHECKING:
    from mellow_herald.wire.report import FailureOut

# What the release says already of all its devices.
ALIKE = frozenset({"board", "line"})


def print_failures(rollout_id: int, found: Sequence["FailureOut"], *, all_lines: bool) -> None:
    """Each failed try with its device, its reason and the lines of its log."""
    if not found:
        console().print(f"Nothing went wrong in rollout {rollout_id} so far.")
    for one in found:
        for line in _lines(one, all_lines=all_lines):
            console().print(line, soft_wrap=True)


def _lines(one: "FailureOut", *, all_lines: bool) -> list[Text]:
    head = Text.assemble(
        (f"{one.serial}  ", "bold"),
        (one.reason, ROSE),
        f"  try {one.try_number} of {one.tries}, ring {one.ring + 1}, {one.at:%Y-%m-%d %H:%M:%S}, now ",
        styled(one.state),
        ", left out" if one.left_out else "",
    )
    facts = " ".join(f"{name}={value}" for name, value in sorted(one.facts.items()) if name not in ALIKE)
    lines = [head, Text(f"  {facts}", "dim")]
    if one.detail:
        who = "" if one.said_by == "device" else "the service: "
        lines.append(Text(f"  {who}{f'{one.component}: ' if one.component else ''}{one.detail}"))
    for test in one.tests:
        if not test.get("passed", True):
            lines.append(Text(f"  self-test {test.get('name')} failed {test.get('detail') or ''}".rstrip(), ROSE))
    told = one.log.splitlines()
    lines += [Text(f"  | {line}", "dim") for line in told]
    if not all_lines and one.log_lines > len(told):
        lines.append(Text(f"  the last {len(told)} of {one.log_lines} lines; --logs shows all", "dim"))
    return lines
