"""What becomes of a release after it was received: published, edited, made the baseline, withdrawn, dropped."""

from collections.abc import Mapping
from typing import Any, Protocol

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.manifest import verify
from mellow_herald.core.rollout import RolloutState
from mellow_herald.core.verdict import Allowed, Check, Verdict
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.releases.checking import must_pass
from mellow_herald.service.releases.offering import check_bytes, release_name
from mellow_herald.service.releases.publishing import announce, name_devices, take_line, trusted
from mellow_herald.service.releases.retention import sweep
from mellow_herald.store import releases
from mellow_herald.store.gate import Lock, share
from mellow_herald.store.rows import StoredRelease
from mellow_herald.wire.release import ReleaseEdit, ReleaseState, WithdrawalOut

FROM_BYTES = ("nameplate", "kind of file", "secrets")


async def publish_draft(context: Context, release_id: int, by: str, allowed: Allowed) -> None:
    """Offers a draft: checked again against the keys and releases that are there now."""
    async with context.engine.begin() as connection:
        await share(connection, Lock.KEYS)
        row = await _locked(connection, release_id, ReleaseState.DRAFT)
        await take_line(connection, row["board"], row["line"])
        known = await trusted(connection)
        manifest = verify(row["authentication"], row["manifest"], known, new_release=True).manifest
        # The images were looked at when they came in; what else is there may have changed since.
        from_bytes = [_check(one) for one in row["checks"] if one["name"] in FROM_BYTES]
        checks = [*from_bytes, *await must_pass(connection, context.clock, manifest, allowed)]
        now = context.clock.now()
        await releases.change_release(
            connection,
            release_id,
            state=ReleaseState.PUBLISHED.value,
            published_at=now,
            published_by=by,
            checks=[_plain(check) for check in checks],
        )
        await name_devices(connection, manifest)
        warned = [check.detail for check in checks if check.verdict == Verdict.WARN]
        more = {"key": row["kid"], **({"warned": warned} if warned else {})}
        await announce(connection, context, release_id, manifest.name, "published", by, "from a draft", more)


def _check(plain: Mapping[str, str]) -> Check:
    return Check(plain["name"], Verdict(plain["verdict"]), plain["detail"], plain["mend"], plain["kind"])


def _plain(check: Check) -> dict[str, str]:
    return {name: str(getattr(check, name)) for name in Check.__annotations__}


async def drop(context: Context, release_id: int, by: str) -> None:
    """Deletes a draft, and its images unless another release has them."""
    async with context.engine.begin() as connection:
        row = await _locked(connection, release_id, ReleaseState.DRAFT)
        name = release_name(row)
        await releases.drop_release(connection, release_id)
        await announce(connection, context, release_id, name, "dropped", by, "a draft that was never offered")
    await sweep(context)


async def edit(context: Context, release_id: int, asked: ReleaseEdit, by: str, revision: int | None) -> None:
    """Changes notes or labels; ``revision`` is the one the engineer saw, None if it does not matter."""
    async with context.engine.begin() as connection:
        row = await _locked(connection, release_id)
        if revision is not None and revision != row["revision"]:
            raise ProblemError(
                412, "changed-meanwhile", f"{release_name(row)} was changed meanwhile. Read it again, then change it."
            )
        changes = asked.model_dump(exclude_none=True)
        if changes:
            await releases.change_release(connection, release_id, **changes)
            what = " and ".join(sorted(changes))
            await announce(connection, context, release_id, release_name(row), "edited", by, f"{what} changed")


async def make_baseline(context: Context, release_id: int, by: str, why: str) -> None:
    """Makes a published release what newly admitted or returning devices of its board and line should run."""
    async with context.engine.begin() as connection:
        row = await _locked(connection, release_id, ReleaseState.PUBLISHED)
        check_bytes(row)
        now = context.clock.now()
        before = await releases.set_baseline(connection, row["board"], row["line"], release_id, now, by)
        more = {"before": before}
        await announce(connection, context, release_id, release_name(row), "made baseline", by, why, more)


async def foresee_withdrawal(context: Context, release_id: int) -> WithdrawalOut:
    """What withdrawing would stop."""
    async with context.engine.connect() as connection:
        found = await releases.list_releases(connection, release_id=release_id)
        if not found:
            raise _unknown(release_id)
        live = await releases.live_rollouts_of(connection, [release_id])
        used = await releases.count_uses(connection, [release_id])
    return _withdrawal({**found[0], **used[release_id]}, live)


class HaltRollout(Protocol):
    """Halts a rollout in the caller's transaction, if it can be halted; tells whether it was."""

    async def __call__(self, connection: AsyncConnection, context: Context, rollout_id: int, by: str, why: str) -> bool:
        """As ``service.rollouts.life.halt_within`` does."""


async def withdraw(context: Context, release_id: int, by: str, why: str, halt: HaltRollout) -> WithdrawalOut:
    """Withdraws a published release: not offered any more, and its running rollouts halt in the same transaction."""
    now = context.clock.now()
    async with context.engine.connect() as connection:
        used = await releases.count_uses(connection, [release_id])  # halting is not to wait for it
    async with context.engine.begin() as connection:
        # Locked first: a rollout that starts meanwhile waits for this, and then finds it withdrawn.
        row = await _locked(connection, release_id, ReleaseState.PUBLISHED)
        (shown,) = await releases.list_releases(connection, release_id=release_id)
        live = await releases.live_rollouts_of(connection, [release_id])
        reason = f"{release_name(row)} was withdrawn: {why}"
        stopped = [one for one in live if await halt(connection, context, one["id"], by, reason)]
        await releases.clear_baseline(connection, release_id)
        await releases.change_release(
            connection,
            release_id,
            state=ReleaseState.WITHDRAWN.value,
            withdrawn_at=now,
            withdrawn_by=by,
            withdrawn_why=why,
        )
        more = {"halted": [one["id"] for one in stopped]}
        await announce(connection, context, release_id, release_name(row), "withdrawn", by, why, more)
    context.signals.conductor.set()
    return _withdrawal({**shown, **used[release_id]}, stopped)


def _withdrawal(row: Mapping[str, Any], live: Any) -> WithdrawalOut:
    stops = {one["id"]: one["name"] for one in live if one["state"] != RolloutState.HALTED}
    return WithdrawalOut(
        release=release_name(row),
        rollouts=stops,
        on_the_way=row["on_the_way"],
        running=row["running"],
        baseline=row["baseline"],
    )


async def _locked(connection: AsyncConnection, release_id: int, state: ReleaseState | None = None) -> StoredRelease:
    row = await releases.lock_release(connection, release_id)
    if row is None:
        raise _unknown(release_id)
    if state is not None and row["state"] != state:
        raise ProblemError(409, "wrong-state", f"{release_name(row)} is {row['state']}, not {state}.")
    return row


def _unknown(release_id: int) -> ProblemError:
    return ProblemError(404, "not-found", f"There is no release {release_id}. See `herald release list`.")
