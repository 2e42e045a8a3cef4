"""Every call about rollouts, their plans, attempts and reports, and about webhooks."""

import json
import secrets
from collections.abc import Callable
from typing import Any, Literal

from mellow_herald.client.calls import API, Call, Result, get, post, reader
from mellow_herald.core.plan import BrakeKind
from mellow_herald.wire.brake import BrakesOut
from mellow_herald.wire.fleet import TimelineEntry
from mellow_herald.wire.model import Model, Page
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.report import CourseOut, FailureOut, ReportOut
from mellow_herald.wire.rollback import RollbackIn, RollbackPreview, SwapIn
from mellow_herald.wire.rollout import (
    AttemptOut,
    GoIn,
    LeaveOutIn,
    PlanEdit,
    PlanEditPreview,
    PreviewOut,
    ReasonIn,
    ResumeIn,
    RetryIn,
    RolloutOut,
    SettlementOut,
)
from mellow_herald.wire.suspect import SuspectsOut
from mellow_herald.wire.topology import StepsOut
from mellow_herald.wire.webhook import DeadLetter, RedeliverOut, WebhookIn, WebhookOut


def list_settlements() -> Call[list[SettlementOut]]:
    """Attempts that were settled after the fact."""
    return get("listing what was settled", f"{API}/settlements", list[SettlementOut])


def start_rollout(plan: PlanDocument, counts: list[int] | None, within: float, overtake: bool) -> Call[RolloutOut]:
    """Starts a rollout; the key makes a repeated call harmless."""
    key = {"idempotency-key": secrets.token_hex(16)}
    params: dict[str, Any] = {"overtake": "true"} if overtake else {}
    if counts is not None:
        params |= {"counts": counts, "within": within}
    body = plan.model_dump_json(exclude_none=True).encode()
    headers = {"content-type": "application/json", **key}
    return Call(
        f"starting rollout {plan.name!r}", "POST", f"{API}/rollouts", reader(RolloutOut), params, body, headers, True
    )


def preview_rollout(plan: PlanDocument, overtake: bool) -> Call[PreviewOut]:
    """What a plan would do."""
    return _asking(f"previewing {plan.name!r}", f"{API}/previews", plan, overtake, reader(PreviewOut))


def export_preview(plan: PlanDocument, overtake: bool) -> Call[list[dict[str, Any]]]:
    """Every device that a ring would have, and who would be passed over."""
    path = f"{API}/previews/devices"
    return _asking(f"exporting the preview of {plan.name!r}", path, plan, overtake, read_lines)


def preview_steps(plan: PlanDocument, all_devices: bool) -> Call[StepsOut]:
    """In which order a plan would stage and switch."""
    params = {"all_devices": "true"} if all_devices else {}
    headers, body = {"content-type": "application/json"}, plan.model_dump_json().encode()
    path = f"{API}/previews/steps"
    doing = f"listing the steps of {plan.name!r}"
    return Call(doing, "POST", path, reader(StepsOut), params, body, headers, repeatable=True)


def _asking(doing: str, path: str, plan: PlanDocument, overtake: bool, read: Callable[[bytes], Result]) -> Call[Result]:
    params = {"overtake": "true"} if overtake else {}
    headers = {"content-type": "application/json"}
    return Call(doing, "POST", path, read, params, plan.model_dump_json().encode(), headers, repeatable=True)


def read_lines(body: bytes) -> list[dict[str, Any]]:
    """The objects of JSON lines."""
    return [json.loads(line) for line in body.splitlines() if line.strip()]


def edit_plan(rollout_id: int, request: PlanEdit, revision: int | None) -> Call[RolloutOut]:
    """Changes pace or rings to come; only if ``revision`` still stands, where it is given."""
    headers = {"content-type": "application/json", **({} if revision is None else {"if-match": f'"{revision}"'})}
    body, path = request.model_dump_json(exclude_none=True).encode(), f"{API}/rollouts/{rollout_id}/plan"
    return Call(f"changing the plan of rollout {rollout_id}", "PATCH", path, reader(RolloutOut), {}, body, headers)


def preview_edit(rollout_id: int, request: PlanEdit) -> Call[PlanEditPreview]:
    """What a change of the plan would do."""
    headers = {"content-type": "application/json"}
    body, path = request.model_dump_json(exclude_none=True).encode(), f"{API}/rollouts/{rollout_id}/plan-preview"
    doing = f"previewing a change of the plan of rollout {rollout_id}"
    return Call(doing, "POST", path, reader(PlanEditPreview), {}, body, headers, repeatable=True)


def go(rollout_id: int, request: GoIn) -> Call[RolloutOut]:
    """Lets the ring open that awaits go."""
    return post(f"go for rollout {rollout_id}", f"{API}/rollouts/{rollout_id}/go", RolloutOut, request)


def act_on_attempt(attempt_id: int, word: Literal["call-off", "retry"], reason: str) -> Call[AttemptOut]:
    """Call off or retry."""
    path = f"{API}/attempts/{attempt_id}/{word}"
    return post(f"{word} of attempt {attempt_id}", path, AttemptOut, ReasonIn(reason=reason))


def list_rollouts(limit: int, after: str | None) -> Call[Page[RolloutOut]]:
    """A page of rollouts."""
    return get("listing rollouts", f"{API}/rollouts", Page[RolloutOut], limit=limit, after=after)


def show_rollout(rollout_id: int) -> Call[RolloutOut]:
    """One rollout."""
    return get(f"reading rollout {rollout_id}", f"{API}/rollouts/{rollout_id}", RolloutOut)


def list_attempts(rollout_id: int, **wanted: Any) -> Call[Page[AttemptOut]]:
    """A page of a rollout's attempts."""
    path = f"{API}/rollouts/{rollout_id}/attempts"
    return get(f"listing attempts of {rollout_id}", path, Page[AttemptOut], **wanted)


def list_failures(rollout_id: int, **wanted: Any) -> Call[Page[FailureOut]]:
    """A page of the tries that went bad."""
    path = f"{API}/rollouts/{rollout_id}/failures"
    return get(f"listing failures of rollout {rollout_id}", path, Page[FailureOut], **wanted)


def retry_bad(rollout_id: int, request: RetryIn) -> Call[RolloutOut]:
    """Gives all bad devices one more try."""
    path = f"{API}/rollouts/{rollout_id}/retries"
    return post(f"trying bad devices of rollout {rollout_id} again", path, RolloutOut, request)


def leave_out(rollout_id: int, request: LeaveOutIn) -> Call[RolloutOut]:
    """Goes on without some devices."""
    path = f"{API}/rollouts/{rollout_id}/leave-out"
    return post(f"leaving devices out of rollout {rollout_id}", path, RolloutOut, request)


def show_attempt(attempt_id: int) -> Call[AttemptOut]:
    """One attempt."""
    return get(f"reading attempt {attempt_id}", f"{API}/attempts/{attempt_id}", AttemptOut)


def attempt_timeline(attempt_id: int) -> Call[list[TimelineEntry]]:
    """What happened in an attempt."""
    path = f"{API}/attempts/{attempt_id}/timeline"
    return get(f"reading the timeline of attempt {attempt_id}", path, list[TimelineEntry])


def resume(rollout_id: int, request: ResumeIn) -> Call[RolloutOut]:
    """Goes on with a held or halted rollout."""
    return post(f"resume of rollout {rollout_id}", f"{API}/rollouts/{rollout_id}/resume", RolloutOut, request)


def show_brakes(rollout_id: int) -> Call[BrakesOut]:
    """What the brakes show."""
    return get(f"reading the brakes of rollout {rollout_id}", f"{API}/rollouts/{rollout_id}/brake", BrakesOut)


def show_suspects(rollout_id: int, kind: BrakeKind | None, excepted: bool) -> Call[SuspectsOut]:
    """What failing devices have in common."""
    path = f"{API}/rollouts/{rollout_id}/suspects"
    return get(
        f"looking for suspects of rollout {rollout_id}", path, SuspectsOut, brake=kind, excepted=excepted or None
    )


def preview_rollback(rollout_id: int, request: RollbackIn) -> Call[RollbackPreview]:
    """How each device would go back."""
    path = f"{API}/rollouts/{rollout_id}/rollback-preview"
    body, headers = request.model_dump_json(exclude_none=True).encode(), {"content-type": "application/json"}
    doing = f"previewing the rollback of rollout {rollout_id}"
    return Call(doing, "POST", path, reader(RollbackPreview), {}, body, headers, repeatable=True)


def start_rollback(rollout_id: int, request: RollbackIn) -> Call[RolloutOut]:
    """Brings devices back; the key makes a repeated call harmless."""
    return _once(f"rolling back rollout {rollout_id}", f"{API}/rollouts/{rollout_id}/rollback", request)


def swap_slots(serial: str, request: SwapIn) -> Call[RolloutOut]:
    """Lets one device switch to its other slot; the key makes a repeated call harmless."""
    return _once(f"swapping the slots of {serial}", f"{API}/devices/{serial}/swap", request)


def _once(doing: str, path: str, request: Model) -> Call[RolloutOut]:
    headers = {"content-type": "application/json", "idempotency-key": secrets.token_hex(16)}
    body = request.model_dump_json(exclude_none=True).encode()
    return Call(doing, "POST", path, reader(RolloutOut), {}, body, headers, repeatable=True)


def act(rollout_id: int, word: Literal["hold", "halt", "cancel"], reason: str) -> Call[RolloutOut]:
    """Hold, halt or cancel."""
    path = f"{API}/rollouts/{rollout_id}/{word}"
    return post(f"{word} of rollout {rollout_id}", path, RolloutOut, ReasonIn(reason=reason))


def rollout_course(rollout_id: int) -> Call[CourseOut]:
    """States over time."""
    return get(f"reading the course of rollout {rollout_id}", f"{API}/rollouts/{rollout_id}/course", CourseOut)


def rollout_report(rollout_id: int) -> Call[ReportOut]:
    """What happened."""
    return get(f"reading the report of rollout {rollout_id}", f"{API}/rollouts/{rollout_id}/report", ReportOut)


def written_report(rollout_id: int, ending: Literal["md", "html"]) -> Call[str]:
    """What happened, as Markdown (``md``) or one HTML file (``html``)."""
    path = f"{API}/rollouts/{rollout_id}/report.{ending}"
    return Call(f"reading the report of rollout {rollout_id}", "GET", path, bytes.decode, repeatable=True)


def plan_schema() -> Call[dict[str, Any]]:
    """The JSON Schema of a plan."""
    return get("reading the schema of a plan", "/schemas/plan.json", dict[str, Any])


def add_webhook(request: WebhookIn) -> Call[WebhookOut]:
    """Makes a webhook."""
    return post(f"making a webhook to {request.url}", f"{API}/webhooks", WebhookOut, request)


def list_webhooks() -> Call[list[WebhookOut]]:
    """All webhooks."""
    return get("listing webhooks", f"{API}/webhooks", list[WebhookOut])


def close_webhook(webhook_id: int) -> Call[None]:
    """Closes a webhook."""
    return Call(f"closing webhook {webhook_id}", "DELETE", f"{API}/webhooks/{webhook_id}", lambda _: None)


def list_dead_letters(webhook_id: int) -> Call[list[DeadLetter]]:
    """What a webhook did not take."""
    return get(f"listing dead letters of {webhook_id}", f"{API}/webhooks/{webhook_id}/dead", list[DeadLetter])


def redeliver(webhook_id: int) -> Call[RedeliverOut]:
    """Tries a webhook's dead letters again."""
    path = f"{API}/webhooks/{webhook_id}/redeliver"
    return Call(f"trying dead letters of {webhook_id} again", "POST", path, reader(RedeliverOut))
