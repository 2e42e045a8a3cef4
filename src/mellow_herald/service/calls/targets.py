"""What attempts are to bring their devices to, as one process knows it."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import Runs, State, is_again, judge, target_digests
from mellow_herald.core.firmware import APP
from mellow_herald.core.history import RECOVERY_SLOT
from mellow_herald.core.order import Standby
from mellow_herald.core.plan import Plan
from mellow_herald.service.calls.batch import Tracked
from mellow_herald.service.rollouts.planning import Digested, plan_of
from mellow_herald.store import releases, rollouts
from mellow_herald.store.attempts import came_from, digests_of
from mellow_herald.store.rows import StoredAttempt, StoredDevice


@dataclass(frozen=True, slots=True)
class Release:
    """What another release than the rollout's leads to: the digest of its manifest and those of each component's
    images."""

    manifest: str
    images: Mapping[str, frozenset[str]]
    independent: bool = False


@dataclass(frozen=True, slots=True)
class Target:
    """A rollout's plan as of one ``revision``, and what does not change about it: the facts that are ``watched``, the
    digests of its manifest and of each component's images. Where a device is brought ``back`` to what it came from,
    these are its own, and ``fetchable`` tells whether there is a release to fetch it from. ``without`` are the images
    of components that were given up, while the others go on. ``second`` is the other release, where two are
    compared."""

    revision: int
    plan: Plan
    manifest: str | None
    images: Mapping[str, frozenset[str]]
    independent: bool
    watched: tuple[str, ...] = ()
    back: bool = False
    fetchable: bool = True
    without: Mapping[str, frozenset[str]] = field(default_factory=dict)
    second: Release | None = None

    @property
    def all_images(self) -> Mapping[str, frozenset[str]]:
        """Those of the whole release."""
        return {**self.images, **self.without}

    def runs(self, attempt: StoredAttempt, device: StoredDevice, in_place: frozenset[str]) -> Runs:
        """What a device runs, by its newest word, as this attempt of its sees it."""
        running = device["running"]
        in_recovery = (running.get(APP) or {}).get("slot") == RECOVERY_SLOT
        return judge(self.images, came_from(attempt), digests_of(running), in_recovery=in_recovery, in_place=in_place)

    def runs_named(self, attempt: StoredAttempt, digests: Mapping[str, str]) -> Runs | None:
        """What the digests are that a device vouches for; None if it names none."""
        return judge(self.images, came_from(attempt), digests) if digests else None

    def again(self, attempt: StoredAttempt) -> bool:
        """Whether the device came from the very release."""
        return is_again(self.images, came_from(attempt))

    def standby(self, device: StoredDevice) -> Standby:
        """What stands by of all that the device does not run yet."""
        running, standby = device["running"], device["standby"]
        missing = {name for name, digests in self.images.items() if _digest(running, name) not in digests}
        wanted = missing or self.images.keys()
        checkin = {name: _digest(standby, name) for name in wanted}
        if any(digest is not None and digest not in self.images[name] for name, digest in checkin.items()):
            return Standby.OTHER
        if None in checkin.values() or (self.back and not self._may_boot(device, wanted)):
            return Standby.UNSAID
        return Standby.HOLDS

    def to(self, device: StoredDevice) -> dict[str, str]:
        """What the device is to run after the switch, by component."""
        return target_digests(self.images, digests_of(device["running"]), digests_of(device["standby"]))

    def _may_boot(self, device: StoredDevice, names: Iterable[str]) -> bool:
        """Whether what stands by reaches the device's floor number."""
        least = device["floor"]
        floors = [(device["standby"].get(name) or {}).get("floor") for name in names]
        return all(floor is None or least is None or floor >= least for floor in floors)


def _digest(contents: Mapping[str, Mapping[str, Any]], name: str) -> str | None:
    return (contents.get(name) or {}).get("digest")


class Targets:
    """What rollouts bring, as of their newest revision that was loaded."""

    def __init__(self) -> None:
        self._targets: dict[int, Target] = {}
        self._releases: dict[int, Release] = {}

    def plan(self, rollout_id: int) -> Plan:
        """The plan of a rollout that was loaded."""
        return self._targets[rollout_id].plan

    def watched(self, rollout_id: int) -> tuple[str, ...]:
        """The facts that are watched in a rollout that was loaded."""
        return self._targets[rollout_id].watched

    def of(self, tracked: Tracked) -> Target:
        """What an attempt brings its device to: its rollout's release, the other one that it compares, or the way back
        that is the device's own."""
        target, back_to = self._targets[tracked.row["rollout_id"]], tracked.row["back_to"]
        if back_to is None:
            if tracked.row["release_id"] is not None and (other := target.second) is not None:
                target = replace(target, manifest=other.manifest, images=other.images, independent=other.independent)
            return _without_given_up(target, tracked.row["parts"])
        release_id = tracked.row["back_release_id"]
        release = None if release_id is None else self._releases.get(release_id)
        same = {} if release is None else release.images
        return replace(
            target,
            manifest=None if release is None else release.manifest,
            images={name: same.get(name, frozenset()) | {digest} for name, digest in back_to.items()},
            independent=False,
            back=True,
            fetchable=release is not None,
        )

    async def load_ways_back(self, connection: AsyncConnection, rows: Iterable[StoredAttempt]) -> None:
        """The releases that attempts of rollbacks go back to; they never change."""
        named = {row["back_release_id"] for row in rows if row["back_release_id"] is not None}
        for release_id in named - self._releases.keys():
            (row,) = await releases.list_releases(connection, release_id=release_id)
            self._releases[release_id] = Release(row["manifest_digest"], _images_of(row["components"]))

    async def load(self, connection: AsyncConnection, revisions: Mapping[int, int]) -> None:
        """Loads the rollouts of which another revision is known, or none."""
        for rollout_id, revision in revisions.items():
            known = self._targets.get(rollout_id)
            if known is not None and known.revision == revision:
                continue
            (row,) = await rollouts.list_rollouts(connection, rollout_id=rollout_id)
            self._targets[rollout_id] = Target(
                row["revision"],
                plan_of(row),
                row["manifest_digest"],
                _images_of(row["images"]),
                row["independent"],
                tuple(row["watch"]["foreseen"]),
                second=None
                if (second := row["second"]) is None
                else Release(second["manifest_digest"], _images_of(second["images"]), second["independent"]),
            )


def _without_given_up(target: Target, parts: Mapping[str, Mapping[str, Any]]) -> Target:
    if not target.independent or not parts:
        return target
    without = {name: digests for name, digests in target.images.items() if _is_given_up(parts.get(name))}
    left = {name: digests for name, digests in target.images.items() if name not in without}
    return replace(target, images=left, without=without) if left and without else target


def _is_given_up(part: Mapping[str, Any] | None) -> bool:
    return part is not None and part["changes"] and part["state"] in (State.FAILED.value, State.REVERTED.value)


def _images_of(images: Iterable[Digested]) -> dict[str, frozenset[str]]:
    """The digests of a release's images, by component."""
    found: dict[str, set[str]] = {}
    for image in images:
        found.setdefault(image["name"], set()).add(image["digest"])
    return {name: frozenset(digests) for name, digests in found.items()}
