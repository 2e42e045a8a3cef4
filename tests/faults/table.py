"""What is done to the service, its database, its network and its machine."""

import random
import shutil
import signal
import subprocess
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass

from mellow_herald.client import HeraldError
from mellow_herald.core.keys import private_from_pem
from mellow_herald.demo import scenario
from tests.faults.trial import Trials, send
from tests.harness.flight import HERALD
from tests.harness.patience import PATIENCE_S, until
from tests.harness.processes import free_port


@dataclass(frozen=True, slots=True)
class Fault:
    """What is ``done``, in the middle of what (any, if it is not said), and whether it takes ``long``."""

    what: str
    done: Callable[[Trials, random.Random], None]
    moment: str = ""
    long: bool = False


def kill_worker(trials: Trials, rng: random.Random) -> None:
    send([rng.choice(trials.workers)], signal.SIGKILL)


def kill_workers(trials: Trials, rng: random.Random) -> None:
    send(trials.workers, signal.SIGKILL)


def kill_service(trials: Trials, rng: random.Random) -> None:
    trials.service.kill()
    trials.service.wait(PATIENCE_S)
    time.sleep(rng.uniform(0, 2))
    trials.serve_again()


def kill_postgresql(trials: Trials, rng: random.Random) -> None:
    trials.cluster.kill()


def freeze_postgresql(trials: Trials, rng: random.Random) -> None:
    _freeze(trials.postgres, rng.uniform(5, 12))


def freeze_postgresql_long(trials: Trials, rng: random.Random) -> None:
    _freeze(trials.postgres, 30)


def freeze_service(trials: Trials, rng: random.Random) -> None:
    _freeze([trials.service.pid, *trials.workers], rng.uniform(2, 12))


def _freeze(pids: list[int], seconds: float) -> None:
    send(pids, signal.SIGSTOP)
    time.sleep(seconds)
    send(list(reversed(pids)), signal.SIGCONT)


def fill_database(trials: Trials, rng: random.Random) -> None:
    trials.full_database.touch()
    time.sleep(rng.uniform(3, 10))
    trials.full_database.unlink()


def fill_images(trials: Trials, rng: random.Random) -> None:
    """Somebody publishes meanwhile: it is refused with a word, and works when there is room again."""
    key = private_from_pem(trials.place.signing_key.read_bytes())
    version = f"2.6.{len(trials.herald.releases.list(limit=200).items)}"
    file = trials.folder / f"{version}.bin"
    file.write_bytes(scenario.make_image(version, rng.randrange(1000)))
    trials.full_images.touch()
    try:
        trials.herald.releases.publish(file, key=key)
        raise AssertionError("it was taken, although there was no room for it")
    except HeraldError as error:
        print("     refused:", str(error)[:160])
    finally:
        trials.full_images.unlink()
    trials.herald.releases.publish(file, key=key)


def cut_connections(trials: Trials, rng: random.Random) -> None:
    for _ in range(rng.randint(1, 8)):
        trials.relay.cut()
        time.sleep(rng.uniform(0, 1))


def half_open(trials: Trials, rng: random.Random) -> None:
    trials.relay.stand_still(rng.uniform(3, 12))


def slow_reader(trials: Trials, rng: random.Random) -> None:
    trials.relay.slow_down(rng.uniform(3, 8), 20_000)


def set_clock(trials: Trials, rng: random.Random) -> None:
    """An hour forwards or backwards, and back again some time later."""
    trials.ahead.write_text(str(rng.choice([3600, -3600])))
    time.sleep(rng.uniform(3, 10))
    trials.ahead.write_text("0")


def kill_fleet(trials: Trials, rng: random.Random) -> None:
    """All devices lose power at once."""
    trials.fleet.kill()
    trials.fleet.wait(PATIENCE_S)
    trials.fleet = trials.fly()
    trials.begun_anew = True


def serve_beside(trials: Trials, rng: random.Random) -> None:
    """Workers of another service process on the same database and images, while the first one serves; then they go."""
    other = trials.folder / "beside"
    other.mkdir(exist_ok=True)
    with suppress(FileExistsError):
        (other / "images").symlink_to(trials.data / "images")
    where = ["--data-dir", str(other), "--port", str(free_port()), "--time-scale", str(trials.speed)]
    beside = trials.start("serve", *where, "--database-url", trials.cluster.url)
    time.sleep(rng.uniform(4, 8))
    assert beside.poll() is None, "it serves"
    beside.terminate()
    beside.wait(PATIENCE_S)


def lose_machine(trials: Trials, rng: random.Random) -> None:
    """A backup is taken while the devices report, the machine is lost some time later, and the backup is brought back
    into another folder."""
    number = len(list(trials.folder.glob("backup-*.zip")))
    file = trials.folder / f"backup-{number}.zip"
    subprocess.run([*HERALD, "backup", str(file), "--data-dir", str(trials.data)], check=True, capture_output=True)
    time.sleep(rng.uniform(0, 3))
    cluster = trials.cluster
    trials.service.kill()
    trials.service.wait(PATIENCE_S)
    cluster.kill()
    until(lambda: not trials_listens(trials))
    shutil.rmtree(trials.data)
    trials.data = trials.folder / f"data-{number + 1}"
    trials.restored = True
    restored = [*HERALD, "restore", str(file), "--data-dir", str(trials.data)]
    done = subprocess.run(restored, capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    trials.serve_again()


def trials_listens(trials: Trials) -> bool:
    """Whether a process of the service that was killed still has the port."""
    with suppress(HeraldError):
        trials.herald.ready()
        return True
    return False


FAULTS = {
    "worker-killed": Fault("kill -9 of a worker", kill_worker),
    "workers-killed": Fault("kill -9 of all workers", kill_workers),
    "service-killed": Fault("kill -9 of the service's first process, started again", kill_service),
    "postgresql-killed": Fault("kill -9 of PostgreSQL in mid-switch", kill_postgresql, "switching"),
    "postgresql-frozen": Fault("PostgreSQL stopped for 5–12 s in mid-switch", freeze_postgresql, "switching"),
    "postgresql-frozen-30": Fault("PostgreSQL stopped for 30 s", freeze_postgresql_long, long=True),
    "database-full": Fault("no room for the database in mid-switch, 3–10 s", fill_database, "switching"),
    "images-full": Fault("no room for images while somebody publishes", fill_images),
    "connections-cut": Fault("all devices' connections cut, up to eight times", cut_connections),
    "half-open": Fault("connections that stand still for 3–12 s, then end", half_open),
    "slow-reader": Fault("devices that read 20 kB/s", slow_reader),
    "service-frozen": Fault("the service stopped for 2–12 s", freeze_service),
    "clock-set": Fault("the machine's clock set by an hour, and back", set_clock),
    "fleet-killed": Fault("power cut of the whole fleet", kill_fleet),
    "served-beside": Fault("another service process on the same database comes and goes", serve_beside),
    "machine-lost": Fault("machine lost in mid-rollout, backup brought back elsewhere", lose_machine, long=True),
}
