"""A PostgreSQL cluster for the tests, and a fresh migrated database for each that asks."""

import asyncio
import itertools
import shutil
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import asyncpg
from sqlalchemy.engine import make_url

from mellow_herald.store.cluster import DATABASE, Cluster
from mellow_herald.store.database import make_engine, migrate

# Nothing here has to outlive a loss of power; what has to is tested on the service's own cluster.
FORGETFUL = {"fsync": "off", "full_page_writes": "off", "synchronous_commit": "off", "autovacuum": "off"}


class Databases:
    """Hands out copies of one migrated database."""

    def __init__(self) -> None:
        # Not pytest's own temporary folder: the user postgres must be able to enter it.
        self._folder = Path(tempfile.mkdtemp(prefix="herald-test-"))
        self._folder.chmod(0o755)
        self.cluster = Cluster(self._folder / "postgres", FORGETFUL)
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
        # As files, not through the log: that writes every page twice.
        self._order(f"CREATE DATABASE {name} TEMPLATE {template} STRATEGY FILE_COPY")
        return make_url(self.cluster.url).set(database=name).render_as_string(hide_password=False)

    def drop(self, url: str) -> None:
        """Deletes a database, whoever is still connected."""
        self._order(f"DROP DATABASE {make_url(url).database} WITH (FORCE)")

    def _order(self, statement: str) -> None:
        # In a thread: a test's own event loop may be running.
        with ThreadPoolExecutor(1) as thread:
            thread.submit(asyncio.run, self._execute(statement)).result()

    async def _execute(self, statement: str) -> None:
        plain = make_url(self.cluster.url).set(drivername="postgresql", database="postgres")
        connection = await asyncpg.connect(plain.render_as_string(hide_password=False))
        try:
            await connection.execute(statement)
        finally:
            await connection.close()
