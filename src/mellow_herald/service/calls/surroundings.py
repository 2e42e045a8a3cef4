"""What stands in devices' way besides themselves, held until a transaction ends: pace of rollouts, and families."""

import zlib
from collections.abc import Iterable, Mapping
from datetime import datetime

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.leave import Family, Used
from mellow_herald.core.plan import Plan
from mellow_herald.store import families, rollouts
from mellow_herald.store.gate import Lock, take


async def take_pace(connection: AsyncConnection, plans: Mapping[int, Plan]) -> dict[int, Used]:
    """What is used of the pace of these rollouts, true until the transaction ends: nobody else hands anything out
    of them meanwhile. Taken before any row lock, in rising order."""
    paced = sorted(rollout_id for rollout_id, plan in plans.items() if plan.pace.bounded)
    for rollout_id in paced:
        await take(connection, Lock.PACE, rollout_id)
    counts = await rollouts.under_way(connection, paced) if paced else {}
    return {rollout_id: Used(plans[rollout_id].pace, *counts[rollout_id]) for rollout_id in paced}


async def take_families(
    connection: AsyncConnection, devices: Iterable[int], plans: Mapping[int, Plan], now: datetime
) -> dict[int, list[Family]]:
    """The families of these devices (a gateway behind another has several), by device id; held until the transaction
    ends. Nobody waits for ever for a device behind a gateway: not for one that is not there to begin with, nor for one
    that waits for a condition longer than its rollout's plan allows."""
    members = await families.gateways_of(connection, devices)
    names = sorted({gateway for gateways in members.values() for gateway in gateways})
    for number in sorted({zlib.crc32(name.encode()) for name in names}):
        await take(connection, Lock.FAMILY, number)
    found = {name: Family(name, None) for name in names}
    if names:
        for row in await families.standing(connection, names, now):
            family = found[row["gateway"]]
            if row["is_gateway"]:
                family.gateway_id = row["id"]
            elif row["rollout_id"] is not None and (row["present"] or not row["queued"]):
                plan, since = plans.get(row["rollout_id"]), row["waiting_since"]
                if plan is None or since is None or now - since < plan.wait_at_most:
                    family.undecided.add(row["id"])
            if row["at_risk"]:
                family.at_risk.add(row["id"])
    return {device_id: [found[name] for name in gateways] for device_id, gateways in members.items()}
