"""Fetching what an order names: manifest and image, verified with nothing but what the device was made with."""

import asyncio
import random
from collections.abc import Callable, Mapping
from typing import Any

from mellow_herald.core.attempt import State
from mellow_herald.core.keys import KeyList, verify_key_list
from mellow_herald.core.manifest import Verified, verify_envelope
from mellow_herald.core.refusal import Refused
from mellow_herald.core.suit import Component, class_id
from mellow_herald.core.version import parse_version
from mellow_herald.sim.bootloader import Boot
from mellow_herald.sim.hardware import BLOCK, Hardware
from mellow_herald.sim.making import Making
from mellow_herald.sim.scenario import DeviceSpec
from mellow_herald.sim.service_time import ServiceTime
from mellow_herald.sim.talk import Talk
from mellow_herald.sim.update import GivenUp, Staging
from mellow_herald.sim.uplink import Calls, NoAnswerError, RefusedCallError

DOWNLOAD_TRIES = 8
REPORT_EVERY = 25  # percent


class LinkCut(Exception):
    """The link broke off in the middle of a transfer."""


class Fetching:
    """Fetches for one device; ``link_stands`` says between blocks whether its link does."""

    def __init__(
        self,
        spec: DeviceSpec,
        hardware: Hardware,
        uplink: Calls,
        time: ServiceTime,
        making: Making,
        talk: Talk,
        rng: random.Random,
        link_stands: Callable[[], bool],
    ) -> None:
        self._spec, self._hardware, self._uplink, self._time = spec, hardware, uplink, time
        self._making, self._talk, self._rng, self._link_stands = making, talk, rng, link_stands
        self._cuts = sorted(spec.link.cut_at, reverse=True)
        self._air = asyncio.Lock()
        self._whole, self._taken = 0, 0

    def begins(self, size: int) -> None:
        """So many bytes are to be fetched, in however many parts."""
        self._whole, self._taken = size, 0

    def _told(self, name: str, percent: int) -> dict[str, Any]:
        """How far it is: of all, and of the part."""
        return {
            "percent": 100 * self._taken // max(1, self._whole),
            "component": name,
            "parts": {name: {"state": "downloading", "percent": percent}},
        }

    async def manifest(self, digest: str, running: Mapping[str, str | None]) -> Verified:
        """Fetches and verifies a manifest with the device's own keys, and checks that it is meant for this device.

        ``running`` are the versions of its components. Raises ``GivenUp`` for anything it will not have.
        """
        pause = self._making.check_in_s
        envelope = await self._talk.patiently(lambda: self._uplink.manifest(digest), pause)
        keys = self._take_keys(await self._talk.patiently(self._uplink.keys, pause))
        try:
            verified = verify_envelope(envelope, keys)
        except Refused as refused:
            raise GivenUp("signature-refused", str(refused)) from None
        if verified.digest != digest:
            raise GivenUp("signature-refused", "the manifest is not the one that the order names")
        self._talk.log(f"manifest of {verified.manifest.version} is signed by {verified.kid}")
        release, spec = verified.manifest, self._spec
        if release.class_id != class_id(self._making.vendor_domain, spec.board, spec.line):
            raise GivenUp("refused-by-device", f"the release is for {release.board}/{release.line}")
        if not isinstance(spec.hw_rev, int) or not release.hw_rev_min <= spec.hw_rev <= release.hw_rev_max:
            raise GivenUp("refused-by-device", f"the release is not for hardware revision {spec.hw_rev}")
        if release.floor < self._hardware.record.floor:
            raise GivenUp("refused-by-device", f"floor number {release.floor} is below {self._hardware.record.floor}")
        for name, least in release.needs:
            version = running.get(name)
            if version is None or parse_version(version) < parse_version(least):
                raise GivenUp("refused-by-device", f"the release needs {name} {least} or later to be running")
        return verified

    async def newest_keys(self) -> KeyList:
        """The key list as far as it can be known now: the service may not answer."""
        try:
            return self._take_keys(await self._uplink.keys())
        except (NoAnswerError, RefusedCallError):
            return verify_key_list(self._hardware.data["key_list"], self._making.root)

    def _take_keys(self, offered: bytes) -> KeyList:
        """The newest key list known; one that is not newer, or not signed by the root, is not taken."""
        own = verify_key_list(self._hardware.data["key_list"], self._making.root)
        try:
            newer = verify_key_list(offered, self._making.root)
        except Refused as refused:
            self._talk.log(f"key list refused: {refused}")
            return own
        if newer.number <= own.number:
            return own
        self._hardware.keep(key_list=offered)
        return newer

    async def image(self, component: Component, floor: int, signed_by: str, boot: Boot) -> None:
        """Writes an image block by block into the standby slot; goes on where a transfer broke off."""
        name, staging = component.name, Staging(self._hardware, component, floor, signed_by, boot)
        self._talk.log(f"erasing the standby slot of {name}")
        await self._talk.report(State.DOWNLOADING, step="erase", **self._told(name, 0))
        staging.erase()
        for _ in range(DOWNLOAD_TRIES):
            try:
                await self._transfer(component, staging)
                break
            except LinkCut:
                percent = staging.percent
                detail = f"transfer cut at {percent} %, going on from byte {staging.have}"
                self._talk.log(detail)
                await self._time.sleep(self._rng.uniform(5, 15))
                told = self._told(name, percent)
                await self._talk.report(State.DOWNLOADING, step="fetch", detail=detail, **told)
            except NoAnswerError as error:
                await self._talk.pause(error)
            except RefusedCallError as refused:
                raise GivenUp("download-broken", refused.detail, name) from None
        else:
            raise GivenUp("download-broken", f"broke off {DOWNLOAD_TRIES} times", name)
        await self._talk.report(State.DOWNLOADING, step="verify", rate=self._rate(), **self._told(name, 100))
        staging.verify()

    def _rate(self) -> int:
        return int(self._spec.link.bytes_per_s * self._spec.link.duty)

    async def _transfer(self, component: Component, staging: Staging) -> None:
        told = staging.percent // REPORT_EVERY
        async for piece in self._uplink.image(component.uri, staging.have):
            for at in range(0, len(piece), BLOCK):
                block = piece[at : at + BLOCK]
                async with self._air:  # parts that are fetched side by side share the link
                    await self._time.sleep(len(block) / self._rate())
                if not self._link_stands():
                    raise LinkCut
                staging.take(block)
                self._taken += len(block)
                if self._cuts and staging.have >= self._cuts[-1] * component.size:
                    self._cuts.pop()
                    raise LinkCut
            if staging.percent // REPORT_EVERY > told and staging.percent < 100:
                told = staging.percent // REPORT_EVERY
                self._talk.log(f"{component.name}: {staging.have} of {component.size} bytes")
                await self._talk.report(
                    State.DOWNLOADING,
                    step="fetch",
                    rate=self._rate(),
                    **self._told(component.name, staging.percent),
                )
