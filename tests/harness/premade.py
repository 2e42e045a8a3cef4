"""A cluster with an empty database of today's schema, made once a test run and copied for every service that has one of
its own: to make one takes five seconds of a processor, and what is tested is another thing. Tests of a first start make
their own."""

import asyncio
import atexit
import shutil
import subprocess
import tempfile
from functools import cache
from pathlib import Path

from mellow_herald.store.cluster import Cluster
from mellow_herald.store.database import make_engine, migrate


@cache
def _template() -> Path:
    folder = Path(tempfile.mkdtemp(prefix="herald-premade-"))
    folder.chmod(0o755)
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    cluster = Cluster(folder / "postgres")
    cluster.start()

    async def prepare() -> None:
        engine = make_engine(cluster.url)
        await migrate(engine)
        await engine.dispose()

    asyncio.run(prepare())
    cluster.stop()
    return folder / "postgres"


def lay_out(data: Path) -> None:
    """Puts it into the data folder of a service that has never been started."""
    data.mkdir(parents=True, exist_ok=True)
    # With owners and modes: it is the user postgres's.
    subprocess.run(["cp", "-a", str(_template()), str(data / "postgres")], check=True)
