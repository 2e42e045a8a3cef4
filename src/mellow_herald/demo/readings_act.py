"""The fourth act: a release that fails nobody costs three times the battery. The brake's reading halts it in the soak
of its second ring, and before and after shows why."""

import json
from dataclasses import dataclass

from mellow_herald.client import Herald
from mellow_herald.core.behaviour import Behaviour, Fault
from mellow_herald.demo.processes import Processes
from mellow_herald.demo.scenario import BOARD, FIXED, LINE, WORN, Place, make_image

DRAINING = "2.5.2"
RELEASE = f"{BOARD}/{LINE}/{DRAINING}"
SIGNALS = "battery,weight,temperature"
PLAN = f"""\
# A few, then a dozen, each watched for its battery: what it loses in a day must not become half as much again.
name = "{DRAINING} to the scales"
release = "{RELEASE}"
target = "board = {BOARD} and version = {FIXED}"

[device]
battery_at_least = 10

[numbers]
retries = 0
answer_within = "60m"
trial_for = "60s"

[brake]
firmware_limit = 0.02

[[brake.readings]]
name = "battery"
worse = "lower"
by = 0.5
at_least = 2.0
measure = "per-day"

[[rings]]
name = "few"
count = 5
soak = "20m"
enough = 0.8

[[rings]]
name = "dozen"
count = 12
soak = "3h"
enough = 0.8

[[rings]]
name = "all"
soak = "6h"
enough = 0.8
"""

CHARTS = f"""\
# What 2.5.2 does to the scales that have it, beside those that are to have it later.
name = "The battery and {DRAINING}"
where = "board = {BOARD}"
by = "ring"
rollout = {{rollout}}
last = "6h"

[[rows]]
signals = ["battery"]
height = 240

[[rows]]
signals = ["weight", "temperature"]

[[rows]]
signals = ["weight"]
against = "temperature"
"""


@dataclass(frozen=True, slots=True)
class ReadingsAct:
    """Plays it with the processes of the first act."""

    processes: Processes
    place: Place
    herald: Herald

    def listen(self) -> None:
        """Asks the scales for what is to be compared later on."""
        run = self.processes.run
        run(
            "signal",
            "listen",
            "--where",
            f"board = {BOARD}",
            "--signals",
            SIGNALS,
            "--every",
            "1m",
            "--until",
            "3d",
            "--yes",
        )

    def start(self, seed: int) -> int:
        """Publishes the release and starts it; returns the rollout's id."""
        run, folder = self.processes.run, self.place.folder
        faults = [WORN, Behaviour('serial ~ "*"', Fault.DRAINS_BATTERY)]
        image = self.place.firmware(DRAINING)
        image.write_bytes(make_image(DRAINING, seed, faults=faults))
        plan = folder / f"watched-{DRAINING}.toml"
        plan.write_text(PLAN)
        run("signal", "list", "--board", BOARD)
        key = str(self.place.signing_key)
        run("release", "publish", str(image), "--key", key, "--notes", "weighs twice as often")
        made = run("rollout", "start", str(plan), "--yes", "--json", capture=True)
        return int(json.loads(made)["id"])

    def finish(self, rollout_id: int) -> list[str]:
        """Follows it to its halt, shows why, and takes it back; returns what did not go as the story has it."""
        run = self.processes.run
        run("rollout", "watch", str(rollout_id), good=(4,))
        run("rollout", "show", str(rollout_id))
        run("rollout", "readings", str(rollout_id), "battery", "--span", "2h")
        charts = self.place.folder / f"charts-{DRAINING}.toml"
        charts.write_text(CHARTS.format(rollout=rollout_id))
        run("chart", "keep", str(charts), "--shared")
        halted = self.herald.rollouts.show(rollout_id)
        told = self.herald.readings.before_and_after(rollout_id, "battery", span="2h")
        made = run("rollout", "rollback", str(rollout_id), "--reason", "costs battery", "--yes", "--json", capture=True)
        run("rollout", "watch", str(json.loads(made)["id"]))
        found = []
        if halted.reasons.get("readings-worse", 0) < 2:
            found.append(f"rollout {rollout_id} went bad by {halted.reasons}, not by its readings")
        if halted.rings[1].targeted == 0 or halted.rings[2].targeted:
            found.append(f"it was halted with {[ring.targeted for ring in halted.rings]} in its rings")
        effect = told.per_day
        if effect.high is None or effect.high > -2:
            found.append(f"before and after says {effect.difference} of the battery a day, at most {effect.high}")
        return found
