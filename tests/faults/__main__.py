"""``make faults``: the whole table, fault × seed × invariant; some minutes a fault.

python -m tests.faults [--seeds N] [--slow-seeds N] [FAULT …]
"""

import argparse
import json
import statistics
import time
from pathlib import Path

from tests.faults.audit import INVARIANTS
from tests.faults.table import FAULTS
from tests.faults.trial import Outcome, Trials
from tests.harness.processes import open_folder

# A fleet and its history anew now and then.
IN_A_ROW = 8


def main() -> None:
    """Runs what is asked for, and prints the table."""
    parser = argparse.ArgumentParser()
    parser.add_argument("faults", nargs="*", help="which ones; all, if none is named")
    parser.add_argument("--seeds", type=int, default=20, help="how often each")
    parser.add_argument("--slow-seeds", type=int, default=3, help="how often those that take long")
    parser.add_argument("--out", type=Path, default=Path("bench/faults.json"))
    asked = parser.parse_args()
    outcomes: list[Outcome] = []
    for name in asked.faults or FAULTS:
        fault = FAULTS[name]
        seeds = range(asked.slow_seeds if fault.long else asked.seeds)
        for first in range(0, len(seeds), IN_A_ROW):
            with open_folder() as folder:
                trials = Trials(folder)
                try:
                    for seed in seeds[first : first + IN_A_ROW]:
                        outcome = trials.run(name, fault.done, seed, fault.moment)
                        outcomes.append(outcome)
                        print(_line(outcome), flush=True)
                finally:
                    trials.stop()
        asked.out.write_text(json.dumps(_summary(outcomes), indent=1))
    print(_table(outcomes))
    if not all(outcome.holds for outcome in outcomes):
        raise SystemExit(1)


def _line(outcome: Outcome) -> str:
    wrong = "; ".join(f"{number}: {text}" for number, text in outcome.wrong.items() if text) or "all hold"
    answers = dict(sorted((outcome.engineers + outcome.devices).items()))
    return (
        f"{time.strftime('%H:%M:%S')} {outcome.fault} seed {outcome.seed} ({outcome.moment}): {wrong};"
        f" answered again after {outcome.recovered_s:.1f} s, ended after {outcome.ended_s:.1f} s; {answers}"
    )


def _summary(outcomes: list[Outcome]) -> dict[str, object]:
    """For each fault: how often, what did not hold, and how long it took until people were answered again (s)."""
    told = {}
    for name in dict.fromkeys(outcome.fault for outcome in outcomes):
        mine = [outcome for outcome in outcomes if outcome.fault == name]
        took = sorted(outcome.recovered_s for outcome in mine)
        told[name] = {
            "what": FAULTS[name].what,
            "trials": len(mine),
            "broken": {n: sum(bool(one.wrong[n]) for one in mine) for n in INVARIANTS},
            "answered again, median s": round(statistics.median(took), 1),
            "answered again, worst s": round(took[-1], 1),
        }
    return told


def _table(outcomes: list[Outcome]) -> str:
    head = ["fault", "trials", *(str(number) for number in INVARIANTS), "again after (median, worst)"]
    lines = [head]
    for name in dict.fromkeys(outcome.fault for outcome in outcomes):
        mine = [outcome for outcome in outcomes if outcome.fault == name]
        broken = [sum(bool(one.wrong[number]) for one in mine) for number in INVARIANTS]
        took = sorted(one.recovered_s for one in mine)
        again = f"{statistics.median(took):.1f} s, {took[-1]:.1f} s"
        lines.append([name, str(len(mine)), *("·" if not count else str(count) for count in broken), again])
    widths = [max(len(line[column]) for line in lines) for column in range(len(head))]
    return "\n".join("  ".join(cell.ljust(width) for cell, width in zip(line, widths, strict=True)) for line in lines)


if __name__ == "__main__":
    main()
