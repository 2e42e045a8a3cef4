"""Bringing a backup back, on this machine or another, so that nothing acts on what was allowed before.

What happened between the backup and now is not known: devices may have gone on, a rollout may have been halted,
somebody's token closed. So nothing goes on by itself, and no number is given out twice.
"""

import asyncio
import subprocess
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

from sqlalchemy import delete, insert, make_url, select, text, update
from sqlalchemy.ext.asyncio import AsyncConnection, AsyncEngine

from mellow_herald.core.attempt import State
from mellow_herald.core.journal import Chain
from mellow_herald.core.refusal import Refused
from mellow_herald.core.rollout import RolloutState
from mellow_herald.service.backup.archive import DUMP, Archive, image_entry
from mellow_herald.service.backup.taking import start_client
from mellow_herald.service.calls.memory import new_secret
from mellow_herald.service.rollouts.radio_sessions import MOST_FRAMES
from mellow_herald.service.rollouts.record import record_decision
from mellow_herald.store import coap, people, radio, rollouts
from mellow_herald.store.clock import GAP
from mellow_herald.store.database import make_engine, migrate
from mellow_herald.store.feed import JournalEntry, newest_sealed, read_chain, seal, write_journal
from mellow_herald.store.gate import close_gate
from mellow_herald.store.images import ImageStore
from mellow_herald.store.tables import AttemptRow, ClockRow, Credential, Outbox
from mellow_herald.store.trouble import ERRORS as DATABASE_ERRORS

# Numbers that were given out after the backup are known to devices and to those who follow events: so far they are
# skipped. What only people name skips less.
GAP_IN_NUMBERS, GAP_IN_NAMES = 1_000_000, 1_000
NAMED_BY_PEOPLE = frozenset({"rollout", "release", "webhook", "person", "credential", "enrolment_code", "serial_list"})
MARK = "restoring"
RESTORED = "restored from a backup"
# Refusals that come before anything is in the database.
NOTHING_LOADED = frozenset({"bad-address", "no-database", "not-empty", "no-program", "restore-failed", "not-a-backup"})


@dataclass(frozen=True, slots=True)
class Restored:
    """What was brought back: how many ``images``, which rollouts are ``held`` now, of how many devices the leave to
    switch has ended (``ended``), and how many ``tokens`` of people are good as they were."""

    images: int
    held: list[int]
    scheduled: list[int]
    ended: int
    tokens: int


def mark(folder: Path) -> None:
    """Notes that a restore into a data folder has begun. ``Refused`` if one broke off there before."""
    refuse_half_restored(folder)
    (folder / MARK).touch()


def unmark(folder: Path) -> None:
    """The restore is through."""
    (folder / MARK).unlink()


def refuse_half_restored(folder: Path) -> None:
    """``Refused`` if a restore into this data folder broke off: what is there must not be served."""
    if (folder / MARK).exists():
        raise Refused(
            "half-restored",
            f"a restore into {folder} broke off half-way; what is there must not be served.",
            f"Remove the folder and its database, and restore again. ({folder / MARK} marks it.)",
        )


async def restore(
    archive: Archive, url: str, images: ImageStore, progress: Callable[[int], None] = lambda done: None
) -> Restored:
    """Brings a backup back to the database at ``url``, which must be empty, and into the store ``images``.

    ``Refused`` if there is something in the database, if the backup's schema is later than this version's, or if its
    journal does not verify. ``progress`` is told how many bytes are done.
    """
    engine = make_engine(url, 2, 0)
    try:
        await _look_whether_empty(engine)
        count = await asyncio.to_thread(_bring_images, archive, images, progress)
        await asyncio.to_thread(_load, archive, url)
        await migrate(engine)
        await _verify_journal(engine)
        restored = await _begin_anew(engine, archive, count)
        await seal(engine, wait=True)
        return restored
    finally:
        await engine.dispose()


async def _look_whether_empty(engine: AsyncEngine) -> None:
    try:
        async with engine.connect() as connection:
            served = await connection.scalar(text("SELECT to_regclass('public.alembic_version') IS NOT NULL"))
    except DATABASE_ERRORS as error:
        said = str(error).partition("\n")[0]
        raise Refused("no-database", f"the database does not answer ({said}).", "Look at its address.") from None
    if served:
        raise Refused("not-empty", "there is a service's data in the database already.", "Restore into an empty one.")


def _bring_images(archive: Archive, store: ImageStore, progress: Callable[[int], None]) -> int:
    done = 0
    digests = {name: name.rpartition("/")[2] for name in archive.about.entries if name != DUMP}
    for name, digest in digests.items():
        if name != image_entry(digest):
            raise Refused("not-a-backup", f"{archive.path} has something else in it: {name!r}.", "Take another backup.")
        writing = store.begin(digest, archive.about.entries[name].size)
        try:
            for piece in archive.pieces(name):
                writing.write(piece)
                done += len(piece)
                progress(done)
        except BaseException:
            writing.drop()
            raise
        writing.keep()
    return len(digests)


def _load(archive: Archive, url: str) -> None:
    arguments = ["--no-owner", "--no-privileges", "--single-transaction", "--exit-on-error"]
    process = start_client("pg_restore", make_url(url), arguments, stdin=subprocess.PIPE, stdout=subprocess.DEVNULL)
    assert process.stdin is not None and process.stderr is not None
    try:
        with process.stdin as into:
            for piece in archive.pieces(DUMP):
                into.write(piece)
    except BrokenPipeError:
        pass  # it says why
    said = process.stderr.read().decode(errors="replace").strip()
    if process.wait() != 0:
        raise Refused(
            "restore-failed",
            f"pg_restore broke off: {said.splitlines()[0] if said else process.returncode}.",
            "Nothing was changed in the database.",
        )


async def _verify_journal(engine: AsyncEngine) -> None:
    chain = Chain()
    async with engine.connect() as connection:
        async for link, hashed, entry in read_chain(connection):
            if not chain.follows(link, hashed, entry):
                raise Refused(
                    "journal-broken",
                    f"the backup's journal does not verify from link {link} on: it was changed after it was written.",
                    "Nothing of it may be served; take another backup.",
                )


async def _begin_anew(engine: AsyncEngine, archive: Archive, images: int) -> Restored:
    about = archive.about
    async with engine.begin() as connection:
        now = await _set_clock(connection)
        await _skip_numbers(connection, now)
        await radio.renew_after_restore(connection, now, MOST_FRAMES)
        await coap.renew_after_restore(connection)
        ended = await connection.execute(
            update(AttemptRow)
            .where(AttemptRow.state == State.CLEARED.value, AttemptRow.closed.is_(False))
            .values(clearance_until=now)
        )
        # Who was not cleared may have been, after the backup; if it runs the release, that was why.
        await connection.execute(
            update(AttemptRow).where(AttemptRow.exposed_at.is_(None), AttemptRow.live).values(leave_unknown=True)
        )
        live = await rollouts.list_rollouts(connection, live=True, limit=100_000)
        held = sorted(row["id"] for row in live if row["state"] == RolloutState.RUNNING)
        why = (
            f"restored from a backup of {about.service_time:%Y-%m-%d %H:%M:%S} (service time): what happened"
            " after it is not known here. Look whether it is to go on, then resume it."
        )
        for rollout_id in held:
            await close_gate(connection, rollout_id)
            await rollouts.move_rollout(connection, rollout_id, RolloutState.HELD, reason=why)
            await record_decision(connection, rollout_id, "held", "service", why, now)
        # Browsers sign in again. Tokens stay, or every pipeline would stand; those that were closed since are told of.
        await connection.execute(delete(Credential).where(Credential.kind == "session"))
        tokens = len(await people.list_tokens(connection, None))
        await people.add_mac_key(connection, new_secret(), datetime.now(UTC))
        entry = JournalEntry(
            now,
            "service",
            RESTORED,
            archive.path.name,
            f"taken at {about.made_at:%Y-%m-%d %H:%M:%S} UTC; leave to switch that was given before is void"
            f" (devices: {ended.rowcount}), running rollouts are held (of them: {len(held)}), everybody signs in again;"
            f" tokens are good as they were at the backup (of them: {tokens}), those closed since, too",
            {"made_at": about.made_at.isoformat(), "journal": list(about.journal)},
        )
        await write_journal(connection, entry)
        scheduled = sorted(row["id"] for row in live if row["state"] == RolloutState.SCHEDULED)
        return Restored(images, held, scheduled, ended.rowcount, tokens)


async def _set_clock(connection: AsyncConnection) -> datetime:
    """Service time goes on from where it was, and what was silent before the service is there again counts for
    nothing. Returns it."""
    clock = (await connection.execute(select(ClockRow.beat_service, ClockRow.beat_real))).one()
    values = {
        "beat_real": clock.beat_real - GAP - timedelta(seconds=1),
        "beat_boot": None,
        "database_since": None,
        "rests": True,
    }
    await connection.execute(update(ClockRow).values(**values))
    now: datetime = clock.beat_service
    return now


async def _skip_numbers(connection: AsyncConnection, now: datetime) -> None:
    sequences = await connection.execute(
        text("SELECT sequencename AS name, last_value FROM pg_sequences WHERE schemaname = 'public'")
    )
    for row in sequences.all():
        table = row.name.removesuffix("_id_seq")
        gap = GAP_IN_NAMES if table in NAMED_BY_PEOPLE else GAP_IN_NUMBERS
        # MAC keys count restores: they stay one after the other.
        if table != "mac_key":
            await connection.execute(
                text("SELECT setval(CAST(:name AS regclass), :value)"),
                {"name": row.name, "value": (row.last_value or 0) + gap},
            )
    sealed = await newest_sealed(connection) + GAP_IN_NUMBERS
    await connection.execute(insert(Outbox).values(sealed=sealed, at=now, kind="health", data={"what": RESTORED}))
