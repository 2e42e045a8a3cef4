"""The device in C as a process: the bench test's course, and two hundred power cuts."""

import asyncio
import hashlib
import random
import signal
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from mellow_herald.bench_test.bench import Bench, Hand, is_call
from mellow_herald.bench_test.desk import Desk, problem
from mellow_herald.bench_test.http import Request, Response
from mellow_herald.bench_test.releases import Keys, open_root
from mellow_herald.bench_test.station import Outcome
from mellow_herald.core.keys import public_to_pem, raw_public
from tests.bench_test.bench import CODE, SCALE, go
from tests.bench_test.test_course import wrong
from tests.device_c.made import Machine, build
from tests.harness.firmware import DOMAIN, load_image
from tests.harness.patience import PATIENCE_S, until
from tests.harness.service import RunningService

pytestmark = pytest.mark.system
CUTS = 200
HANGS_AFTER_MS = 5000


@pytest.fixture(scope="module")
def images(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    folder = tmp_path_factory.mktemp("device-c")
    made = {version: build(folder / version, version) for version in ("2.4.0", "2.5.0", "2.6.0", "2.8.0")}
    return {
        **made,
        "failing": build(folder / "failing", "2.7.0", "-DFAILS"),
        "crashing": build(folder / "crashing", "2.7.1", "-DCRASHES"),
    }


def test_it_does_all_of_the_course_right(images: dict[str, Path], tmp_path: Path) -> None:
    machine = Machine(tmp_path / "flash", images["2.4.0"])
    good = [images[version].read_bytes() for version in ("2.5.0", "2.6.0", "2.8.0")]
    findings = go(tmp_path, machine.start, do=machine.do, failing=images["failing"].read_bytes(), good=good)
    assert wrong(findings) == {}
    assert {name: one.seen for name, one in findings.items() if one.outcome is not Outcome.RIGHT} == {}


def test_firmware_that_crashes_on_trial_is_left_for_what_ran_before(images: dict[str, Path], tmp_path: Path) -> None:
    machine = Machine(tmp_path / "flash", images["2.4.0"])
    crashing = images["crashing"].read_bytes()
    found = go(tmp_path, machine.start, ["enrol", "self-test"], machine.do, failing=crashing)["self-test"]
    assert found.outcome is Outcome.RIGHT, found.wrong
    assert "its reason: crashed" in found.seen


def test_the_watchdog_ends_firmware_that_hangs_on_trial(tmp_path: Path) -> None:
    first = build(tmp_path / "first", "2.4.0", f"-DHANGS_AFTER_MS={HANGS_AFTER_MS}")
    good = [build(tmp_path / version, version).read_bytes() for version in ("2.5.0", "2.6.0", "2.8.0")]
    hanging = build(tmp_path / "hanging", "2.7.2", "-DHANGS").read_bytes()
    machine = Machine(tmp_path / "flash", first)
    findings = go(tmp_path, machine.start, ["enrol", "self-test"], machine.do, PATIENCE_S, failing=hanging, good=good)
    assert findings["self-test"].outcome is Outcome.RIGHT, findings["self-test"].wrong
    assert "its reason: hung" in findings["self-test"].seen


def test_nothing_is_touched_that_is_not_its_own(images: dict[str, Path], tmp_path: Path) -> None:
    """The firmware alone, as the boot loader starts it, looked at while it fetches and refuses."""
    said = tmp_path / "valgrind.txt"
    machine = Machine(tmp_path / "flash", images["2.4.0"])

    def start(url: str, root: Path) -> Callable[[], None]:
        cut = machine.start(url, root)
        until(lambda: (tmp_path / "flash" / "record1").exists())
        cut()
        valgrind = ("env", "BOOTED=a", "TRIAL=", "valgrind", "--error-exitcode=9", f"--log-file={said}")
        looked_at = Machine(tmp_path / "flash", images["2.4.0"], before=valgrind)
        looked_at.start(url, root)
        return lambda: looked_at.cut(signal.SIGTERM)

    good = [images[version].read_bytes() for version in ("2.5.0", "2.6.0", "2.8.0")]
    findings = go(tmp_path, start, ["manifest", "image", "halt-before"], machine.do, good=good)
    assert wrong(findings) == {}
    assert "ERROR SUMMARY: 0 errors" in said.read_text()


def bench(folder: Path, images: dict[str, Path]) -> Bench:
    keys = Keys(open_root(folder / "keys"))
    good = [load_image(images[version].read_bytes()) for version in ("2.5.0", "2.6.0", "2.8.0")]
    return Bench(Desk(CODE, keys, SCALE), keys, DOMAIN, good, None, Hand(None), PATIENCE_S)


async def test_it_survives_power_cuts_at_random(images: dict[str, Path], tmp_path: Path) -> None:
    """Whenever the power fails, it comes back with whole firmware, and says what is so."""
    one, rng = bench(tmp_path, images), random.Random(23)
    known = {hashlib.sha256(image.read_bytes()).hexdigest() for image in images.values()}
    port = await one.desk.server.start("127.0.0.1", 0)
    machine = Machine(tmp_path / "flash", images["2.4.0"])
    machine.start(f"http://127.0.0.1:{port}", tmp_path / "keys" / "root.pub.pem")
    try:
        await one.until(lambda: one.desk.last_checkin is not None, "it checks in")
        attempt, arrived = one.desk.offer(one.release()), 0

        def came() -> bool:
            nonlocal attempt
            if {"failed", "reverted"} & set(attempt.states):
                attempt = one.desk.offer(attempt.release)  # as another try would
            return one.desk.runs == attempt.release.digest and "confirmed" in attempt.states

        for _ in range(CUTS):
            deadline = time.monotonic() + rng.uniform(0.0, 0.4)
            while time.monotonic() < deadline:
                await asyncio.sleep(0.005)
                if came():
                    arrived += 1
                    attempt = one.desk.offer(one.release())
            machine.cut()
            machine.power()
        # The last cut may have been one in a trial: it went back then, and is offered it once more.
        await one.until(came, "it runs what it was offered last, and says so")
    finally:
        machine.cut()
        await one.desk.server.close()
    assert arrived > 3, "some updates came to their end between the cuts"
    assert {c.checkin.running["app"].digest for c in one.desk.calls if c.checkin is not None} <= known
    assert one.desk.wrong == []
    slot = one.desk.last_checkin.running["app"].slot if one.desk.last_checkin else ""
    assert hashlib.sha256((tmp_path / "flash" / f"{slot}.bin").read_bytes()).hexdigest() == one.desk.runs


def test_a_key_list_that_power_failed_upon_is_taken_once_more(images: dict[str, Path], tmp_path: Path) -> None:
    machine = Machine(tmp_path / "flash", images["2.4.0"])

    def do(word: str) -> str:
        if word == "power-cut":
            machine.cut()
            (tmp_path / "flash" / "keys").write_bytes(b"\xff" * 100)
            machine.power()
            return ""
        return machine.do(word)

    good = [images[version].read_bytes() for version in ("2.5.0", "2.6.0", "2.8.0")]
    findings = go(tmp_path, machine.start, ["enrol", "update", "power"], do, good=good)
    assert wrong(findings) == {}


async def test_who_is_shut_out_shows_it_and_asks_to_be_let_in_again(images: dict[str, Path], tmp_path: Path) -> None:
    one, lamp = bench(tmp_path, images), tmp_path / "flash" / "lamp"
    port = await one.desk.server.start("127.0.0.1", 0)
    machine = Machine(tmp_path / "flash", images["2.4.0"])
    machine.start(f"http://127.0.0.1:{port}", tmp_path / "keys" / "root.pub.pem")

    async def shut_out(request: Request) -> Response | None:
        return None if is_call(request, "reports") else problem(401, "bad-token", "Enrol again.")

    try:
        await one.until(lambda: one.desk.last_checkin is not None, "it checks in")
        with one.before(shut_out):
            since = len(one.desk.calls)
            await one.until(lambda: lamp.read_text() == "not let in", "its lamp says so")
            await one.until(lambda: bool(one.since(since, "enrolments")), "it asks to enrol again")
        one.desk.scale = 1000
        await one.until(lambda: lamp.read_text() == "running", "it is let in, and shows that too")
    finally:
        machine.cut()
        await one.desk.server.close()
    assert one.desk.wrong == [], "it enrols with its own nonce"


def test_it_follows_rollouts_of_the_service_there_and_back(
    images: dict[str, Path], tmp_path: Path, service: RunningService
) -> None:
    for version in ("2.4.0", "2.5.0"):
        file = images[version]
        service.herald.releases.publish(file, key=service.publisher.key)
    root = tmp_path / "root.pub.pem"
    root.write_bytes(public_to_pem(raw_public(service.publisher.root)))
    machine = Machine(tmp_path / "flash", images["2.4.0"], hold_s=1, code=service.code())
    cut = machine.start(service.url, root)
    try:
        until(lambda: service.herald.overview().presence.get("online"))
        rollout = service.herald.rollouts.start(service.plan())
        assert service.wait_for(rollout.id, lambda r: r.state == "finished").states == {"confirmed": 1}
        shown = service.herald.devices.show("TA-bench")
        assert (shown.version, shown.known_build, shown.way_back) == ("2.5.0", True, True)
        swap = service.herald.devices.swap("TA-bench", "back again")
        assert service.wait_for(swap.id, lambda r: r.state == "finished").states == {"confirmed": 1}
        assert service.herald.devices.show("TA-bench").version == "2.4.0"
    finally:
        cut()
