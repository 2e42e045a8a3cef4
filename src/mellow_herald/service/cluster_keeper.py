"""Looking after the PostgreSQL that we started: it is started again when it ends, and that is not kept quiet."""

import threading
import time
from collections.abc import Callable

import structlog

from mellow_herald.store.cluster import Cluster, ClusterError

log = structlog.get_logger()
LOOK_SECONDS = 0.5
FIRST_PAUSE, LONGEST_PAUSE = 0.5, 15.0
# A cluster that ran for so long counts as well again; one that ended so often in a row is given up.
WELL_AFTER_SECONDS, GIVEN_UP_AFTER = 60.0, 10


class ClusterKeeper:
    """A thread that looks after a cluster. ``give_up`` is called, once, when it ends again and again."""

    def __init__(self, cluster: Cluster, give_up: Callable[[], None]) -> None:
        self._cluster, self._give_up = cluster, give_up
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run, name="cluster keeper", daemon=True)
        self.gave_up = False

    def start(self) -> None:
        """Begins to look."""
        self._thread.start()

    def stop(self) -> None:
        """Looks no more: the cluster may be stopped now."""
        self._stop.set()
        self._thread.join()

    def _run(self) -> None:
        failures, well_since = 0, time.monotonic()
        while not self._stop.wait(LOOK_SECONDS):
            if self._cluster.runs:
                if failures and time.monotonic() - well_since > WELL_AFTER_SECONDS:
                    failures = 0
                continue
            failures += 1
            if failures > GIVEN_UP_AFTER:
                log.error("PostgreSQL ended again and again; giving up", log=str(self._cluster.log))
                self.gave_up = True
                self._give_up()
                return
            log.error("PostgreSQL has ended; starting it again", try_number=failures)
            try:
                self._cluster.start_again()
                well_since = time.monotonic()
                log.warning("PostgreSQL runs again")
            except ClusterError as error:
                log.error("PostgreSQL did not start; trying again", error=str(error))
                self._stop.wait(min(LONGEST_PAUSE, FIRST_PAUSE * 2.0**failures))
