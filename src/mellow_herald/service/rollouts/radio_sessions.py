"""Sessions on narrow radio as they are shown."""

from collections import Counter

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.radio.member import Invitation, Member, Step
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.rollouts.record import stored_rollout
from mellow_herald.store import radio
from mellow_herald.store.radio import ShownRadioMember
from mellow_herald.store.rows.radio import StoredRadioMember, StoredRadioSession
from mellow_herald.wire.radio import RadioMemberOut, RadioSessionOut

# A device can be in four groups and have four blocks at once; one of each is enough.
GROUP, INDEX = 0, 0
# Frames of a group are told apart by 16 bits of their counter.
MOST_FRAMES = 0xFFFF
SESSIONS = 1 << 16


async def list_sessions(context: Context, rollout_id: int) -> list[RadioSessionOut]:
    """The sessions of a rollout, without their members."""
    async with context.engine.connect() as connection:
        await stored_rollout(connection, rollout_id)
        rows = await radio.list_sessions(connection, rollout_id=rollout_id)
        shown = [await _shown(connection, row) for row in rows]
    return [one.model_copy(update={"members": []}) for one in shown]


async def show(context: Context, session_id: int) -> RadioSessionOut:
    """One session with its members."""
    async with context.engine.connect() as connection:
        rows = await radio.list_sessions(connection, session_id=session_id)
        if not rows:
            raise ProblemError(404, "not-found", f"There is no session {session_id}.")
        return await _shown(connection, rows[0])


async def _shown(connection: AsyncConnection, row: StoredRadioSession) -> RadioSessionOut:
    members = [_member(row, one) for one in await radio.list_members(connection, row["id"])]
    return RadioSessionOut.model_validate(
        {
            **row,
            "length_s": row["expected_s"],
            "to_send": row["coded"] + (row["fragments"] if row["first_number"] == 1 else 0),
            "counts": dict(Counter(one.step for one in members)),
            "complete": sum(one.complete for one in members),
            "late": [one.serial for one in members if one.ready is False],
            "members": members,
        }
    )


def _member(session: StoredRadioSession, row: ShownRadioMember) -> RadioMemberOut:
    step = to_member(row).step(invitation_of(session, row))
    lost = row["lost"]
    if lost is None and row["received"] and session["state"] != "setting-up" and session["first_number"] == 1:
        # Until it says so itself. In a repair what was received before counts as well.
        lost = max(0, session["sent"] - row["received"])
    return RadioMemberOut.model_validate({**row, "step": Step.COMPLETE if row["complete"] else step, "lost": lost})


def to_member(row: StoredRadioMember) -> Member:
    """The core's member behind a row."""
    return Member(
        row["clock_at"],
        row["in_group"],
        row["has_session"],
        row["has_fragments"],
        row["problem"],
        row["received"],
        row["missing"],
        row["complete"],
    )


def invitation_of(
    session: StoredRadioSession,
    member: StoredRadioMember,
    *,
    wrapped_key: bytes = bytes(16),
    mic: bytes = bytes(4),
    padding: int = 0,
) -> Invitation:
    """What a member is told of a session; its own keys' work only where that is to be sent."""
    return Invitation(
        group=GROUP,
        address=session["address"],
        wrapped_key=wrapped_key,
        counters=(0, MOST_FRAMES),
        begins_at=session["begins_at"],
        time_out=session["time_out"],
        frequency=session["frequency"],
        data_rate=session["data_rate"],
        fragments=session["fragments"],
        fragment=session["fragment"],
        padding=padding,
        descriptor=bytes.fromhex(session["manifest"])[:4],
        session=member["session_count"] % SESSIONS,
        mic=mic,
        index=INDEX,
        spread=session["spread"],
    )
