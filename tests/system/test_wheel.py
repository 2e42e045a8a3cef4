"""The wheel, installed into an empty environment, serves the API and the console."""

import os
import signal
import socket
import subprocess
import sys
import tempfile
import time
import venv
import zipfile
from pathlib import Path

import httpx
import pytest

pytestmark = [pytest.mark.system, pytest.mark.xdist_group("browser")]
PROJECT = Path(__file__).parents[2]


def test_the_wheel_serves_from_an_empty_environment() -> None:
    with tempfile.TemporaryDirectory(prefix="herald-wheel-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        build = [sys.executable, "-m", "build", "--wheel", "--no-isolation", "--outdir", str(folder), str(PROJECT)]
        subprocess.run(build, check=True, capture_output=True, timeout=120)
        (wheel,) = folder.glob("*.whl")
        names = zipfile.ZipFile(wheel).namelist()
        assert "mellow_herald/service/console_files/index.html" in names
        assert any(n.startswith("mellow_herald/store/migrations/versions/0001") for n in names)
        assert "mellow_herald/core/selector/grammar.lark" in names
        assert not any(n.startswith("tests/") for n in names)

        venv.create(folder / "venv", with_pip=True)
        pip = [str(folder / "venv" / "bin" / "pip"), "install", "--quiet", "--disable-pip-version-check"]
        subprocess.run([*pip, "--require-hashes", "-r", str(PROJECT / "requirements.lock")], check=True, timeout=300)
        subprocess.run([*pip, "--no-deps", str(wheel)], check=True, timeout=60)

        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        environment = {k: v for k, v in os.environ.items() if not k.startswith(("HERALD_", "PYTHONPATH"))}
        command = [
            str(folder / "venv" / "bin" / "herald"),
            "serve",
            "--data-dir",
            str(folder / "data"),
            "--port",
            str(port),
        ]
        process = subprocess.Popen(
            command, cwd=folder, env=environment, stdout=subprocess.PIPE, text=True, start_new_session=True
        )
        try:
            with httpx.Client(base_url=f"http://127.0.0.1:{port}", trust_env=False) as http:
                deadline = time.monotonic() + 60
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
            said, _ = process.communicate(timeout=15)
            assert time.monotonic() - asked < 10
            assert "sign in as admin with password" in said
            assert process.returncode == 0
        finally:
            if process.poll() is None:
                process.kill()
