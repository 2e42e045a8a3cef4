"""A cluster that ends: started again, with growing pauses, until that is no use."""

import time
from pathlib import Path
from threading import Event

import pytest

from mellow_herald.service import cluster_keeper
from mellow_herald.service.cluster_keeper import ClusterKeeper
from mellow_herald.store.cluster import Cluster, ClusterError
from tests.harness.patience import PATIENCE_S


class FailingCluster(Cluster):
    """One that ends at once, and that starts only every other time."""

    def __init__(self) -> None:
        self.log = Path("postgres.log")
        self.starts = 0

    @property
    def runs(self) -> bool:
        return False

    def start_again(self) -> None:
        self.starts += 1
        if self.starts % 2:
            raise ClusterError("processes of the one that ended are still there")


class SoundCluster(FailingCluster):
    """One that runs again once it was started."""

    @property
    def runs(self) -> bool:
        return self.starts >= 2


@pytest.fixture(autouse=True)
def hasty(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(cluster_keeper, "LOOK_SECONDS", 0.01)
    monkeypatch.setattr(cluster_keeper, "FIRST_PAUSE", 0.0001)
    monkeypatch.setattr(cluster_keeper, "LONGEST_PAUSE", 0.001)


def test_one_that_ends_again_and_again_is_given_up_once() -> None:
    cluster, given_up = FailingCluster(), Event()
    keeper = ClusterKeeper(cluster, given_up.set)
    keeper.start()
    assert given_up.wait(PATIENCE_S) and keeper.gave_up
    assert cluster.starts == cluster_keeper.GIVEN_UP_AFTER
    keeper.stop()


def test_one_that_runs_well_between_is_started_as_often_as_it_ends(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(cluster_keeper, "WELL_AFTER_SECONDS", 0.0)
    cluster = FailingCluster()
    keeper = ClusterKeeper(cluster, lambda: pytest.fail("given up"))
    keeper.start()
    deadline = time.monotonic() + PATIENCE_S
    while cluster.starts < 2 * cluster_keeper.GIVEN_UP_AFTER:
        assert time.monotonic() < deadline
        time.sleep(0.01)
    keeper.stop()
    assert not keeper.gave_up


def test_one_that_could_not_be_started_at_first_is_tried_again_and_left_alone_then() -> None:
    cluster = SoundCluster()
    keeper = ClusterKeeper(cluster, lambda: pytest.fail("given up"))
    keeper.start()
    deadline = time.monotonic() + PATIENCE_S
    while not cluster.runs:
        assert time.monotonic() < deadline
        time.sleep(0.01)
    time.sleep(0.1)
    keeper.stop()
    assert cluster.starts == 2 and not keeper.gave_up
