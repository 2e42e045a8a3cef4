"""Looking after the PostgreSQL that we started: it is started again when it ends, and that is not kept quiet."""

import threading
import time
from collections.abc import Callable

import structlog

from mellow_herald.store.cluster import Cluster, ClusterError

log = structlog.get_logger()
LOOK_SECONDS = 0.5
FIRST_PAUSE, LONGEST_PAUSE = 0.5, 15.0
# A cluster that ran for so long was well, and is started again at once. One that did not, so often in a row, is given
# up: with the pauses that is nine minutes, in which somebody may have made room on its disk.
WELL_AFTER_SECONDS, GIVEN_UP_AFTER = 5.0, 40


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
        failures, began = 0, time.monotonic()
        while not self._stop.wait(LOOK_SECONDS):
            if self._cluster.runs:
                continue
            failures = 0 if time.monotonic() - began > WELL_AFTER_SECONDS else failures + 1
            if failures > GIVEN_UP_AFTER:
                log.error("PostgreSQL ended again and again; giving up", log=str(self._cluster.log))
                self.gave_up = True
                self._give_up()
                return
            pause = min(LONGEST_PAUSE, FIRST_PAUSE * 2.0**failures) if failures else 0.0
            log.error("PostgreSQL has ended; starting it again", failures=failures, pause_s=pause)
            if self._stop.wait(pause):
                return
            began = time.monotonic()
            try:
                self._cluster.start_again()
                log.warning("PostgreSQL runs again")
            except ClusterError as error:
                log.error("PostgreSQL did not start; trying again", error=str(error))
