"""What was heard outside about rollouts: filed, acknowledged, withdrawn."""

from datetime import datetime
from typing import Any

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.rollout import RolloutState
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.rollouts import life
from mellow_herald.service.rollouts.planning import plan_of, target_of
from mellow_herald.service.rollouts.record import record_decision, renew_orders, stored_rollout
from mellow_herald.store import rollouts, say, tallies
from mellow_herald.store.rollouts import RolloutOfRelease
from mellow_herald.store.say import ShownEvidence
from mellow_herald.wire.say import AcknowledgeIn, EvidenceIn, EvidenceListOut, EvidenceOut


async def file(
    context: Context, rollout_id: int, asked: EvidenceIn, by: str, sent: tuple[str, str] | None = None
) -> tuple[EvidenceOut, bool]:
    """Files something heard outside, as it was ``sent`` by a CloudEvent's source with its id; returns it, and whether
    it is new. A device that has the release counts as bad from now on; what names none holds the next ring."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        row = await stored_rollout(connection, rollout_id)
        if sent is not None:
            before = await say.find_sent(connection, *sent)
            if before is not None:
                return as_shown(before), False
        place = await _place(connection, row, asked.serial, now)
        exposed = place is not None and place["exposed"]
        number = await say.add_evidence(
            connection,
            {
                "rollout_id": rollout_id,
                "device_id": None if place is None else place["device_id"],
                "exposed": exposed,
                "kind": asked.kind,
                "text": asked.text,
                "at": now,
                "filed_by": by,
                "source": None if sent is None else sent[0],
                "source_id": None if sent is None else sent[1],
            },
        )
        if number is None:
            before = await say.find_sent(connection, *(sent or ("", "")))
            assert before is not None, "whoever filed it has committed"
            return as_shown(before), False
        if place is not None and exposed:
            await say.note_on_attempt(connection, rollout_id, place["device_id"])
        about = f" about {asked.serial}" if asked.serial else ""
        why = f"{asked.kind}{about}: {' '.join(asked.text.split())}"[:500]
        data = {"evidence": number, "kind": asked.kind, "serial": asked.serial, "exposed": exposed}
        await record_decision(connection, rollout_id, "outside evidence filed", by, why, now, data)
        await renew_orders(connection, rollout_id, "outside evidence", now)
        filed = await say.find_evidence(connection, number)
        assert filed is not None
    if asked.kind in plan_of(row).evidence.hold_on and row["state"] == RolloutState.RUNNING:
        await _hold(context, rollout_id, by, why)
    _look_again(context, rollout_id)
    return as_shown(filed), True


async def acknowledge(
    context: Context, rollout_id: int, evidence_id: int, asked: AcknowledgeIn, by: str
) -> EvidenceOut:
    """Somebody has looked at what names no device: it holds no ring any more."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        found = await _find(connection, rollout_id, evidence_id)
        if found["device_id"] is not None:
            raise ProblemError(
                409,
                "names-a-device",
                f"It names {found['serial']}, and needs no look. Withdraw it if it is wrong.",
            )
        if found["withdrawn_at"] is not None or found["acknowledged_at"] is not None:
            what = "withdrawn" if found["withdrawn_at"] else f"acknowledged by {found['acknowledged_by']}"
            raise ProblemError(409, "decided-already", f"Evidence {evidence_id} was {what} already.")
        told = {"acknowledged_at": now, "acknowledged_by": by, "acknowledged_why": asked.reason}
        await say.change_evidence(connection, evidence_id, **told, unrelated=asked.unrelated)
        data = {"evidence": evidence_id, "unrelated": asked.unrelated}
        await record_decision(connection, rollout_id, "outside evidence acknowledged", by, asked.reason, now, data)
        found = await _find(connection, rollout_id, evidence_id)
    _look_again(context, rollout_id)
    return as_shown(found)


async def withdraw(context: Context, rollout_id: int, evidence_id: int, why: str, by: str) -> EvidenceOut:
    """It was wrong: it stays on record, and counts no more."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        found = await _find(connection, rollout_id, evidence_id)
        if found["withdrawn_at"] is not None:
            raise ProblemError(
                409, "decided-already", f"Evidence {evidence_id} was withdrawn by {found['withdrawn_by']} already."
            )
        told = {"withdrawn_at": now, "withdrawn_by": by, "withdrawn_why": why}
        await say.change_evidence(connection, evidence_id, **told)
        if found["device_id"] is not None:
            await say.note_on_attempt(connection, rollout_id, found["device_id"])
        await rollouts.look_again(connection, rollout_id)
        data = {"evidence": evidence_id, "kind": found["kind"], "serial": found["serial"]}
        await record_decision(connection, rollout_id, "outside evidence withdrawn", by, why, now, data)
        found = await _find(connection, rollout_id, evidence_id)
    _look_again(context, rollout_id)
    return as_shown(found)


async def show(connection: AsyncConnection, rollout_id: int) -> EvidenceListOut:
    """All that was heard outside about a rollout."""
    heard = (await say.count_heard(connection, [rollout_id])).get(rollout_id, say.NOTHING)
    counts = await tallies.count_attempts(connection, [rollout_id])
    exposed = sum(one["exposed"] for one in counts)
    row = await stored_rollout(connection, rollout_id)
    others = max(0, row["targeted"] - exposed)
    words = (
        f"outside: {heard['named']} of {exposed} devices that have it are named{_share(heard['named'], exposed)}, "
        f"{heard['named_others']} of {others} others{_share(heard['named_others'], others)}; "
        f"{heard['unseen']} to be acknowledged"
    )
    items = [as_shown(one) for one in await say.list_evidence(connection, rollout_id)]
    return EvidenceListOut(**heard, exposed=exposed, others=others, words=words, items=items)


def as_shown(row: ShownEvidence) -> EvidenceOut:
    """A piece of evidence, with whether it counts and whether it waits for somebody."""
    stands = row["withdrawn_at"] is None
    more: dict[str, Any] = {
        "counts": stands and row["exposed"],
        "waits": stands and row["device_id"] is None and row["acknowledged_at"] is None,
    }
    return EvidenceOut.model_validate({**row, **more})


def _share(devices: int, of: int) -> str:
    return f" ({100 * devices / of:.1f} %)" if of else ""


async def _place(
    connection: AsyncConnection, row: RolloutOfRelease, serial: str | None, now: datetime
) -> say.Place | None:
    if serial is None:
        return None
    rollout_id = row["id"]
    found = await say.place_of(connection, rollout_id, serial, target_of(row, plan_of(row)), now)
    if found is not None:
        return found
    others = await say.rollouts_of_device(connection, serial)
    if others is None:
        raise ProblemError(404, "not-found", f"There is no device {serial!r}. See `herald device list`.")
    named = f"it was in {', '.join(f'rollout {one}' for one in others)}" if others else "it is in none"
    raise ProblemError(
        409,
        "not-in-rollout",
        f"{serial} is not a device of rollout {rollout_id}; {named}. File it there, or without the serial.",
    )


async def _find(connection: AsyncConnection, rollout_id: int, evidence_id: int) -> ShownEvidence:
    found = await say.find_evidence(connection, evidence_id)
    if found is None or found["rollout_id"] != rollout_id:
        raise ProblemError(
            404,
            "not-found",
            f"Rollout {rollout_id} has no evidence {evidence_id}. See `herald rollout evidence list {rollout_id}`.",
        )
    return found


async def _hold(context: Context, rollout_id: int, by: str, why: str) -> None:
    try:
        await life.hold(context, rollout_id, by, f"outside evidence: {why}"[:500])
    except ProblemError as problem:
        if problem.status != 409:  # it has stopped by itself meanwhile
            raise


def _look_again(context: Context, rollout_id: int) -> None:
    context.memory.epoch += 1
    context.signals.note_harm({rollout_id})
    context.signals.conductor.set()
