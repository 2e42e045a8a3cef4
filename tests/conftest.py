"""What all tests share."""

import gc
import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from tests.harness.database import Databases
from tests.harness.processes import open_folder
from tests.harness.service import RunningService

# What tests write is kept in memory, where there is room: a database is copied thirty times faster there, and nothing
# of it has to outlive the run.
MEMORY, ROOM = Path("/dev/shm"), 6 * 1024**3
if MEMORY.is_dir() and shutil.disk_usage(MEMORY).free > ROOM:
    tempfile.tempdir = str(MEMORY)

settings.register_profile("ours", deadline=None, suppress_health_check=[HealthCheck.too_slow], derandomize=True)
settings.load_profile("ours")


@pytest.fixture(scope="session")
def databases() -> Iterator[Databases]:
    """One cluster for all tests of a worker."""
    held = Databases()
    held.start()
    yield held
    held.stop()


@pytest.fixture
def database_url(databases: Databases) -> Iterator[str]:
    """A fresh database."""
    url = databases.fresh()
    yield url
    databases.drop(url)


@pytest.fixture
def folder() -> Iterator[Path]:
    """A folder that the user postgres can enter."""
    with open_folder() as made:
        yield made


@pytest.fixture
def service(database_url: str, tmp_path: Path) -> Iterator[RunningService]:
    """A service with a board and a key list."""
    running = RunningService(database_url, tmp_path).start().prepare()
    yield running
    running.stop()


@pytest.fixture(scope="module")
def shared_service(databases: Databases, tmp_path_factory: pytest.TempPathFactory) -> Iterator[RunningService]:
    """One service for the tests of a file that do not get in each other's way."""
    url = databases.fresh()
    running = RunningService(url, tmp_path_factory.mktemp("shared")).start().prepare()
    yield running
    running.stop()
    databases.drop(url)


def pytest_collection_finish() -> None:
    """What is loaded by now stays; to look through it again and again would cost a fifth of the time."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(20_000, 20, 20)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Real processes and browsers first: they run one after the other, and nobody is to wait for them at the end."""
    items.sort(key=lambda item: item.get_closest_marker("system") is None)
