"""Backups, on the machine that serves."""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Annotated

import typer

from mellow_herald.cli.extras import require
from mellow_herald.cli.output import byte_progress, note
from mellow_herald.cli.serve import Images

DataDir = Annotated[Path, typer.Option("--data-dir", help="The data folder of the service.")]
DatabaseUrl = Annotated[
    str | None,
    typer.Option(
        "--database-url", envvar="HERALD_DATABASE_URL", help="Its PostgreSQL, if it is not the one in the data folder."
    ),
]
BackupFile = Annotated[Path, typer.Argument(help="The file of the backup.", show_default=False)]


def backup(
    file: BackupFile, data_dir: DataDir = Path("data"), database_url: DatabaseUrl = None, images: Images = None
) -> None:
    """Write everything the service keeps to one file, while it serves.

    Run it on the machine of the service, as its user. The file holds the keys of devices' tokens and is readable for
    you alone; private signing keys are not the service's, and not in it.
    """
    require("service")
    import asyncio

    from mellow_herald.core.refusal import Refused
    from mellow_herald.service.backup.taking import take_backup
    from mellow_herald.store.bucket import open_images
    from mellow_herald.store.cluster import ClusterError
    from mellow_herald.store.trouble import ERRORS as DATABASE_ERRORS

    if not (data_dir / "images").is_dir():
        raise Refused("no-service", f"{data_dir} is no data folder of a service.", "Say where it is: --data-dir DIR.")
    try:
        with _database(data_dir, database_url) as url, byte_progress(f"backup to {file.name}", 0) as progress:
            about = asyncio.run(take_backup(url, open_images(images, data_dir), file, progress))
    except (ClusterError, *DATABASE_ERRORS) as error:
        raise Refused("no-database", f"cannot back up: {_first_line(error)}") from None
    size = file.stat().st_size / 1e6
    holds = f"{about.devices} devices, {len(about.entries) - 1} images, {size:.1f} MB"
    print(f"{file}: {holds}, as of {about.service_time:%Y-%m-%d %H:%M:%S}")
    for digest in about.damaged:
        note(f"herald: image {digest[:16]}… is damaged or missing and not in it; publish its release again.")


def restore(
    file: BackupFile, data_dir: DataDir = Path("data"), database_url: DatabaseUrl = None, images: Images = None
) -> None:
    """Bring a backup back into an empty data folder, here or on another machine.

    What happened after the backup is not known then: running rollouts are held until you resume them, leave to switch
    that was given before is void, everybody signs in again. Start the service afterwards with `herald serve`.
    """
    require("service")
    import asyncio

    from mellow_herald.core.refusal import Refused
    from mellow_herald.service.backup.archive import Archive
    from mellow_herald.service.backup.restoring import NOTHING_LOADED, mark, unmark
    from mellow_herald.service.backup.restoring import restore as bring_back
    from mellow_herald.service.holding import TakenError, hold_folder
    from mellow_herald.store.bucket import open_images
    from mellow_herald.store.cluster import Cluster, ClusterError
    from mellow_herald.store.database import NewerSchemaError, read_url
    from mellow_herald.store.trouble import ERRORS as DATABASE_ERRORS

    archive = Archive(file)
    with byte_progress(f"reading {file.name}", archive.size) as progress:
        archive.verify(progress)
    cluster = None
    try:
        with hold_folder(data_dir):
            if database_url is None:
                cluster = Cluster(data_dir / "postgres")
                if cluster.folder.exists():
                    raise Refused(
                        "not-empty",
                        f"there is a database in {cluster.folder} already.",
                        "Restore into an empty folder (--data-dir), or move that one away.",
                    )
            mark(data_dir)
            try:
                if cluster is not None:
                    cluster.start()
                url = cluster.url if cluster is not None else read_url(database_url or "")
                with byte_progress(f"restoring {file.name}", archive.size) as progress:
                    done = asyncio.run(bring_back(archive, url, open_images(images, data_dir), progress))
            except BaseException as error:
                # Whatever it was: of a database of our own nothing stays. Beside another one, which may have something
                # of it by now, the mark stays.
                if cluster is not None:
                    cluster.remove()
                if cluster is not None or getattr(error, "kind", "") in NOTHING_LOADED:
                    unmark(data_dir)
                raise
            if cluster is not None:
                cluster.stop()
            unmark(data_dir)
    except (ClusterError, NewerSchemaError, TakenError, *DATABASE_ERRORS) as error:
        raise Refused("cannot-restore", f"cannot restore: {_first_line(error)}") from None
    about = archive.about
    print(f"{data_dir}: {about.devices} devices, {done.images} images, as of {about.service_time:%Y-%m-%d %H:%M:%S}")
    print(f"Leave to switch is void for {done.ended} devices; they ask again.")
    if done.held:
        numbers = ", ".join(map(str, done.held))
        print(f"Held, until somebody looks and resumes: rollout {numbers} (herald rollout resume NUMBER).")
    if done.scheduled:
        print(f"Begins at its time: rollout {', '.join(map(str, done.scheduled))}; cancel what is not to.")
    print(
        f"Everybody signs in again. Tokens that are good as they were: {done.tokens} (herald token list --everybody)."
    )
    print(f"Now: herald serve --data-dir {data_dir}")


def _first_line(error: Exception) -> str:
    return str(error).partition("\n")[0] or type(error).__name__


@contextmanager
def _database(data_dir: Path, database_url: str | None) -> Iterator[str]:
    """The database of a service, whether it serves at the moment or not."""
    from mellow_herald.core.refusal import Refused
    from mellow_herald.service.holding import TakenError, hold_folder
    from mellow_herald.store.cluster import Cluster
    from mellow_herald.store.database import read_url

    if database_url is not None:
        yield read_url(database_url)
        return
    cluster = Cluster(data_dir / "postgres")
    if cluster.attach():
        yield cluster.url
        return
    if not cluster.folder.exists():
        raise Refused("no-database", f"there is no database in {cluster.folder}.", "Give its address: --database-url.")
    try:
        with hold_folder(data_dir):
            cluster.start()
            try:
                yield cluster.url
            finally:
                cluster.stop()
    except TakenError as error:
        raise Refused("database-away", f"{error} Its database does not run at the moment; try again.") from None
