"""A fleet under load, one fault at a moment that a seed gives, and what is left afterwards."""

import csv
import gzip
import os
import random
import signal
import subprocess
import threading
import time
import tomllib
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path

import httpx

from mellow_herald.client import HeraldError, ProblemError
from mellow_herald.core.readings.recording import OPEN
from mellow_herald.demo import scenario
from mellow_herald.sim.sensing import own_number, weight_at
from mellow_herald.store.cluster import Cluster
from mellow_herald.wire.plan import PlanDocument, PlanPace
from mellow_herald.wire.readings import ListeningIn
from mellow_herald.wire.recordings import RecordingIn, RecordingOut
from mellow_herald.wire.rollback import RollbackIn
from mellow_herald.wire.rollout import RolloutOut
from tests.faults.audit import NEAR_KG, SIGNAL, Expected, audit
from tests.faults.relay import Relay
from tests.harness.flight import Flight
from tests.harness.patience import PATIENCE_S, until

DEVICES, SPEED, WORKERS = 20, 60, 2
PACE = {"downloading": 8, "at risk": 6}
PLAN = f"""
name = "through a fault"
release = "{scenario.FIXED_RELEASE}"
target = "board = {scenario.BOARD}"
[numbers]
trial_for = "1h"
answer_within = "6h"
retries = 0
[pace]
downloading_at_once = {PACE["downloading"]}
at_risk_at_once = {PACE["at risk"]}
[[rings]]
name = "all"
soak = "1m"
enough = 0.5
[brake]
firmware_limit = 0.5
"""
PLAN_PACE = PlanPace(downloading_at_once=PACE["downloading"], at_risk_at_once=PACE["at risk"])
LOOK_S = 0.25


@dataclass
class Outcome:
    """What came of one trial: ``wrong`` by number of invariant, real seconds until people were answered again
    (``recovered_s``) and until the rollout had ended, and what engineers and devices were answered meanwhile."""

    fault: str
    seed: int
    moment: str
    wrong: dict[int, str] = field(default_factory=dict)
    recovered_s: float = 0.0
    ended_s: float = 0.0
    engineers: Counter[int] = field(default_factory=Counter)
    devices: Counter[int] = field(default_factory=Counter)

    @property
    def holds(self) -> bool:
        """Whether every invariant held."""
        return not any(self.wrong.values())


class Trials(Flight):
    """A service with two workers, a fleet behind a relay, and an engineer who keeps looking; trial after trial, each
    a rollout outwards or the way back of the one before."""

    def __init__(self, folder: Path) -> None:
        self.full_database, self.full_images = folder / "database-full", folder / "images-full"
        self.ahead = folder / "ahead"
        library = folder / "machine.so"
        source = Path(__file__).with_name("machine.c")
        subprocess.run(["gcc", "-shared", "-fPIC", "-O1", "-o", library, source], check=True)
        environment = {
            "LD_PRELOAD": str(library),
            "FULL_DATABASE": str(self.full_database),
            "FULL_IMAGES": str(self.full_images),
            "AHEAD": str(self.ahead),
        }
        super().__init__(folder, DEVICES, SPEED, environment)
        self.relay = Relay(self.port)
        self.service = self.serve("--workers", str(WORKERS))
        self.herald = self.signed_in()
        self.prepare(self.herald)
        self.fleet = self.fly()
        self.wait_online(self.herald, DEVICES)
        # A recording is of the last ten minutes: a quick machine would ask for it before they have passed.
        time.sleep(600 / self.speed)
        asked = {"where": f"board = {scenario.BOARD}", "signals": [SIGNAL], "every": "10s", "lasts": "30d"}
        self.herald.signals.listen(ListeningIn.model_validate(asked))
        # A backup is older than what was acknowledged since.
        self.restored = False
        self.begun_anew = False
        self._outwards: int | None = None

    @property
    def device_url(self) -> str:
        return f"http://127.0.0.1:{self.relay.port}"

    @property
    def cluster(self) -> Cluster:
        """PostgreSQL, as it runs."""
        cluster = Cluster(self.data / "postgres")
        assert cluster.attach()
        return cluster

    def stop(self) -> None:
        super().stop()
        self.relay.stop()

    def serve_again(self) -> None:
        """Starts the service as it was."""
        self.service = self.serve("--workers", str(WORKERS))

    @property
    def workers(self) -> list[int]:
        """The processes that the service has started to serve."""
        children = Path(f"/proc/{self.service.pid}/task/{self.service.pid}/children").read_text().split()
        return [pid for pid in map(int, children) if b"mellow_herald" in _command(pid)]

    @property
    def postgres(self) -> list[int]:
        """The postmaster and what it started."""
        postmaster = self.cluster._pid()
        assert postmaster is not None
        children = Path(f"/proc/{postmaster}/task/{postmaster}/children").read_text().split()
        return [postmaster, *map(int, children)]

    def serves(self) -> bool:
        with suppress(HeraldError):
            self.herald.ready()
            self.herald.devices.list(limit=1)
            return True
        return False

    # A trial ------------------------------------------------------------------------------------------------------

    def run(self, name: str, fault: Callable[["Trials", random.Random], None], seed: int, moment: str) -> Outcome:
        """One trial."""
        rng = random.Random(f"{name} {seed}")
        outcome = Outcome(name, seed, moment or rng.choice(["fetching", "switching", "soaking"]))
        self.relay.answers.clear()
        self.relay.bare.clear()
        rollout, versions = self._begin()
        recording = self._ask(rng)
        with self._looking(rollout.id) as seen:
            self._wait_for(rollout.id, outcome.moment, rng)
            fault(self, rng)
            hurt = time.monotonic()
            until(self.serves)
            outcome.recovered_s = time.monotonic() - hurt
            self._go_on(rollout.id)
            ended = self._await_end(rollout.id)
            recorded = self._recorded(recording)
            outcome.ended_s = time.monotonic() - hurt
        outcome.engineers, outcome.devices = seen.answers, Counter(self.relay.answers)
        left = self.herald.rollouts.show(rollout.id)
        given = sum(left.passed_over.values()) + left.never_given + sum(left.states.values())
        unaccounted = "" if left.targeted == given else f"targeted {left.targeted}, accounted for {given}"
        bare = seen.bare + self.relay.bare
        expected = Expected(rollout.id, versions, PACE, seen.harm, bare, ended, unaccounted, self.restored)
        outcome.wrong = audit(self, self.cluster.url, expected)
        outcome.wrong[4] = outcome.wrong[4] or recorded
        return outcome

    def _begin(self) -> tuple[RolloutOut, tuple[str, str]]:
        """Outwards, or the way back of what went outwards before."""
        if self._outwards is not None:
            back = self.herald.rollouts.roll_back(self._outwards, RollbackIn(reason="and back", pace=PLAN_PACE))
            self._outwards = None
            return back, (scenario.OLD, scenario.FIXED)
        started = self.herald.rollouts.start(PlanDocument.model_validate(tomllib.loads(PLAN)))
        self._outwards = started.id
        return started, (scenario.FIXED, scenario.OLD)

    def _ask(self, rng: random.Random) -> RecordingOut:
        """A device is to send what it kept, while all that happens."""
        asked = RecordingIn(last="10m", signals=[SIGNAL])
        return self.herald.recordings.ask(f"TA-S1-{rng.randint(1, DEVICES):04d}", asked)

    def _recorded(self, asked: RecordingOut) -> str:
        """What is wrong with what came of it."""
        try:
            until(lambda: self.herald.recordings.show(asked.id).state not in OPEN, every=LOOK_S)
        except ProblemError as problem:
            return "" if self.restored and problem.problem.status == 404 else str(problem)
        one = self.herald.recordings.show(asked.id)
        if one.state != "complete":
            # Those that began anew have kept nothing of before; that is said.
            said = self.begun_anew and one.reason == "nothing-kept"
            wanted = f"{one.begins:%H:%M:%S} to {one.ends:%H:%M:%S}"
            return "" if said else f"the recording of {wanted} is {one.state} {one.reason}: {one.detail}"
        text = gzip.decompress(b"".join(self.herald.recordings.file(one.id))).decode()
        _, *rows = csv.reader(text.splitlines())
        own = own_number(one.serial, SIGNAL)
        values = [(datetime.fromisoformat(at), float(value)) for at, value in rows]
        odd = [f"{value} at {at}" for at, value in values if abs(value - weight_at(own, at)) > NEAR_KG]
        return f"a recording of {len(values)} values has {odd[:3]}" if odd or len(values) < 60 else ""

    def _wait_for(self, rollout_id: int, moment: str, rng: random.Random) -> None:
        """Until the rollout is there, or somewhere beyond."""
        few = rng.randint(1, 5)
        reached: dict[str, Callable[[RolloutOut], bool]] = {
            "fetching": lambda shown: shown.states.get("downloading", 0) >= min(few, 2),
            "switching": lambda shown: shown.at_risk >= few,
            "soaking": lambda shown: shown.states.get("confirmed", 0) >= DEVICES // 2,
        }

        def there() -> bool:
            shown = self.herald.rollouts.show(rollout_id)
            return reached[moment](shown) or shown.states.get("confirmed", 0) > DEVICES // 2

        until(there)
        time.sleep(rng.uniform(0, 0.5))

    def _go_on(self, rollout_id: int) -> None:
        """Resumes what a restore has held."""
        if self.herald.rollouts.show(rollout_id).state == "held":
            self.herald.rollouts.resume(rollout_id, "nothing happened after the backup that speaks against it")

    def _await_end(self, rollout_id: int) -> bool:
        """Whether it came to its end, and all devices have said what they run since."""
        deadline = time.monotonic() + PATIENCE_S
        while time.monotonic() < deadline:
            with suppress(HeraldError):
                if self.herald.rollouts.show(rollout_id).state == "finished":
                    time.sleep(2 * 60 / SPEED)
                    return True
            time.sleep(LOOK_S)
        return False

    @contextmanager
    def _looking(self, rollout_id: int) -> Iterator["Engineer"]:
        """An engineer keeps looking meanwhile."""
        engineer = Engineer(self.url, str(self.herald._http.headers["authorization"]), rollout_id)
        engineer.start()
        try:
            yield engineer
        finally:
            engineer.done.set()
            engineer.join(PATIENCE_S)


class Engineer(threading.Thread):
    """Looks at rollout and devices again and again, and notes how that went."""

    def __init__(self, url: str, authorization: str, rollout_id: int) -> None:
        super().__init__(daemon=True)
        self.answers: Counter[int] = Counter()
        self.bare: list[str] = []
        self.harm = 0
        self.done = threading.Event()
        self._rollout_id = rollout_id
        self._http = httpx.Client(
            base_url=url, headers={"authorization": authorization}, timeout=30, trust_env=False, verify=False
        )

    def run(self) -> None:
        while not self.done.wait(LOOK_S):
            for path in (f"/rollouts/{self._rollout_id}", "/devices?limit=50", "/overview"):
                with suppress(httpx.TransportError):
                    self._note(path, self._http.get(f"/api/v1{path}"))

    def _note(self, path: str, answer: httpx.Response) -> None:
        self.answers[answer.status_code] += 1
        if answer.status_code >= 500 and (answer.status_code != 503 or "retry-after" not in answer.headers):
            self.bare.append(f"{answer.status_code} for {path}: {answer.text[:100]}")
        if answer.status_code == 200 and path.startswith("/rollouts/"):
            self.harm = max(self.harm, int(answer.json()["ever_bad"]))


def send(pids: list[int], number: signal.Signals) -> None:
    """A signal to each of these that is still there."""
    for pid in pids:
        with suppress(ProcessLookupError):
            os.kill(pid, number)


def _command(pid: int) -> bytes:
    with suppress(OSError):
        return Path(f"/proc/{pid}/cmdline").read_bytes()
    return b""
