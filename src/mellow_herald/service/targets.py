"""What attempts are to bring their devices to, as one process knows it."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.firmware import APP
from mellow_herald.core.plan import Plan
from mellow_herald.service.batch import Held
from mellow_herald.service.planning import plan_of
from mellow_herald.store import releases, rollouts


@dataclass(frozen=True, slots=True)
class Target:
    """A rollout's plan as of one ``revision``, and what does not change about it: the digests of its manifest and
    of each component's images. Where devices are brought back, ``back_to`` is the image that one of them ran before,
    and ``fetchable`` tells whether there is a release to fetch it from."""

    revision: int
    plan: Plan
    manifest: str | None
    images: Mapping[str, frozenset[str]]
    independent: bool
    back_to: str | None = None
    fetchable: bool = True

    @property
    def digests(self) -> frozenset[str]:
        """Those of its ``app`` images."""
        return self.images.get(APP, frozenset())

    def stands_by(self, device: Mapping[str, Any]) -> bool:
        """Whether the device has everything standing by that it does not run yet."""
        missing_ = {
            name for name, digests in self.images.items()
            if (device["running"].get(name) or {}).get("digest") not in digests
        }  # fmt: skip
        wanted = missing_ or self.images.keys()
        return all((device["standby"].get(name) or {}).get("digest") in self.images[name] for name in wanted)

    def holds_back(self, device: Mapping[str, Any]) -> bool:
        """Whether the standby slot of ``app`` still holds what the device came from, and the device may boot it."""
        standby = device["standby"].get(APP) or {}
        floor, least = standby.get("floor"), device["floor"]
        return standby.get("digest") in self.digests and (floor is None or least is None or floor >= least)


@dataclass(frozen=True, slots=True)
class Release:
    """What a way back leads to: the digest of its manifest and those of its ``app`` images."""

    manifest: str
    digests: frozenset[str]


class Targets:
    """What rollouts bring, as of their newest revision that was loaded."""

    def __init__(self) -> None:
        self._targets: dict[int, Target] = {}
        self._releases: dict[int, Release] = {}

    def plan(self, rollout_id: int) -> Plan:
        """The plan of a rollout that was loaded."""
        return self._targets[rollout_id].plan

    def of(self, held: Held) -> Target:
        """What an attempt brings its device to: its rollout's release, or the way back that is the device's own."""
        target, back_to = self._targets[held.row["rollout_id"]], held.row["back_to"]
        if back_to is None:
            return target
        release = self._releases.get(held.row["back_release_id"])
        digests = frozenset({back_to}) if release is None else release.digests | {back_to}
        manifest = None if release is None else release.manifest
        return replace(
            target, manifest=manifest, images={APP: digests}, independent=False, back_to=back_to,
            fetchable=release is not None,
        )  # fmt: skip

    async def load_ways_back(self, connection: AsyncConnection, rows: Iterable[Mapping[str, Any]]) -> None:
        """The releases that attempts of rollbacks go back to; they never change."""
        for release_id in {row["back_release_id"] for row in rows} - {None} - self._releases.keys():
            (row,) = await releases.list_releases(connection, release_id=release_id)
            digests = frozenset(image["digest"] for image in row["components"] if image["name"] == APP)
            self._releases[release_id] = Release(row["manifest_digest"], digests)

    async def load(self, connection: AsyncConnection, revisions: Mapping[int, int]) -> None:
        """Loads the rollouts of which another revision is known, or none."""
        for rollout_id, revision in revisions.items():
            known = self._targets.get(rollout_id)
            if known is not None and known.revision == revision:
                continue
            (row,) = await rollouts.list_rollouts(connection, rollout_id=rollout_id)
            names = {image["name"] for image in row["images"]}
            images = {name: frozenset(i["digest"] for i in row["images"] if i["name"] == name) for name in names}
            self._targets[rollout_id] = Target(
                row["revision"], plan_of(row), row["manifest_digest"], images, row["independent"]
            )
