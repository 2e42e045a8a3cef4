"""What this process measures of itself, for Prometheus; with several workers, what all of them measure together.

Each worker keeps its figures in files of a folder that they share (``PROMETHEUS_MULTIPROC_DIR``, set by the process
that starts them), so that whichever of them is asked answers for all.
"""

import os
import time
from collections.abc import Mapping

from prometheus_client import CollectorRegistry, Gauge, Histogram
from prometheus_client.multiprocess import MultiProcessCollector
from sqlalchemy.pool import QueuePool
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from mellow_herald.store.database import Pools

FOLDER = "PROMETHEUS_MULTIPROC_DIR"
SECONDS = (0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0)
CALLS = (1, 2, 5, 10, 20, 50, 100, 200)
# What the console is made of, and what nobody serves.
OTHER = "other"
HELD = " (held)"
API = "/api/v1"


class Figures:
    """Counts and times of one process."""

    def __init__(self) -> None:
        self._registry = own = CollectorRegistry()
        self.requests = Histogram(
            "herald_request_seconds",
            "Seconds until a call is answered, by route and status; check-ins held open by themselves.",
            ["route", "status"],
            buckets=SECONDS,
            registry=own,
        )
        self.batch = Histogram(
            "herald_intake_batch_calls", "Devices' calls recorded in one transaction.", buckets=CALLS, registry=own
        )
        self.queue = _sum("herald_intake_queue", "Devices' calls that wait for their transaction.", own)
        self.followers = _sum("herald_feed_followers", "Open event streams.", own)
        self.held = _sum("herald_checkins_held", "Check-ins held open until an order stands.", own)
        self.feed_lag = _most("herald_feed_lag_seconds", "Seconds since the event feed was read last.", own)
        self.turn = _most("herald_conductor_turn_seconds", "Seconds since the conductor's last whole turn.", own)
        self.pool = Gauge(
            "herald_pool_connections",
            "Database connections in use, by who they are kept for.",
            ["kept_for"],
            multiprocess_mode="livesum",
            registry=own,
        )
        self.pool_size = Gauge(
            "herald_pool_connections_most",
            "How many there may be.",
            ["kept_for"],
            multiprocess_mode="livesum",
            registry=own,
        )
        self._children: dict[tuple[str, int], Histogram] = {}

    def collected(self) -> CollectorRegistry:
        """What is to be told: of this process, or of all workers."""
        if FOLDER not in os.environ:
            return self._registry
        together = CollectorRegistry()
        MultiProcessCollector(together)  # type: ignore[no-untyped-call]
        return together

    def note(self, route: str, status: int, seconds: float) -> None:
        """One call was answered."""
        child = self._children.get((route, status))
        if child is None:
            child = self._children[route, status] = self.requests.labels(route, str(status))
        child.observe(seconds)

    def note_pools(self, pools: Pools) -> None:
        """How many connections are out."""
        for name, engine in pools.named().items():
            pool = engine.pool
            assert isinstance(pool, QueuePool)
            self.pool.labels(name).set(pool.checkedout())
            self.pool_size.labels(name).set(pool.size() + pool._max_overflow)


class Measured:
    """Around the framework: the time until an answer begins, by the route that gave it."""

    def __init__(self, app: ASGIApp, figures: Figures) -> None:
        self._app, self._figures = app, figures

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Serves one call."""
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        began = time.perf_counter()

        async def sending(message: Message) -> None:
            if message["type"] == "http.response.start":
                self._figures.note(_route(scope), message["status"], time.perf_counter() - began)
            await send(message)

        await self._app(scope, receive, sending)


def _route(scope: Mapping[str, object]) -> str:
    """The path with its parameters' names; there are as many of them as there are operations."""
    path = str(getattr(scope.get("route"), "path", OTHER))
    if str(scope["path"]).startswith(API) and not path.startswith(API):
        path = API + path
    return OTHER if path.endswith("/{path:path}") else path


def _sum(name: str, what: str, registry: CollectorRegistry) -> Gauge:
    return Gauge(name, what, multiprocess_mode="livesum", registry=registry)


def _most(name: str, what: str, registry: CollectorRegistry) -> Gauge:
    return Gauge(name, what, multiprocess_mode="livemax", registry=registry)
