"""A PostgreSQL cluster for the tests, and a fresh migrated database for each that asks."""

import asyncio
import itertools
import shutil
import tempfile
from pathlib import Path

import asyncpg
from sqlalchemy.engine import make_url

from mellow_herald.store.cluster import DATABASE, Cluster
from mellow_herald.store.database import make_engine, migrate


class Databases:
    """Hands out copies of one migrated database."""

    def __init__(self) -> None:
        # Not pytest's own temporary folder: the user postgres must be able to enter it.
        self._folder = Path(tempfile.mkdtemp(prefix="herald-test-"))
        self._folder.chmod(0o755)
        self.cluster = Cluster(self._folder / "postgres")
        self._numbers = itertools.count(1)

    def start(self) -> None:
        """Starts the cluster and migrates the template."""
        self.cluster.start()

        async def prepare() -> None:
            engine = make_engine(self.cluster.url)
            await migrate(engine)
            await engine.dispose()

        asyncio.run(prepare())

    def stop(self) -> None:
        """Stops the cluster and deletes it."""
        self.cluster.stop()
        shutil.rmtree(self._folder, ignore_errors=True)

    def empty(self) -> str:
        """The URL of a new database without any schema."""
        return self.fresh("template0")

    def fresh(self, template: str = DATABASE) -> str:
        """The URL of a new database with our schema, or copied from another template."""
        name = f"test_{next(self._numbers)}"
        url = make_url(self.cluster.url)

        async def create() -> None:
            plain = url.set(drivername="postgresql", database="postgres").render_as_string(hide_password=False)
            connection = await asyncpg.connect(plain)
            try:
                await connection.execute(f"CREATE DATABASE {name} TEMPLATE {template}")
            finally:
                await connection.close()

        # In a thread: a test's own event loop may be running.
        import threading

        failure: list[BaseException] = []

        def run() -> None:
            try:
                asyncio.run(create())
            except BaseException as error:
                failure.append(error)

        thread = threading.Thread(target=run)
        thread.start()
        thread.join()
        if failure:
            raise failure[0]
        return url.set(database=name).render_as_string(hide_password=False)
