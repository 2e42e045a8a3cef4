"""Figures for Prometheus: what the processes measure of themselves, and how things stand in the database."""

import shutil
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from typing import Annotated

from fastapi import APIRouter, Depends, Response
from prometheus_client import CONTENT_TYPE_LATEST, CollectorRegistry, generate_latest
from prometheus_client.core import GaugeMetricFamily
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.rollout import RolloutState
from mellow_herald.service.backup.taking import TAKEN
from mellow_herald.service.context import Context, context_of
from mellow_herald.service.fleet import attention
from mellow_herald.service.people.callers import Anyone
from mellow_herald.service.problems import problems
from mellow_herald.service.rollouts.brakes import read_brakes
from mellow_herald.service.rollouts.planning import plan_of
from mellow_herald.store import rollouts, tallies, webhooks
from mellow_herald.store.feed import newest_entry_at

router = APIRouter(tags=["health"])
Ctx = Annotated[Context, Depends(context_of)]
# Of so many live rollouts the evidence is told, newest first: each takes a query.
EVIDENCE_OF = 50


@router.get(
    "/metrics",
    responses={**problems(), 200: {"content": {"text/plain": {"schema": {"type": "string"}}}}},
    response_class=Response,
)
async def metrics(who: Anyone, context: Ctx) -> Response:
    """Figures for Prometheus."""
    now, counts = context.clock.now(), await attention.count(context)
    async with context.engine.connect() as connection:
        standing = [
            _devices(counts.presence),
            *await _rollouts(connection),
            *await _webhooks(connection),
        ]
        taken = await newest_entry_at(connection, TAKEN)
    free, ahead = shutil.disk_usage(context.settings.data_dir).free, context.memory.clock_ahead.total_seconds()
    standing += [
        _one(
            "herald_backup_taken",
            "When the last backup was taken (service time, seconds since 1970; 0: never).",
            taken.timestamp() if taken else 0,
        ),
        _one("herald_service_time", "Service time (seconds since 1970).", now.timestamp()),
        _one("herald_images_damaged", "Stored images that are not served.", len(context.unhealthy)),
        _one("herald_clock_ahead_seconds", "How far the machine's clock is ahead of what has passed.", ahead),
        _one("herald_writing_fails", "1 if the last beat could not be written.", bool(context.memory.beat_failed)),
        _one("herald_disk_free_bytes", "Room on the disk of the data folder.", free),
    ]
    text = generate_latest(context.figures.collected()) + generate_latest(Standing(standing))
    return Response(text, media_type=CONTENT_TYPE_LATEST)


class Standing(CollectorRegistry):
    """How things stand at this moment: read, not counted, so that it is of no process."""

    def __init__(self, families: Sequence[GaugeMetricFamily]) -> None:
        super().__init__()
        self._families = families

    def collect(self) -> Iterator[GaugeMetricFamily]:
        """All of it."""
        yield from self._families


def _devices(counts: Mapping[str, int]) -> GaugeMetricFamily:
    presence = GaugeMetricFamily("herald_devices", "Admitted devices by presence.", labels=["presence"])
    for name, devices in counts.items():
        presence.add_metric([name], devices)
    return presence


async def _rollouts(connection: AsyncConnection) -> list[GaugeMetricFamily]:
    live = await rollouts.list_rollouts(connection, live=True, limit=1000)
    numbers = [row["id"] for row in live]
    states = GaugeMetricFamily("herald_rollouts", "Live rollouts by state.", labels=["state"])
    for state in RolloutState:
        states.add_metric([state.value], sum(row["state"] == state for row in live))
    attempts = GaugeMetricFamily("herald_attempts", "Attempts of live rollouts by state.", labels=["rollout", "state"])
    counted: Counter[tuple[str, str]] = Counter()
    for count in await tallies.count_attempts(connection, numbers):
        counted[str(count["rollout_id"]), count["state"]] += count["attempts"]
    for labels, value in counted.items():
        attempts.add_metric(labels, value)
    still = GaugeMetricFamily(
        "herald_rings_standing_still", "Rings that stand still; the ring says why.", labels=["rollout"]
    )
    for rollout_id, rings in (await rollouts.list_rings(connection, numbers)).items():
        still.add_metric([str(rollout_id)], sum(ring["stands_why"] is not None for ring in rings))
    evidence = GaugeMetricFamily(
        "herald_evidence_share", "Evidence of harm, as a share of what halts.", labels=["rollout", "brake"]
    )
    for row in _newest_running(live):
        for reading in await read_brakes(connection, row, plan_of(row)):
            evidence.add_metric([str(row["id"]), reading.kind.value], reading.evidence / reading.halts_at)
    return [states, attempts, still, evidence]


def _newest_running(live: list[rollouts.RolloutOfRelease]) -> Iterator[rollouts.RolloutOfRelease]:
    running = [row for row in live if row["state"] in (RolloutState.RUNNING, RolloutState.HELD)]
    yield from sorted(running, key=lambda row: -row["id"])[:EVIDENCE_OF]


async def _webhooks(connection: AsyncConnection) -> list[GaugeMetricFamily]:
    waiting = GaugeMetricFamily("herald_webhook_waiting", "Events a webhook has not taken yet.", labels=["webhook"])
    dead = GaugeMetricFamily("herald_webhook_dead", "Events that are not tried again.", labels=["webhook"])
    for row in await webhooks.list_webhooks(connection):
        waiting.add_metric([str(row["id"])], row["waiting"])
        dead.add_metric([str(row["id"])], row["dead"])
    return [waiting, dead]


def _one(name: str, what: str, value: float) -> GaugeMetricFamily:
    return GaugeMetricFamily(name, what, value=value)
