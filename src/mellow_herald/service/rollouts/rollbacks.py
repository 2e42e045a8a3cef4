"""Bringing devices back: foreseen device by device, run as a rollout of its own, and seen to until nobody is left."""

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import Any

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import AT_RISK, RolledBack, State
from mellow_herald.core.brake import Watch
from mellow_herald.core.firmware import APP
from mellow_herald.core.key_status import KeyStatus
from mellow_herald.core.keys import KeyList
from mellow_herald.core.rollback import IN_WORDS, Cannot, Former, Left, StandbyImage, Way, way_back
from mellow_herald.core.rollout import ENDED, Outcome, RolloutKind, RolloutState
from mellow_herald.core.selector import parse_selector
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.releases.offering import release_name
from mellow_herald.service.rollouts.ending import apply_to, finish
from mellow_herald.service.rollouts.opening import open_at_once
from mellow_herald.service.rollouts.planning import plan_of
from mellow_herald.service.rollouts.record import record_decision, renew_orders, stored_rollout
from mellow_herald.store import keys, rollbacks, rollouts, tallies
from mellow_herald.store.attempts import came_from, digests_of
from mellow_herald.store.fleet import find_device
from mellow_herald.store.gate import Lock, close_gate, share
from mellow_herald.store.rollbacks import FormerRelease, LeftDevice, Scope
from mellow_herald.store.rollouts import RolloutOfRelease
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.rollback import RollbackIn, RollbackPreview, SwapIn, WayPreview

SLICE = 5000
FIRST = 12
MAY_BE_TAKEN_BACK = frozenset({RolloutState.HALTED, RolloutState.FINISHED, RolloutState.CANCELLED})


async def preview(context: Context, source_id: int, asked: RollbackIn) -> RollbackPreview:
    """How each device of a rollout would go back, or why it cannot."""
    now = context.clock.now()
    async with context.engine.connect() as connection:
        source = await _source(connection, source_id)
        scope = _scope(asked.model_dump())
        counts: dict[Way | Cannot, int] = {}
        first: dict[Way | Cannot, list[str]] = {}
        at_risk, targeted, after = 0, 0, 0
        trusted = await keys.trusted_keys(connection)
        while True:
            rows = await rollbacks.list_left(connection, source_id, scope, now, rollback=None, after=after, limit=SLICE)
            if not rows:
                break
            after = rows[-1]["device_id"]
            targeted += len(rows)
            for row, way, _ in await _ways(connection, rows, trusted):
                if row["state"] in AT_RISK:
                    at_risk += 1
                    continue
                counts[way] = counts.get(way, 0) + 1
                names = first.setdefault(way, [])
                if len(names) < FIRST:
                    names.append(row["serial"])
    return RollbackPreview(
        rollout=source_id,
        release=release_name(source) + (f" or {source['second']['version']} by lot" if source["second"] else ""),
        targeted=targeted,
        at_risk=at_risk,
        ways=[
            WayPreview(
                way=way.value, words=IN_WORDS[way], devices=counts[way], first=first[way], can=isinstance(way, Way)
            )
            for way in [*Way, *Cannot]
            if way in counts
        ],
    )


async def start(
    context: Context, source_id: int, asked: RollbackIn, by: str, request_key: str | None
) -> tuple[int, bool]:
    """Starts bringing devices back; returns the rollback's id and whether it is new."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        await share(connection, Lock.KEYS)
        if (known := await rollouts.find_by_request(connection, request_key)) is not None:
            return known, False
        source = await _source(connection, source_id)
        release, scope = release_name(source), asked.model_dump(include={"ring", "only_bad", "where"})
        targeted = await rollbacks.count_within(connection, source_id, _scope(scope), now)
        if not targeted:
            raise ProblemError(
                422, "nobody-to-serve", f"No device of rollout {source_id} is meant by this. Check ring and selector."
            )
        before = PlanDocument.model_validate(source["plan"])
        document = PlanDocument.model_validate(
            {
                "name": f"back from {_versions(source)} (rollout {source_id})"[:200],
                "release": release,
                "target": source["target"],
                "urgent": True,
                "latecomers": True,
                "device": before.device.model_dump(),
                "numbers": before.numbers.model_dump(),
                "pace": asked.pace.model_dump(),
                "brake": asked.brake.model_dump(),
                "rings": [{"name": "back", "soak": "0s", "enough": 0}],
            }
        )
        rollout_id = await _add(
            connection,
            document,
            source["release_id"],
            source["target"],
            by,
            now,
            request_key,
            kind=RolloutKind.ROLLBACK.value,
            rolls_back=source_id,
            scope=scope,
            targeted=targeted,
        )
        data = {"rolls_back": source_id, "targeted": targeted}
        await record_decision(connection, rollout_id, "started", by, asked.reason, now, data)
        await record_decision(
            connection, source_id, "is rolled back", by, asked.reason, now, {"by_rollout": rollout_id}
        )
        await renew_orders(connection, rollout_id, "started", now)
    await open_at_once(context, rollout_id)
    return rollout_id, True


def _versions(source: RolloutOfRelease) -> str:
    """What devices are brought back from."""
    second = source["second"]
    return source["version"] if second is None else f"{source['version']} or {second['version']}"


async def swap(context: Context, serial: str, asked: SwapIn, by: str, request_key: str | None) -> tuple[int, bool]:
    """Lets one device switch to what stands in its other slot; returns the rollout's id and whether it is new."""
    now = context.clock.now()
    async with context.engine.begin() as connection:
        await share(connection, Lock.KEYS)
        if (known := await rollouts.find_by_request(connection, request_key)) is not None:
            return known, False
        device = await find_device(connection, serial)
        if device is None:
            raise ProblemError(404, "not-found", f"There is no device {serial}. See `herald device list`.")
        standby, runs = device["standby"].get(APP) or {}, device["digest"]
        digest = standby.get("digest")
        known_as = await rollbacks.releases_with(connection, [one for one in (digest, runs) if one])
        former = _release_of({APP: digest}, known_as) if digest else None
        trusted = await keys.trusted_keys(connection)
        left = Left(
            True,
            {APP: digest} if digest else {},
            {APP: runs},
            _standing_by(device["standby"]),
            device["floor"],
            None if former is None else _former(former, trusted),
        )
        way = way_back(left)
        if digest is None or way is not Way.SWITCH_BACK:
            why = IN_WORDS[way] if digest is not None and isinstance(way, Cannot) else "its other slot holds nothing"
            raise ProblemError(409, "nothing-to-swap", f"{serial} cannot swap its slots: {why}.")
        named = former or (_release_of({APP: runs}, known_as) if runs else None)
        if named is None:
            raise ProblemError(
                409,
                "unknown-builds",
                f"Neither slot of {serial} holds a build that a release has. Swap it by hand: `herald sim flash`.",
            )
        document = PlanDocument.model_validate(
            {
                "name": f"swap of {serial}"[:200],
                "release": release_name(named),
                "target": f'serial = "{serial}"',
                "urgent": True,
                "allow": ["again", "older", "unknown-builds", "bench-builds"],
                "rings": [{"name": "swap", "soak": "0s", "enough": 0}],
            }
        )
        rollout_id = await _add(
            connection,
            document,
            named["id"],
            document.target,
            by,
            now,
            request_key,
            kind=RolloutKind.SWAP.value,
            targeted=1,
        )
        release_id = None if former is None else former["id"]
        await rollbacks.give_back(
            connection, rollout_id, document.to_plan(), [(device["id"], {APP: digest}, release_id)], now
        )
        shown = await tallies.count_attempts(connection, [rollout_id])
        if not shown:
            raise ProblemError(409, "in-other-rollout", f"{serial} is in another rollout; see `herald device show`.")
        data = {"serial": serial, "to": standby.get("version")}
        await record_decision(connection, rollout_id, "started", by, asked.reason, now, data)
        await renew_orders(connection, rollout_id, "started", now)
    await open_at_once(context, rollout_id)
    return rollout_id, True


async def go_back(connection: AsyncConnection, row: RolloutOfRelease, now: datetime) -> bool:
    """Gives the next devices of a rollback their way back, or the reason why they have none, and marks in the first
    rollout who runs again what it came from; tells whether there may be more to do. The caller shares its gate."""
    source = row["rolls_back"]
    if source is None:
        return False
    plan = plan_of(row)
    rows = await rollbacks.list_left(
        connection, source, _scope(row["scope"]), now, rollback=row["id"], after=0, limit=SLICE
    )
    ways, over = [], []
    for one, way, release_id in await _ways(connection, rows, await keys.trusted_keys(connection)):
        if way in (Way.SWITCH_BACK, Way.REINSTALL):
            ways.append((one["device_id"], _came_from(one), release_id))
        else:
            over.append((one["device_id"], way.value))
    await rollbacks.give_back(connection, row["id"], plan, ways, now)
    await rollbacks.pass_over(connection, row["id"], over)
    if ways:
        await renew_orders(connection, row["id"], "ways back", now)
    marked = await _mark_rolled_back(connection, row["id"], source, now)
    return len(rows) == SLICE or marked == SLICE


async def count_to_come(connection: AsyncConnection, row: RolloutOfRelease, now: datetime) -> int:
    """How many devices a rollback has still to deal with."""
    source = row["rolls_back"]
    if source is None:
        return 0
    return await rollbacks.count_to_come(connection, row["id"], source, _scope(row["scope"]), now)


async def end_what_was_left(connection: AsyncConnection, row: RolloutOfRelease, now: datetime) -> None:
    """Once a rollback is through, its last devices are marked in the first rollout; and where everybody was brought
    back from one that was halted, that has ended, too."""
    source = row["rolls_back"]
    if source is None:
        return
    await close_gate(connection, source)
    while await _mark_rolled_back(connection, row["id"], source, now):
        pass
    if any(row["scope"].values()):
        return
    why, outcome = f"rollout {row['id']} brought its devices back", Outcome.ROLLED_BACK
    if await finish(connection, source, RolloutState.FINISHED, now, {RolloutState.HALTED}, outcome, reason=why):
        await record_decision(connection, source, "finished", "conductor", why, now)
    elif (await rollouts.rollout_states(connection, {source}))[source] in ENDED:
        # One that was resumed meanwhile goes on, and has not come to anything yet.
        await rollouts.change_rollout(connection, source, outcome=outcome.value)
        await record_decision(connection, source, "rolled back", "conductor", why, now)


async def _mark_rolled_back(connection: AsyncConnection, rollback: int, source: int, now: datetime) -> int:
    """Marks in the first rollout who runs again what it came from; returns how many."""
    back = await rollbacks.lock_brought_back(connection, rollback, source, SLICE)
    await apply_to(connection, back, RolledBack(), now, f"by rollout {rollback}")
    return len(back)


def _scope(asked: dict[str, Any]) -> Scope:
    where = asked.get("where")
    return Scope(asked.get("ring"), bool(asked.get("only_bad")), parse_selector(where) if where else None)


async def _source(connection: AsyncConnection, rollout_id: int) -> RolloutOfRelease:
    row = await stored_rollout(connection, rollout_id)
    if row["kind"] != RolloutKind.FORWARD:
        raise ProblemError(
            409,
            "no-way-back",
            f"Rollout {rollout_id} is a {row['kind']} itself. Bring the release to its devices with a new rollout.",
        )
    if RolloutState(row["state"]) not in MAY_BE_TAKEN_BACK:
        raise ProblemError(
            409,
            "wrong-state",
            f"Rollout {rollout_id} is {row['state']}. Halt it first: `herald rollout halt {rollout_id}`.",
        )
    return row


async def _ways(
    connection: AsyncConnection, rows: Sequence[LeftDevice], trusted: KeyList | None
) -> Iterator[tuple[LeftDevice, Way | Cannot, int | None]]:
    """Each device with its way back, and the id of the release it came from."""
    wanted = {digest for row in rows for digest in _came_from(row).values()}
    found = await rollbacks.releases_with(connection, sorted(wanted))
    # A slice has thousands of devices that come from a handful of releases.
    known: dict[frozenset[tuple[str, str]], FormerRelease | None] = {}

    def release_of(images: dict[str, str]) -> FormerRelease | None:
        key = frozenset(images.items())
        if key not in known:
            known[key] = _release_of(images, found)
        return known[key]

    def each() -> Iterator[tuple[LeftDevice, Way | Cannot, int | None]]:
        for row in rows:
            images = _came_from(row)
            former = release_of(images) if images else None
            left = Left(
                row["exposed_at"] is not None and row["state"] != State.CALLED_OFF,
                images,
                digests_of(row["running"]),
                _standing_by(row["standby"]),
                row["floor"],
                None if former is None else _former(former, trusted),
            )
            yield row, way_back(left), None if former is None else former["id"]

    return each()


def _came_from(row: LeftDevice) -> dict[str, str]:
    """What a device came from, of the components that the release to be taken back has."""
    return {name: digest for name, digest in came_from(row).items() if digest is not None and name in row["brings"]}


def _standing_by(standby: dict[str, Any]) -> dict[str, StandbyImage]:
    return {name: StandbyImage(content["digest"], content.get("floor")) for name, content in standby.items()}


def _release_of(images: dict[str, str], releases: Sequence[FormerRelease]) -> FormerRelease | None:
    """The best of these releases that has all of these images, None if there is none."""
    return next((row for row in releases if images.items() <= row["images"]), None)


def _former(row: FormerRelease, trusted: KeyList | None) -> Former:
    key = None if trusted is None else trusted.find(row["kid"])
    revoked = key is None or key.status is KeyStatus.REVOKED
    return Former(row["floor"], row["state"] == "withdrawn", revoked, row["cleaned_at"] is not None)


async def _add(
    connection: AsyncConnection,
    document: PlanDocument,
    release_id: int,
    target: str,
    by: str,
    now: datetime,
    request_key: str | None,
    **more: Any,
) -> int:
    plan = document.to_plan()
    return await rollouts.add_rollout(
        connection,
        {
            "name": document.name,
            "release_id": release_id,
            "plan": document.model_dump(mode="json"),
            "target": target,
            "revision": 1,
            "overtakes": False,
            "state": RolloutState.RUNNING.value,
            "created_by": by,
            "created_at": now,
            "started_at": now,
            "round_at": now,
            "round": 1,
            "watch": Watch(1, {name: [] for name in plan.brake.watch_by}).as_dict(),
            "scope": {},
            "request_key": request_key,
            **more,
        },
        [ring.name for ring in plan.rings],
    )
