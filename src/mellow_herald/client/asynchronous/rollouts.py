"""Rollouts and webhooks, by the asynchronous client."""

import builtins
from collections.abc import AsyncIterator
from typing import TYPE_CHECKING, Any, Literal

from mellow_herald.client import rollout_calls as calls
from mellow_herald.client.stream import ends_rollout
from mellow_herald.core.plan import BrakeKind
from mellow_herald.wire.brake import BrakesOut
from mellow_herald.wire.event import Event
from mellow_herald.wire.fleet import TimelineEntry
from mellow_herald.wire.model import Page
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.report import CourseOut, FailureOut, ReportOut
from mellow_herald.wire.rollback import RollbackIn, RollbackPreview
from mellow_herald.wire.rollout import (
    AttemptOut,
    GoIn,
    LeaveOutIn,
    PlanEdit,
    PlanEditPreview,
    PreviewOut,
    ResumeIn,
    RetryIn,
    RolloutOut,
    SettlementOut,
)
from mellow_herald.wire.suspect import SuspectsOut
from mellow_herald.wire.topology import StepsOut
from mellow_herald.wire.webhook import DeadLetter, RedeliverOut, WebhookIn, WebhookOut

if TYPE_CHECKING:
    from mellow_herald.client.asynchronous.herald import AsyncHerald


class Rollouts:
    """Plans, rollouts and their attempts."""

    def __init__(self, herald: "AsyncHerald") -> None:
        self._herald = herald

    async def preview(self, plan: PlanDocument, *, overtake: bool = False) -> PreviewOut:
        """What a plan would do now; nothing is changed by asking."""
        return await self._herald.send(calls.preview_rollout(plan, overtake))

    async def steps(self, plan: PlanDocument, *, all_devices: bool = False) -> StepsOut:
        """In which order a plan would stage and switch, and whom each restart of a gateway cuts off."""
        return await self._herald.send(calls.preview_steps(plan, all_devices))

    async def preview_devices(self, plan: PlanDocument, *, overtake: bool = False) -> builtins.list[dict[str, Any]]:
        """Every device that a ring would have, and every one that would be passed over with the reason."""
        return await self._herald.send(calls.export_preview(plan, overtake))

    async def start(
        self,
        plan: PlanDocument,
        *,
        counts: builtins.list[int] | None = None,
        within: float = 0.05,
        overtake: bool = False,
    ) -> RolloutOut:
        """Starts a rollout. With ``counts`` of a preview nothing starts if a ring's has changed by more than the share
        ``within``; ``overtake`` lets an urgent plan take over devices that wait in other rollouts."""
        return await self._herald.send(calls.start_rollout(plan, counts, within, overtake))

    async def list(self, *, limit: int = 50, after: str | None = None) -> Page[RolloutOut]:
        """A page of rollouts, newest first."""
        return await self._herald.send(calls.list_rollouts(limit, after))

    async def show(self, rollout_id: int) -> RolloutOut:
        """One rollout."""
        return await self._herald.send(calls.show_rollout(rollout_id))

    async def attempts(
        self,
        rollout_id: int,
        *,
        state: str | None = None,
        reason: str | None = None,
        ring: int | None = None,
        waiting_for: str | None = None,
        ever_bad: bool | None = None,
        where: str | None = None,
        limit: int = 100,
        after: str | None = None,
    ) -> Page[AttemptOut]:
        """A page of a rollout's attempts; ``reason`` is why they are as they are, or first went bad."""
        wanted = {"state": state, "reason": reason, "ring": ring, "waiting_for": waiting_for, "where": where}
        more = {"ever_bad": ever_bad, "limit": limit, "after": after}
        return await self._herald.send(calls.list_attempts(rollout_id, **wanted, **more))

    async def failures(
        self,
        rollout_id: int,
        *,
        reason: str | None = None,
        where: str | None = None,
        logs: bool = False,
        limit: int = 100,
        after: str | None = None,
    ) -> Page[FailureOut]:
        """A page of the tries that went bad, whatever came of them later; ``logs`` for all lines of their logs. A page
        has ``limit`` devices."""
        wanted = {"reason": reason, "where": where, "logs": logs or None, "limit": limit, "after": after}
        return await self._herald.send(calls.list_failures(rollout_id, **wanted))

    async def settlements(self) -> builtins.list[SettlementOut]:
        """Attempts that had stood wrong and were settled after the fact, the newest first."""
        return await self._herald.send(calls.list_settlements())

    async def attempt(self, attempt_id: int) -> AttemptOut:
        """One attempt."""
        return await self._herald.send(calls.show_attempt(attempt_id))

    async def timeline(self, attempt_id: int) -> builtins.list[TimelineEntry]:
        """What happened in an attempt, newest first."""
        return await self._herald.send(calls.attempt_timeline(attempt_id))

    async def watch(
        self, rollout_id: int, *, after: int | None = 0, timeout: float | None = None
    ) -> AsyncIterator[Event]:
        """The events of a rollout from its start (``after=None``: from now on), until it has ended. With ``timeout`` a
        ``WaitedTooLongError`` ends it after so many seconds, or up to 15 s later."""
        async for event in self._herald.follow(rollout_id=rollout_id, after=after, timeout=timeout):
            yield event
            if ends_rollout(event):
                return

    async def hold(self, rollout_id: int, reason: str) -> RolloutOut:
        """No further offers or clearances for now."""
        return await self._herald.send(calls.act(rollout_id, "hold", reason))

    async def resume(self, rollout_id: int, reason: str, *, leave_out: str | None = None) -> RolloutOut:
        """Goes on, without the devices that the selector ``leave_out`` picks; after a halt in a new round."""
        return await self._herald.send(calls.resume(rollout_id, ResumeIn(reason=reason, leave_out=leave_out)))

    async def brakes(self, rollout_id: int) -> BrakesOut:
        """What both brakes show in this round, how they came there, and the control beside them."""
        return await self._herald.send(calls.show_brakes(rollout_id))

    async def suspects(self, rollout_id: int, *, kind: BrakeKind | None = None, excepted: bool = False) -> SuspectsOut:
        """What failing devices have in common that healthy ones do not; with ``excepted`` those that the rollout left
        out count, too."""
        return await self._herald.send(calls.show_suspects(rollout_id, kind, excepted))

    async def preview_rollback(self, rollout_id: int, request: RollbackIn) -> RollbackPreview:
        """How each device would get back to what it came from, or why it cannot; nothing is changed by asking."""
        return await self._herald.send(calls.preview_rollback(rollout_id, request))

    async def roll_back(self, rollout_id: int, request: RollbackIn) -> RolloutOut:
        """Brings devices back to what they came from: a rollout of its own, which is returned."""
        return await self._herald.send(calls.start_rollback(rollout_id, request))

    async def halt(self, rollout_id: int, reason: str) -> RolloutOut:
        """Stops at once; what was not cleared is called off."""
        return await self._herald.send(calls.act(rollout_id, "halt", reason))

    async def cancel(self, rollout_id: int, reason: str) -> RolloutOut:
        """Ends for good; refused while devices are at risk."""
        return await self._herald.send(calls.act(rollout_id, "cancel", reason))

    async def go(self, rollout_id: int, reason: str, *, ring: int | None = None) -> RolloutOut:
        """Lets the ring open that awaits go."""
        return await self._herald.send(calls.go(rollout_id, GoIn(ring=ring, reason=reason)))

    async def edit(self, rollout_id: int, request: PlanEdit, *, revision: int | None = None) -> RolloutOut:
        """Changes pace, calendar, ``wait_at_most`` or rings; only if ``revision`` still stands, where it is given."""
        return await self._herald.send(calls.edit_plan(rollout_id, request, revision))

    async def preview_edit(self, rollout_id: int, request: PlanEdit) -> PlanEditPreview:
        """What a change of the plan would do now, and to how many devices; nothing is changed by asking."""
        return await self._herald.send(calls.preview_edit(rollout_id, request))

    async def call_off(self, attempt_id: int, reason: str) -> AttemptOut:
        """Stops one device's attempt before it switches."""
        return await self._herald.send(calls.act_on_attempt(attempt_id, "call-off", reason))

    async def retry(self, attempt_id: int, reason: str) -> AttemptOut:
        """Gives one device one more try."""
        return await self._herald.send(calls.act_on_attempt(attempt_id, "retry", reason))

    async def retry_bad(self, rollout_id: int, reason: str, *, ring: int | None = None) -> RolloutOut:
        """Gives all bad devices of a ring, or of all rings, one more try, but for those that were left out."""
        return await self._herald.send(calls.retry_bad(rollout_id, RetryIn(ring=ring, reason=reason)))

    async def leave_out(self, rollout_id: int, reason: str, *, where: str | None = None) -> RolloutOut:
        """Goes on without the devices that a selector picks, or without those that keep a ring from going on."""
        return await self._herald.send(calls.leave_out(rollout_id, LeaveOutIn(where=where, reason=reason)))

    async def course(self, rollout_id: int) -> CourseOut:
        """States over time."""
        return await self._herald.send(calls.rollout_course(rollout_id))

    async def report(self, rollout_id: int) -> ReportOut:
        """What was planned, what happened, who decided what, and where the time went."""
        return await self._herald.send(calls.rollout_report(rollout_id))

    async def written_report(self, rollout_id: int, ending: Literal["md", "html"] = "md") -> str:
        """The same as Markdown (``md``) or as one HTML file with charts (``html``)."""
        return await self._herald.send(calls.written_report(rollout_id, ending))

    async def plan_schema(self) -> dict[str, Any]:
        """The JSON Schema of a plan, for editors."""
        return await self._herald.send(calls.plan_schema())


class Webhooks:
    """Addresses that events are sent to."""

    def __init__(self, herald: "AsyncHerald") -> None:
        self._herald = herald

    async def add(self, request: WebhookIn) -> WebhookOut:
        """Makes a webhook; its secret is shown this once."""
        return await self._herald.send(calls.add_webhook(request))

    async def list(self) -> builtins.list[WebhookOut]:
        """All webhooks."""
        return await self._herald.send(calls.list_webhooks())

    async def close(self, webhook_id: int) -> None:
        """Sends nothing there any more."""
        await self._herald.send(calls.close_webhook(webhook_id))

    async def dead(self, webhook_id: int) -> builtins.list[DeadLetter]:
        """The events it did not take after all tries."""
        return await self._herald.send(calls.list_dead_letters(webhook_id))

    async def redeliver(self, webhook_id: int) -> RedeliverOut:
        """Tries its dead letters again."""
        return await self._herald.send(calls.redeliver(webhook_id))
