# Written by `make client` from ../asynchronous; change it there.
"""Rollouts and webhooks, by the synchronous client."""

import builtins
from collections.abc import Iterator
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
    from mellow_herald.client.synchronous.herald import Herald


class Rollouts:
    """Plans, rollouts and their attempts."""

    def __init__(self, herald: "Herald") -> None:
        self._herald = herald

    def preview(self, plan: PlanDocument, *, overtake: bool = False) -> PreviewOut:
        """What a plan would do now; nothing is changed by asking."""
        return self._herald.send(calls.preview_rollout(plan, overtake))

    def steps(self, plan: PlanDocument, *, all_devices: bool = False) -> StepsOut:
        """In which order a plan would stage and switch, and whom each restart of a gateway cuts off."""
        return self._herald.send(calls.preview_steps(plan, all_devices))

    def preview_devices(self, plan: PlanDocument, *, overtake: bool = False) -> builtins.list[dict[str, Any]]:
        """Every device that a ring would have, and every one that would be passed over with the reason."""
        return self._herald.send(calls.export_preview(plan, overtake))

    def start(
        self,
        plan: PlanDocument,
        *,
        counts: builtins.list[int] | None = None,
        within: float = 0.05,
        overtake: bool = False,
    ) -> RolloutOut:
        """Starts a rollout. With ``counts`` of a preview nothing starts if a ring's has changed by more than the share
        ``within``; ``overtake`` lets an urgent plan take over devices that wait in other rollouts."""
        return self._herald.send(calls.start_rollout(plan, counts, within, overtake))

    def list(self, *, limit: int = 50, after: str | None = None) -> Page[RolloutOut]:
        """A page of rollouts, newest first."""
        return self._herald.send(calls.list_rollouts(limit, after))

    def show(self, rollout_id: int) -> RolloutOut:
        """One rollout."""
        return self._herald.send(calls.show_rollout(rollout_id))

    def attempts(
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
        return self._herald.send(calls.list_attempts(rollout_id, **wanted, **more))

    def failures(
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
        return self._herald.send(calls.list_failures(rollout_id, **wanted))

    def settlements(self) -> builtins.list[SettlementOut]:
        """Attempts that had stood wrong and were settled after the fact, the newest first."""
        return self._herald.send(calls.list_settlements())

    def attempt(self, attempt_id: int) -> AttemptOut:
        """One attempt."""
        return self._herald.send(calls.show_attempt(attempt_id))

    def timeline(self, attempt_id: int) -> builtins.list[TimelineEntry]:
        """What happened in an attempt, newest first."""
        return self._herald.send(calls.attempt_timeline(attempt_id))

    def watch(self, rollout_id: int, *, after: int | None = 0, timeout: float | None = None) -> Iterator[Event]:
        """The events of a rollout from its start (``after=None``: from now on), until it has ended. With ``timeout`` a
        ``WaitedTooLongError`` ends it after so many seconds, or up to 15 s later."""
        for event in self._herald.follow(rollout_id=rollout_id, after=after, timeout=timeout):
            yield event
            if ends_rollout(event):
                return

    def hold(self, rollout_id: int, reason: str) -> RolloutOut:
        """No further offers or clearances for now."""
        return self._herald.send(calls.act(rollout_id, "hold", reason))

    def resume(self, rollout_id: int, reason: str, *, leave_out: str | None = None) -> RolloutOut:
        """Goes on, without the devices that the selector ``leave_out`` picks; after a halt in a new round."""
        return self._herald.send(calls.resume(rollout_id, ResumeIn(reason=reason, leave_out=leave_out)))

    def brakes(self, rollout_id: int) -> BrakesOut:
        """What both brakes show in this round, how they came there, and the control beside them."""
        return self._herald.send(calls.show_brakes(rollout_id))

    def suspects(self, rollout_id: int, *, kind: BrakeKind | None = None, excepted: bool = False) -> SuspectsOut:
        """What failing devices have in common that healthy ones do not; with ``excepted`` those that the rollout left
        out count, too."""
        return self._herald.send(calls.show_suspects(rollout_id, kind, excepted))

    def preview_rollback(self, rollout_id: int, request: RollbackIn) -> RollbackPreview:
        """How each device would get back to what it came from, or why it cannot; nothing is changed by asking."""
        return self._herald.send(calls.preview_rollback(rollout_id, request))

    def roll_back(self, rollout_id: int, request: RollbackIn) -> RolloutOut:
        """Brings devices back to what they came from: a rollout of its own, which is returned."""
        return self._herald.send(calls.start_rollback(rollout_id, request))

    def halt(self, rollout_id: int, reason: str) -> RolloutOut:
        """Stops at once; what was not cleared is called off."""
        return self._herald.send(calls.act(rollout_id, "halt", reason))

    def cancel(self, rollout_id: int, reason: str) -> RolloutOut:
        """Ends for good; refused while devices are at risk."""
        return self._herald.send(calls.act(rollout_id, "cancel", reason))

    def go(self, rollout_id: int, reason: str, *, ring: int | None = None) -> RolloutOut:
        """Lets the ring open that awaits go."""
        return self._herald.send(calls.go(rollout_id, GoIn(ring=ring, reason=reason)))

    def edit(self, rollout_id: int, request: PlanEdit, *, revision: int | None = None) -> RolloutOut:
        """Changes pace, calendar, ``wait_at_most`` or rings; only if ``revision`` still stands, where it is given."""
        return self._herald.send(calls.edit_plan(rollout_id, request, revision))

    def preview_edit(self, rollout_id: int, request: PlanEdit) -> PlanEditPreview:
        """What a change of the plan would do now, and to how many devices; nothing is changed by asking."""
        return self._herald.send(calls.preview_edit(rollout_id, request))

    def call_off(self, attempt_id: int, reason: str) -> AttemptOut:
        """Stops one device's attempt before it switches."""
        return self._herald.send(calls.act_on_attempt(attempt_id, "call-off", reason))

    def retry(self, attempt_id: int, reason: str) -> AttemptOut:
        """Gives one device one more try."""
        return self._herald.send(calls.act_on_attempt(attempt_id, "retry", reason))

    def retry_bad(self, rollout_id: int, reason: str, *, ring: int | None = None) -> RolloutOut:
        """Gives all bad devices of a ring, or of all rings, one more try, but for those that were left out."""
        return self._herald.send(calls.retry_bad(rollout_id, RetryIn(ring=ring, reason=reason)))

    def leave_out(self, rollout_id: int, reason: str, *, where: str | None = None) -> RolloutOut:
        """Goes on without the devices that a selector picks, or without those that keep a ring from going on."""
        return self._herald.send(calls.leave_out(rollout_id, LeaveOutIn(where=where, reason=reason)))

    def course(self, rollout_id: int) -> CourseOut:
        """States over time."""
        return self._herald.send(calls.rollout_course(rollout_id))

    def report(self, rollout_id: int) -> ReportOut:
        """What was planned, what happened, who decided what, and where the time went."""
        return self._herald.send(calls.rollout_report(rollout_id))

    def written_report(self, rollout_id: int, ending: Literal["md", "html"] = "md") -> str:
        """The same as Markdown (``md``) or as one HTML file with charts (``html``)."""
        return self._herald.send(calls.written_report(rollout_id, ending))

    def plan_schema(self) -> dict[str, Any]:
        """The JSON Schema of a plan, for editors."""
        return self._herald.send(calls.plan_schema())


class Webhooks:
    """Addresses that events are sent to."""

    def __init__(self, herald: "Herald") -> None:
        self._herald = herald

    def add(self, request: WebhookIn) -> WebhookOut:
        """Makes a webhook; its secret is shown this once."""
        return self._herald.send(calls.add_webhook(request))

    def list(self) -> builtins.list[WebhookOut]:
        """All webhooks."""
        return self._herald.send(calls.list_webhooks())

    def close(self, webhook_id: int) -> None:
        """Sends nothing there any more."""
        self._herald.send(calls.close_webhook(webhook_id))

    def dead(self, webhook_id: int) -> builtins.list[DeadLetter]:
        """The events it did not take after all tries."""
        return self._herald.send(calls.list_dead_letters(webhook_id))

    def redeliver(self, webhook_id: int) -> RedeliverOut:
        """Tries its dead letters again."""
        return self._herald.send(calls.redeliver(webhook_id))
