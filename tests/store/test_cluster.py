import os
import shutil
import stat
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from sqlalchemy import text

from mellow_herald.store.cluster import Account, Cluster, _reachable
from mellow_herald.store.database import make_engine


@pytest.fixture
def folder() -> Iterator[Path]:
    made = Path(tempfile.mkdtemp(prefix="herald-cluster-"))
    made.chmod(0o755)
    yield made
    shutil.rmtree(made, ignore_errors=True)


async def ask(url: str, statement: str) -> object:
    engine = make_engine(url)
    async with engine.begin() as connection:
        result = await connection.execute(text(statement))
        value = result.scalar() if result.returns_rows else None
    await engine.dispose()
    return value


async def test_a_cluster_is_made_kept_and_taken_up_again(folder: Path) -> None:
    cluster = Cluster(folder / "postgres")
    cluster.start()
    try:
        assert await ask(cluster.url, "SHOW listen_addresses") == "127.0.0.1"
        assert await ask(cluster.url, "SHOW data_checksums") == "on"
        await ask(cluster.url, "CREATE TABLE kept (n int)")
        owner = (cluster.data / "PG_VERSION").stat().st_uid
        assert owner != 0, "never as root"
        # A second holder of the same folder finds it running and does not start another.
        second = Cluster(folder / "postgres")
        second.start()
        assert second.url == cluster.url
    finally:
        cluster.stop()
    assert not (cluster.data / "postmaster.pid").exists()
    again = Cluster(folder / "postgres")
    again.start()
    try:
        assert await ask(again.url, "SELECT count(*) FROM kept") == 0
        again.kill()
        again.start()
        assert await ask(again.url, "SELECT count(*) FROM kept") == 0
    finally:
        again.stop()


def test_the_password_is_for_the_owner_alone(folder: Path) -> None:
    cluster = Cluster(folder / "postgres")
    cluster._prepare_folder()
    assert stat.S_IMODE((cluster.folder / "password").stat().st_mode) == 0o600


@pytest.mark.skipif(os.geteuid() != 0, reason="only root needs another user's way in")
def test_a_folder_that_postgres_cannot_enter_is_replaced_by_one_it_can(folder: Path) -> None:
    account = Account.choose()
    closed = folder / "closed"
    closed.mkdir(mode=0o700)
    assert _reachable(folder / "postgres", account) == folder / "postgres"
    elsewhere = _reachable(closed / "postgres", account)
    assert elsewhere.parent == Path("/var/lib/mellow-herald-of-root")
    assert elsewhere == _reachable(closed / "postgres", account), "the same folder every time"
