"""Taking a backup of a service, which may go on serving meanwhile."""

import asyncio
import contextlib
import os
import secrets
import shutil
import subprocess
from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sqlalchemy import URL, func, make_url, select, text
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald import __version__
from mellow_herald.core.refusal import Refused
from mellow_herald.service.backup.archive import DUMP, PIECE, About, Archive, ArchiveWriter, image_entry
from mellow_herald.store.cluster import find_binaries
from mellow_herald.store.database import make_engine
from mellow_herald.store.feed import JournalEntry, last_link, write_journal
from mellow_herald.store.fleet import count_devices
from mellow_herald.store.images import FolderImageStore, ImageStore
from mellow_herald.store.rollouts import list_rollouts
from mellow_herald.store.tables import ClockRow, ImageRow

TAKEN = "backup taken"


async def take_backup(
    url: str, images: ImageStore, file: Path, progress: Callable[[int, int], None] = lambda done, total: None
) -> About:
    """Writes a backup of the database at ``url`` and of the ``images`` to ``file``, which appears
    only when it is whole and was read again. ``progress`` is told bytes done and (about) in all.

    The database is copied as of one moment (a snapshot that ``pg_dump`` shares), and so are the images: they are linked
    while the snapshot is fresh, so that one that is cleaned up meanwhile is in it all the same. ``Refused`` if the file
    is there already, or something stands in the way.
    """
    if file.exists():
        raise Refused("file-exists", f"{file} exists already.", "Backups are not overwritten: choose another name.")
    file.parent.mkdir(parents=True, exist_ok=True)
    part = file.with_name(f".{file.name}.part")
    engine = make_engine(url, 2, 0)
    try:
        async with engine.connect() as connection:
            await connection.execution_options(isolation_level="REPEATABLE READ")
            snapshot = str(await connection.scalar(text("SELECT pg_export_snapshot()")))
            about = await _describe(connection)
            wanted = list(await connection.scalars(select(ImageRow.digest).where(ImageRow.gone_at.is_(None))))
            total = await _bytes(connection)
            with _at_this_moment(images, wanted) as store:
                writer = ArchiveWriter(part, lambda done: progress(done, total))
                try:
                    await asyncio.to_thread(_write, writer, about, store, wanted, url, snapshot)
                finally:
                    writer.close()
        archive = Archive(part)
        await asyncio.to_thread(archive.verify, lambda _: None)
        archive.close()
        _sync(part)
        part.rename(file)
        _sync(file.parent)
        async with engine.begin() as connection:
            await write_journal(connection, _entry(archive.about, file))
    finally:
        part.unlink(missing_ok=True)
        await engine.dispose()
    return archive.about


async def _describe(connection: AsyncConnection) -> About:
    clock = (await connection.execute(select(ClockRow.beat_service))).first()
    if clock is None:
        raise Refused("nothing-there", "the database has never been served from.", "There is nothing to back up yet.")
    live = await list_rollouts(connection, live=True, limit=1000)
    return About(
        made_at=datetime.now(UTC),
        service_time=clock.beat_service,
        version=__version__,
        table_version=str(await connection.scalar(text("SELECT version_num FROM alembic_version"))),
        postgresql=str(await connection.scalar(text("SHOW server_version"))),
        devices=await count_devices(connection),
        live_rollouts=sorted(row["id"] for row in live),
        journal=await last_link(connection),
    )


async def _bytes(connection: AsyncConnection) -> int:
    images = await connection.scalar(select(func.sum(ImageRow.size)).where(ImageRow.gone_at.is_(None)))
    database = await connection.scalar(select(func.pg_database_size(func.current_database())))
    return int(images or 0) + int(database or 0)


@contextlib.contextmanager
def _at_this_moment(images: ImageStore, digests: Sequence[str]) -> Iterator[ImageStore]:
    """A store that keeps these, whatever is cleaned up meanwhile: beside a folder, one with the same files in it. An
    object store is read as it is; what is cleaned up meanwhile is told of as missing."""
    if not isinstance(images, FolderImageStore):
        yield images
        return
    kept = images.folder / f"backup-{secrets.token_hex(8)}"
    store = FolderImageStore(kept)
    try:
        for digest in digests:
            store.path(digest).parent.mkdir(exist_ok=True)
            with contextlib.suppress(FileNotFoundError):  # one that is missing is told of
                os.link(images.path(digest), store.path(digest))
        yield store
    finally:
        shutil.rmtree(kept, ignore_errors=True)


def _write(
    writer: ArchiveWriter, about: About, store: ImageStore, digests: Sequence[str], url: str, snapshot: str
) -> None:
    writer.add(DUMP, _dump(make_url(url), snapshot))
    for digest in digests:
        if store.sound(digest, anew=True):
            writer.add(image_entry(digest), store.pieces(digest))
        else:
            about.damaged.append(digest)
    writer.finish(about)


def _dump(url: URL, snapshot: str) -> Iterator[bytes]:
    arguments = ["--format=custom", "--no-owner", "--no-privileges", "--lock-wait-timeout=60s"]
    process = start_client("pg_dump", url, [*arguments, f"--snapshot={snapshot}"], stdout=subprocess.PIPE)
    assert process.stdout is not None and process.stderr is not None
    with process.stdout as out:
        while piece := out.read(PIECE):
            yield piece
    said = process.stderr.read().decode(errors="replace").strip()
    if process.wait() != 0:
        raise Refused("dump-failed", f"pg_dump broke off: {said or process.returncode}.", "No backup was written.")


def start_client(program: str, url: URL, arguments: Sequence[str], **pipes: Any) -> "subprocess.Popen[bytes]":
    """Starts one of PostgreSQL's own programs on a database; its password is not seen in a list of processes."""
    found: str | Path | None = find_binaries() / program
    if not Path(str(found)).exists():
        found = shutil.which(program)
    if found is None:
        raise Refused("no-program", f"{program} is not installed.", "Install Debian's package `postgresql-client`.")
    where = ["-h", url.host or "127.0.0.1", "-p", str(url.port or 5432), "-U", url.username or ""]
    environment = {**os.environ, "PGPASSWORD": url.password or "", "LC_ALL": "C"}
    command = [str(found), *where, "--no-password", "-d", url.database or "", *arguments]
    return subprocess.Popen(command, env=environment, stderr=subprocess.PIPE, **pipes)


def _entry(about: About, file: Path) -> JournalEntry:
    size = sum(entry.size for entry in about.entries.values())
    images = len(about.entries) - 1
    why = f"asked for on the machine; {about.devices} devices, {images} images, {size / 1e6:.1f} MB"
    if about.damaged:
        why += f"; {len(about.damaged)} damaged images are not in it"
    data = {"made_at": about.made_at.isoformat(), "digest": about.entries[DUMP].sha256, "damaged": about.damaged}
    return JournalEntry(about.service_time, "service", TAKEN, file.name, why, data)


def _sync(path: Path) -> None:
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
