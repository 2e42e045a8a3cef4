"""Rehearsals, by the asynchronous client."""

import builtins
from typing import TYPE_CHECKING

from mellow_herald.client import rehearsal_calls as calls
from mellow_herald.wire.rehearsal import RehearsalIn, RehearsalOut

if TYPE_CHECKING:
    from mellow_herald.client.asynchronous.herald import AsyncHerald


class Rehearsals:
    """Plans played on a model of the fleet."""

    def __init__(self, herald: "AsyncHerald") -> None:
        self._herald = herald

    async def ask(self, request: RehearsalIn) -> RehearsalOut:
        """Has a plan rehearsed; it goes on by itself, and ``show`` tells how far it is."""
        return await self._herald.send(calls.rehearse(request))

    async def list(self) -> builtins.list[RehearsalOut]:
        """The newest rehearsals."""
        return await self._herald.send(calls.list_rehearsals())

    async def of_rollout(self, rollout_id: int) -> builtins.list[RehearsalOut]:
        """The rehearsals of a rollout's very plan that were done before it was started."""
        return await self._herald.send(calls.list_rehearsals_of(rollout_id))

    async def show(self, rehearsal_id: int) -> RehearsalOut:
        """One rehearsal: how far it is, or what it found."""
        return await self._herald.send(calls.show_rehearsal(rehearsal_id))

    async def cancel(self, rehearsal_id: int) -> RehearsalOut:
        """Ends a rehearsal that is under way."""
        return await self._herald.send(calls.cancel_rehearsal(rehearsal_id))
