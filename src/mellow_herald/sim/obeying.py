"""A device that does what it is told: fetch, switch, switch back, abandon. What it will not have, it refuses."""

import asyncio
from collections.abc import Awaitable, Callable, Mapping

from mellow_herald.core.attempt import State
from mellow_herald.core.key_status import KeyStatus
from mellow_herald.core.order import Order
from mellow_herald.core.suit import Component, Manifest
from mellow_herald.sim.bootloader import Cause, trial_slots
from mellow_herald.sim.contents import digests, running_content, standby_content
from mellow_herald.sim.fetching import Fetching
from mellow_herald.sim.hardware import Hardware
from mellow_herald.sim.placing import Placing
from mellow_herald.sim.standing import Standing
from mellow_herald.sim.talk import Talk
from mellow_herald.sim.trial import Restart, Trial
from mellow_herald.sim.update import GivenUp, choose, groups_of, staged, standby, switch, wanted_by, way_back
from mellow_herald.wire.device import Content, OrderOut


class Obeying:
    """Obeys for one boot of one device. ``check_in`` asks for the order that stands; ``offered`` is told when an update
    begins, as the owner's yes was for another one; ``settle`` tells how a switch without a restart ended; ``lamp``
    shows what people before it are to see."""

    def __init__(
        self,
        hardware: Hardware,
        talk: Talk,
        fetching: Fetching,
        placing: Placing,
        standing: Standing,
        trial: Trial,
        check_in: Callable[[], Awaitable[OrderOut]],
        offered: Callable[[], None],
        settle: Callable[[], Awaitable[None]],
        lamp: Callable[[str], None],
    ) -> None:
        self._hardware, self._talk, self._fetching, self._placing = hardware, talk, fetching, placing
        self._standing, self._trial = standing, trial
        self._check_in, self._offered, self._settle, self._lamp = check_in, offered, settle, lamp

    def _running(self) -> dict[str, Content]:
        return running_content(self._hardware, self._standing)

    def _standby(self) -> dict[str, Content]:
        return standby_content(self._hardware, self._standing)

    async def obey(self, order: OrderOut) -> OrderOut:
        """Does what an order says; returns the order that stands then."""
        match order.order:
            case Order.FETCH:
                await self._fetch(order)
                return await self._check_in()
            case Order.SWITCH | Order.SWITCH_BACK if self._standing.firmware.names_images and _is_cleared(order):
                if order.to:
                    await self._switch_to(order, order.to)
                    return await self._check_in()
                self._talk.log("told to switch, but not to what: staying")
            case Order.SWITCH if _is_cleared(order):
                if self._hardware.data.get("work", {}).get("prepared_for") != order.manifest:
                    await self._fetch(order)
                elif await self._signer_is_good():
                    await self._switch(order)
                return await self._check_in()
            case Order.SWITCH_BACK if _is_cleared(order):
                await self._switch_back(order)
                return await self._check_in()
            case Order.ABANDON:
                self._talk.log("told to abandon what is staged")
                self._drop_staged()
                self._lamp("update stopped")
        return OrderOut(next_checkin_s=order.next_checkin_s)

    def _drop_staged(self) -> None:
        """Erases what is staged; what was once confirmed is the way back and stays."""
        for name in self._hardware.layout.parts:
            slot = standby(self._hardware, name, self._standing.boot)
            note = self._hardware.record.note(name, slot)
            if note is not None and not note.proven:
                self._hardware.erase_slot(name, slot)

    async def _fetch(self, order: OrderOut) -> None:
        owner = None if order.owner is None else order.owner.model_dump()
        work = {
            "attempt": order.attempt,
            "try": order.try_number,
            "trial_s": order.trial_s,
            "urgent": order.urgent,
            "owner": owner,
        }
        if owner is not None and owner["message"]:
            self._talk.log(f"told the owner: {owner['message']}")
        self._hardware.keep(work=work)
        self._offered()
        self._lamp("running")
        try:
            running = {name: content.version for name, content in self._running().items()}
            verified = await self._fetching.manifest(order.manifest or "", running)
            manifest = verified.manifest
            names = await self._fetch_images(manifest, verified.kid)
            prepared = {
                "components": names,
                "signed_by": verified.kid,
                "prepared_for": order.manifest,
                "after": {one.name: list(one.after) for one in manifest.components if one.after},
                "bases": {one.name: one.base for one in manifest.components if one.base is not None},
                "independent": manifest.independent,
                "restart": manifest.restart,
            }
            self._hardware.keep(work={**work, **prepared})
            self._talk.log(f"staged {', '.join(names)}")
            await self._talk.report(State.STAGED)
        except GivenUp as given_up:
            await self._give_up(given_up)

    async def _fetch_images(self, manifest: Manifest, signed_by: str) -> list[str]:
        """Fetches what is to be switched to, side by side; returns the components that stand by. Where the release says
        that its components are independent, one that cannot be had does not keep the others back."""
        components = choose(self._hardware, manifest, self._standing.boot)
        self._fetching.begins(sum(one.size for one in components))
        results = await asyncio.gather(
            *(self._fetch_one(one, manifest.floor, signed_by) for one in components), return_exceptions=True
        )
        names: list[str] = []
        given_up: list[GivenUp] = []
        for component, result in zip(components, results, strict=True):
            if result is None:
                names.append(component.name)
            elif isinstance(result, GivenUp):
                given_up.append(result)
            else:
                raise result
        if given_up and (not manifest.independent or not names):
            raise given_up[0]
        for one in given_up:
            self._talk.log(f"goes on without {one.component}: {one.detail}")
            await self._talk.report(
                State.FAILED, reason=one.reason, detail=one.detail, component=one.component, goes_on=True
            )
        return names

    async def _fetch_one(self, component: Component, floor: int, signed_by: str) -> None:
        boot = self._standing.boot
        if not staged(self._hardware, component, boot):
            await self._fetching.image(component, floor, signed_by, boot)
        self._placing.check(component, boot)

    async def _signer_is_good(self) -> bool:
        """Whether the key that signed what is staged was not revoked since; if it was, the image goes."""
        keys, kid = await self._fetching.newest_keys(), self._hardware.data["work"].get("signed_by")
        key = keys.find(kid) if kid else None
        if kid is None or (key is not None and key.status is not KeyStatus.REVOKED):
            return True
        self._drop_staged()
        self._talk.log(f"gave up: key {kid} was revoked")
        detail = f"key {kid} was revoked in key list {keys.number} after the image was staged"
        await self._talk.report(State.FAILED, reason="signature-refused", detail=detail)
        return False

    async def _switch_to(self, order: OrderOut, to: dict[str, str]) -> None:
        """Switches to the very images that an order names, and to nothing else; where they run already, that is told
        once more."""
        work, running = (
            self._hardware.data.get("work", {}),
            digests(self._running()),
        )
        left = [name for name, digest in to.items() if running.get(name) != digest]
        prepared = work.get("prepared_for") == order.manifest
        standing_by = digests(self._standby())
        if not left and prepared:  # the same bytes once more, since somebody wants it so
            left = [name for name in work["components"] if standing_by.get(name) == to.get(name)]
        if not left:
            self._talk.log("told to switch to what runs already")
            self._hardware.keep(work={"attempt": order.attempt, "try": order.try_number, "trial_s": order.trial_s})
            await self._talk.report(State.CONFIRMED, digests=running)
        elif order.order is Order.SWITCH_BACK:
            await self._switch_back(order, left, to)
        elif not prepared or any(standing_by.get(name) != to[name] for name in left):
            await self._fetch(order)
        elif await self._signer_is_good() and await self._bases_stand(left):
            self._hardware.keep(work={**work, "components": left})
            await self._switch(order)

    async def _bases_stand(self, names: list[str]) -> bool:
        """Whether settings are still those that the new ones are based on: somebody may have changed them since."""
        bases = self._hardware.data["work"].get("bases", {})
        try:
            for name in names:
                self._placing.check_base(name, bases.get(name), self._standing.boot)
        except GivenUp as given_up:
            self._drop_staged()
            await self._give_up(given_up)
            return False
        return True

    async def _give_up(self, given_up: GivenUp) -> None:
        self._talk.log(f"gave up: {given_up.detail}")
        self._lamp("update stopped")
        await self._talk.report(
            State.FAILED, reason=given_up.reason, detail=given_up.detail, component=given_up.component
        )

    async def _switch(self, order: OrderOut) -> None:
        """Puts what is staged on trial; restarts where that is what runs it."""
        work = self._hardware.data["work"]
        names = work["components"]
        wanted = wanted_by(self._hardware, names, self._standing.boot)
        again = {"attempt": order.attempt, "try": order.try_number, "trial_s": order.trial_s, "switching_to": wanted}
        left = {key: value for key, value in work.items() if key not in ("proven", "failed", "cable")}
        self._hardware.keep(work={**left, **again})
        groups = groups_of(names, work.get("after", {}))
        restart = self._trial.needs_restart(groups[0])
        self._talk.log("switching, restarting" if restart else f"taking into use: {', '.join(groups[0])}")
        first = {name: {"state": "installing"} for name in groups[0]} if len(groups) > 1 else {}
        leave = {} if order.clearance is None else {"clearance": order.clearance.number}
        await self._talk.report(State.INSTALLING, **leave, **({"parts": first} if first else {}))
        switch(self._hardware, groups)
        if restart:
            raise Restart(Cause.ORDER)
        self._standing.counts(trial_slots(self._hardware.record), on_trial=True)
        await self._trial.prove()
        await self._settle()

    async def _switch_back(
        self, order: OrderOut, left: list[str] | None = None, to: Mapping[str, str] | None = None
    ) -> None:
        """Switches to what ran before and still stands in the other slot: no download, but a trial like any other.
        ``left`` are the parts to switch, ``to`` what must stand there; an old updater goes by its last switch."""
        work = {"attempt": order.attempt, "try": order.try_number, "trial_s": order.trial_s}
        self._hardware.keep(work=work)
        try:
            names = way_back(self._hardware, self._standing.boot, left, to or {})
            keys = await self._fetching.newest_keys()
            for name in names:
                note = self._hardware.record.note(name, standby(self._hardware, name, self._standing.boot))
                key = keys.find(note.signed_by) if note and note.signed_by else None
                if key is not None and key.status is KeyStatus.REVOKED:
                    raise GivenUp("signature-refused", f"key {key.fingerprint}, which signed it, was revoked", name)
        except GivenUp as given_up:
            await self._give_up(given_up)
            return
        self._hardware.keep(work={**work, "components": names})
        await self._switch(order)


def _is_cleared(order: OrderOut) -> bool:
    return order.clearance is not None and order.clearance.seconds > 0
