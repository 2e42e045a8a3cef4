"""The wheel, installed into an empty environment: client and command line alone first, then with the service."""

import os
import signal
import socket
import subprocess
import sys
import tempfile
import time
import venv
import zipfile
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from mellow_herald.core.keys import private_to_pem
from tests.harness.firmware import make_bytes
from tests.harness.patience import PATIENCE_S
from tests.harness.service import RunningService

pytestmark = pytest.mark.system
PROJECT = Path(__file__).parents[2]
BOARD_FILE = PROJECT / "examples" / "boards" / "comb-s1.toml"


class Installed:
    """An environment of its own with nothing in it but what is installed here."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        venv.create(folder / "venv", with_pip=True)
        self._bin = folder / "venv" / "bin"
        self.herald = str(self._bin / "herald")
        self.environment = {k: v for k, v in os.environ.items() if not k.startswith(("HERALD_", "PYTHONPATH"))}
        self.environment["HERALD_CREDENTIALS"] = str(folder / "credentials.json")

    def pip(self, *arguments: object) -> str:
        """Runs pip; what it prints."""
        command = [str(self._bin / "pip"), "--disable-pip-version-check", *map(str, arguments)]
        done = subprocess.run(command, capture_output=True, text=True, timeout=300)
        assert done.returncode == 0, done.stdout + done.stderr
        return done.stdout

    def install(self, lock: str) -> None:
        """Installs what a lock file names, from built packages only."""
        self.pip(
            "install", "--quiet", "--no-compile", "--only-binary", ":all:", "--require-hashes", "-r", PROJECT / lock
        )

    def run(self, *arguments: object, code: int = 0, **environment: str) -> str:
        """Runs a command; what it prints, errors included."""
        done = subprocess.run(
            [self.herald, *map(str, arguments)],
            cwd=self.folder,
            env=self.environment | environment,
            capture_output=True,
            text=True,
            timeout=PATIENCE_S,
        )
        assert done.returncode == code, done.stdout + done.stderr
        return done.stdout + done.stderr


@pytest.fixture
def wheel() -> Iterator[Path]:
    """The wheel, in a folder of its own."""
    with tempfile.TemporaryDirectory(prefix="herald-wheel-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        build = [sys.executable, "-m", "build", "--wheel", "--no-isolation", "--outdir", str(folder), str(PROJECT)]
        subprocess.run(build, check=True, capture_output=True, timeout=120)
        (built,) = folder.glob("*.whl")
        yield built


def test_the_wheel_publishes_by_itself_and_serves_with_its_extra(wheel: Path, service: RunningService) -> None:
    names = zipfile.ZipFile(wheel).namelist()
    assert {"mellow_herald/py.typed", "mellow_herald/core/selector/grammar.lark"} <= set(names)
    assert "mellow_herald/service/console_files/index.html" in names
    assert any(n.startswith("mellow_herald/store/migrations/versions/0001") for n in names)
    assert not any(n.startswith("tests/") for n in names)

    installed = Installed(wheel.parent)
    installed.install("requirements-base.lock")
    installed.pip("install", "--quiet", "--no-deps", wheel)
    installed.pip("check")
    there = installed.pip("list", "--format", "freeze").lower()
    assert "httpx" in there
    for heavy in ("fastapi", "sqlalchemy", "asyncpg", "scipy", "numpy", "uvicorn"):
        assert heavy not in there, heavy
    _publish(installed, service)
    for command, extras in (("serve", "service"), ("demo", "service,sim")):
        refused = installed.run(command, code=1)
        assert f"pip install 'mellow-herald[{extras}]'" in refused and "Traceback" not in refused

    installed.install("requirements.lock")
    installed.pip("check")
    _serve(installed)


def _publish(installed: Installed, service: RunningService) -> None:
    """Seals, looks at and publishes a release, with nothing but the base install."""
    folder = installed.folder
    image, key, sealed = folder / "image.bin", folder / "key.pem", folder / "it.suit"
    image.write_bytes(make_bytes("2.5.0"))
    key.write_bytes(private_to_pem(service.publisher.key))
    where = {"HERALD_URL": service.url, "HERALD_TOKEN": service.token}
    installed.run("release", "seal", image, "--key", key, "--board-file", BOARD_FILE, "-o", sealed)
    assert "2.5.0" in installed.run("image", "look", sealed, **where)
    assert "published" in installed.run("release", "publish", sealed, **where)
    assert service.herald.releases.find("comb-s1/hive-scale/2.5.0").state == "published"
    # Whoever only watches needs no more either.
    assert "Nothing moves" in installed.run("rollout", "list", **where) or installed.run("device", "list", **where)


def _serve(installed: Installed) -> None:
    """API and console, until asked to stop."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    process = subprocess.Popen(
        [installed.herald, "serve", "--data-dir", str(installed.folder / "data"), "--port", str(port)],
        cwd=installed.folder,
        env=installed.environment,
        stdout=subprocess.PIPE,
        text=True,
        start_new_session=True,
    )
    try:
        with httpx.Client(base_url=f"http://127.0.0.1:{port}", trust_env=False) as http:
            deadline = time.monotonic() + PATIENCE_S
            while True:
                try:
                    if http.get("/health/ready").json()["ok"]:
                        break
                except httpx.TransportError:
                    assert process.poll() is None
                assert time.monotonic() < deadline
                time.sleep(0.2)
            page = http.get("/").text
            assert "<title>Mellow Herald</title>" in page
            script = page.partition('src="')[2].partition('"')[0]
            assert http.get(script).headers["content-type"].startswith("text/javascript")
        asked = time.monotonic()
        process.send_signal(signal.SIGTERM)
        printed, _ = process.communicate(timeout=15)
        assert time.monotonic() - asked < 10
        assert "sign in as admin with password" in printed
        assert process.returncode == 0
    finally:
        if process.poll() is None:
            process.kill()
