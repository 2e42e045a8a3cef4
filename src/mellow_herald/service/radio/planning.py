"""Planning sessions: who wishes for the same release is sent it together, as soon as all can be prepared."""

import asyncio
import math
import secrets
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

import structlog
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.plan import Plan, Repair
from mellow_herald.core.radio.air import CHANNELS, Region
from mellow_herald.core.radio.forecast import Asked, Forecast, Listener, forecast_repair, forecast_session
from mellow_herald.core.radio.loss import Loss
from mellow_herald.core.radio.member import MATRIX_FULL, SETUP
from mellow_herald.core.radio.packages.fragments import MOST_TOLD
from mellow_herald.core.radio.session import LONGEST_EXPONENT, synchronised_until
from mellow_herald.core.radio.transmission import spread_for
from mellow_herald.core.refusal import Refused
from mellow_herald.core.rollout import RolloutState
from mellow_herald.service.context import Context
from mellow_herald.service.key_box import KeyBox
from mellow_herald.service.radio.blocks import Blocks
from mellow_herald.service.radio.hearing import Ears, group_about
from mellow_herald.service.releases.package import NoPackageError
from mellow_herald.service.rollouts.planning import plan_of
from mellow_herald.service.rollouts.radio_forecast import set_up_time
from mellow_herald.service.rollouts.radio_sessions import MOST_FRAMES
from mellow_herald.store import radio, rollouts
from mellow_herald.store.feed import FeedEvent, publish
from mellow_herald.store.radio import Expected, Placed, Wished
from mellow_herald.store.rows.radio import StoredRadioSession

log = structlog.get_logger()
FIRST_ADDRESS = 0x0100_0000
# So many sessions for which it was ready, or so many in all, and a device is given up.
MOST_SESSIONS, MOST_TRIES, MOST_DEAF = 4, 8, 2
# Devices listen so much longer than a session is expected to last.
RESERVE = 1.3
# Between two sessions on one channel.
BETWEEN = timedelta(seconds=30)


@dataclass(frozen=True, slots=True)
class Group:
    """Who is to be sent what together."""

    rollout_id: int
    manifest: str
    plan: Plan
    wishes: Sequence[Wished]


class Planner:
    """Plans for one network."""

    def __init__(self, context: Context, blocks: Blocks, ears: Ears) -> None:
        self._context, self._blocks, self._ears = context, blocks, ears
        self._box = KeyBox(context.settings.data_dir)

    async def plan(self, region: Region) -> None:
        """Takes wishes into sessions that are being set up, and plans sessions for those that there are none for."""
        async with self._context.engine.connect() as connection:
            wishes = await radio.list_wishes(connection)
            sessions = await radio.list_sessions(connection, under_way=True)
            served = {
                one["device_id"] for session in sessions for one in await radio.list_members(connection, session["id"])
            }
            done = await radio.list_complete(connection, [one["device_id"] for one in wishes])
            unsure = await radio.list_unsure(connection, self._context.clock.now())
            rows = {
                one: (await rollouts.list_rollouts(connection, rollout_id=one))[0]
                for one in {wish["rollout_id"] for wish in wishes}
            }
        waiting: dict[tuple[int, str], list[Wished]] = {}
        for wish in wishes:
            running = rows[wish["rollout_id"]]["state"] == RolloutState.RUNNING
            asked = (wish["device_id"], wish["attempt_id"], wish["try_number"])
            if wish["device_id"] in unsure:
                continue
            if running and wish["device_id"] not in served and asked not in done and wish["root_key"] is not None:
                waiting.setdefault((wish["rollout_id"], wish["manifest"]), []).append(wish)
        for (rollout_id, manifest), asking in waiting.items():
            plan = plan_of(rows[rollout_id])
            if plan.radio.region != region:
                continue
            under_way = [one for one in sessions if (one["rollout_id"], one["manifest"]) == (rollout_id, manifest)]
            gathering = next((one for one in under_way if one["state"] == "setting-up"), None)
            alone = plan.radio.repair is Repair.ALONE and gathering is not None and gathering["repair_of"] is not None
            if gathering is not None and not alone:
                await self._take_in(gathering, asking)
            elif not under_way:
                await self._serve(Group(rollout_id, manifest, plan, asking))

    async def _take_in(self, session: StoredRadioSession, wishes: Sequence[Wished]) -> None:
        if not wishes:
            return
        async with self._context.engine.begin() as connection:
            await radio.add_members(connection, session["id"], [_member(one) for one in wishes])

    async def _serve(self, group: Group) -> None:
        """Plans the next session of a group, for those that may have one more."""
        repair = group.plan.radio.repair
        most = 1 if repair is Repair.NONE else MOST_SESSIONS
        async with self._context.engine.connect() as connection:
            places = await self._places(connection, group, group.wishes)
        over = [one for one in group.wishes if _is_over(one, places.get(one["device_id"]), most)]
        for wish in over:
            await self._give_up(wish, repair)
        left = [wish for wish in group.wishes if wish not in over]
        if left and repair is Repair.ALONE and all(wish["tries"] for wish in left):
            left = left[:1]
        if left:
            await self._plan_session(Group(group.rollout_id, group.manifest, group.plan, left))

    async def _give_up(self, wish: Wished, repair: Repair) -> None:
        async with self._context.engine.connect() as connection:
            device = await radio.find_by_eui(connection, wish["eui"])
            place = await radio.member_of(connection, wish["device_id"])
        if device is None:
            return
        received = 0 if place is None else place[1]["received"]
        why = "the plan has no repair" if repair is Repair.NONE else f"{wish['tries']} sessions did not bring it all"
        hint = "; it received nothing: is its root key the right one, and does it listen?"
        if not wish["sessions"]:
            hint = "; it was ready for none of them: does it hear what it is told?"
        hint = "" if received else hint
        told = {"state": "failed", "reason": "download-broken", "detail": why + hint}
        await self._ears.say_for(device, wish["attempt_id"], wish["try_number"], **told)

    async def _plan_session(self, group: Group) -> None:
        now = self._context.clock.now()
        async with self._context.engine.connect() as connection:
            sent = await radio.was_sent_whole(connection, group.rollout_id, group.manifest)
        # One that a halt cut short is not repaired but sent anew, to all.
        first = not sent or all(wish["tries"] == 0 for wish in group.wishes)
        members: Sequence[Expected] = group.wishes
        if first and not any(wish["back"] for wish in group.wishes):
            # Those too that have not asked yet: who is not ready at the beginning is told by name.
            async with self._context.engine.connect() as connection:
                members = await radio.expected_devices(connection, group.rollout_id) or members
        try:
            foreseen, number = await self._foresee(group, members, now)
        except (Refused, NoPackageError) as error:
            for wish in group.wishes:
                await self._refuse(wish, str(error))
            return
        slowest = max(timedelta(seconds=one["interval_s"]) for one in members)
        begins = foreseen.earliest
        if first:
            begins = max(begins, now + set_up_time(slowest), group.plan.radio.at or now)
        async with self._context.engine.begin() as connection:
            begins_at = await self._after_others(connection, begins)
            session_id = await self._write(connection, group, members, foreseen, number, begins_at, now, repairs=sent)
        log.info("a session by radio is planned", session=session_id, devices=len(members))

    async def _foresee(self, group: Group, members: Sequence[Expected], now: datetime) -> tuple[Forecast, int]:
        """How the next session would go, and the number of its first fragment."""
        asked = group.plan.radio
        block = await self._blocks.whole(group.manifest)
        listeners = [_listener(one, now) for one in members]
        wanted = Asked(asked.region, asked.rate, asked.fragment, asked.redundancy)
        whole = await asyncio.to_thread(forecast_session, len(block), wanted, listeners, now)
        if asked.redundancy is not None and any(wish["tries"] for wish in group.wishes):
            # Who is served again may lose more than was thought of; never is it sent less than the plan says.
            computed = replace(wanted, redundancy=None)
            more = await asyncio.to_thread(forecast_session, len(block), computed, listeners, now)
            whole = max(whole, more, key=lambda one: one.air.redundancy)
        async with self._context.engine.connect() as connection:
            places = await self._places(connection, group, members)
            highest = await radio.highest_fragment(connection, group.manifest, whole.air.fragment)
        have = [_kept(places.get(one["device_id"]), one, whole.air.fragment) for one in members]
        short = [
            (row["missing"] or 0, listener)
            for row, listener in zip(have, listeners, strict=True)
            if row is not None and row["problem"] != MATRIX_FULL
        ]
        if len(short) < len(members) or any(missing <= 0 or missing >= MOST_TOLD for missing, _ in short):
            return whole, 1
        if highest < whole.layout.fragments:
            return whole, 1  # parity is of no use to who was never sent the plain ones
        return forecast_repair(whole.air, whole.layout, short, highest, now), highest + 1

    async def _places(
        self, connection: AsyncConnection, group: Group, members: Sequence[Expected]
    ) -> dict[int, Placed]:
        """How far devices came in the sessions before: what they were told then need not be told again."""
        devices = [one["device_id"] for one in members]
        return await radio.last_places(connection, devices, group.rollout_id, group.manifest)

    async def _refuse(self, wish: Wished, why: str) -> None:
        async with self._context.engine.connect() as connection:
            device = await radio.find_by_eui(connection, wish["eui"])
        if device is not None:
            told = {"state": "failed", "reason": "refused-by-device", "detail": f"cannot be sent by radio: {why}"}
            await self._ears.say_for(device, wish["attempt_id"], wish["try_number"], **told)

    async def _after_others(self, connection: AsyncConnection, begins: datetime) -> datetime:
        """When a session can begin: not while another is sent."""
        for other in await radio.list_sessions(connection, under_way=True):
            begins = max(begins, other["begins_at"] + timedelta(seconds=other["expected_s"] * RESERVE) + BETWEEN)
        return begins

    async def _write(
        self,
        connection: AsyncConnection,
        group: Group,
        members: Sequence[Expected],
        foreseen: Forecast,
        number: int,
        begins_at: datetime,
        now: datetime,
        *,
        repairs: bool,
    ) -> int:
        layout, air = foreseen.layout, foreseen.air
        earlier = [
            one
            for one in await radio.list_sessions(connection, rollout_id=group.rollout_id)
            if one["manifest"] == group.manifest
        ]
        last = earlier[-1] if earlier else None
        address = (await radio.newest_address(connection) or FIRST_ADDRESS) + 1
        # A repair goes to the same group, whose counter goes on, as long as it has room for all of it.
        group_key = self._box.seal(secrets.token_bytes(16), group_about(address))
        same_group = last is not None and last["next_counter"] + 2 * layout.fragments + layout.coded < MOST_FRAMES
        if last is not None and same_group:
            address, group_key = last["address"], last["group_key"]
        length = foreseen.length.total_seconds()
        # A repair takes what it takes: how long the first may be heard, the plan may say.
        listens = (length + layout.length) * RESERVE
        if number == 1 and group.plan.radio.length is not None:
            listens = max(length, group.plan.radio.length.total_seconds())
        # A repair sends parity alone; of how many fragments the block is stays as it was.
        fragments = layout.fragments if last is None or number == 1 else last["fragments"]
        places = await self._places(connection, group, members)
        session_id = await radio.add_session(
            connection,
            {
                "rollout_id": group.rollout_id,
                "repair_of": last["id"] if last and repairs else None,
                "state": "setting-up",
                "manifest": group.manifest,
                "region": air.region,
                "data_rate": air.data_rate,
                "frequency": group.plan.radio.frequency or CHANNELS[air.region].frequency,
                "fragment": air.fragment,
                "redundancy": air.redundancy,
                "fragments": fragments,
                "coded": layout.coded if number == 1 else layout.fragments + layout.coded,
                "first_number": number,
                "ask_after": layout.fragments,
                "on_air_s": layout.on_air,
                "apart_s": layout.apart,
                "time_out": min(LONGEST_EXPONENT, math.ceil(math.log2(listens))),
                "spread": spread_for(len(members)),
                "address": address,
                "group_key": group_key,
                "next_counter": last["next_counter"] if last is not None and same_group else 0,
                "sent": 0,
                "expected_s": length,
                "expected_share": foreseen.share,
                "planned_at": now,
                "begins_at": begins_at,
            },
            [_member(one, places.get(one["device_id"]), address, air.fragment) for one in members],
        )
        data = {"session": session_id, "state": "setting-up", "devices": len(members)}
        await publish(connection, [FeedEvent(now, "radio", group.rollout_id, data=data)])
        return session_id


def _is_over(wish: Wished, place: Placed | None, most: int) -> bool:
    """Whether a device has had its sessions. Who was ready and received nothing is not sent to for hours again."""
    deaf = wish["sessions"] >= MOST_DEAF and (place is None or not place["received"])
    return deaf or wish["sessions"] >= most or wish["tries"] >= min(MOST_TRIES, 2 * most)


def _listener(wish: Expected, now: datetime) -> Listener:
    """What a session goes by of a device. Its clock is set anew where it would be too far off by then."""
    every = timedelta(seconds=wish["interval_s"])
    kept = wish["clock_at"] is not None and synchronised_until(wish["clock_at"]) > now + set_up_time(every)
    loss = None if wish["lost"] is None else Loss(min(0.95, wish["lost"]), max(1.0, wish["burst"] or 1.0))
    return Listener(every, len(SETUP) + (0 if kept else 1), loss, wish["most_fragment"])


def _kept(place: Placed | None, one: Expected, fragment: int) -> Placed | None:
    """What a device has of the block already, cut in the same way: it goes on there, and is not set up again. None if
    it has all, or nothing, or another session since then has taken its place."""
    if place is None or not place["has_fragments"] or place["complete"] or place["fragment"] != fragment:
        return None
    return place if place["session_count"] == one["session_count"] and place["problem"] in ("", MATRIX_FULL) else None


def _member(
    one: Expected, place: Placed | None = None, address: int | None = None, fragment: int = 0
) -> dict[str, object]:
    """A device in a session: anew with a number that it has not had, or going on with what it has of the block."""
    new: dict[str, object] = {
        "device_id": one["device_id"],
        "attempt_id": one["attempt_id"],
        "try_number": one["try_number"],
        "session_count": one["session_count"] + 1,
        "clock_at": one["clock_at"],
        "in_group": place is not None and place["in_group"] and place["address"] == address,
        "received": 0,
        "missing": None,
        "has_fragments": False,
    }
    kept = _kept(place, one, fragment)
    if kept is None:
        return new
    going_on: dict[str, object] = {name: kept[name] for name in ("received", "missing", "session_count")}
    return {**new, **going_on, "has_fragments": True}


def by_begin(sessions: Iterable[StoredRadioSession]) -> list[StoredRadioSession]:
    """Sessions in the order in which they are sent."""
    return sorted(sessions, key=lambda one: (one["state"] != "sending", one["begins_at"], one["id"]))
