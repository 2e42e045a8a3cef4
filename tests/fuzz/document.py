"""The whole OpenAPI document, put to the service by schemathesis with all its checks."""

import contextlib
import os
import subprocess
import sys
import tempfile
import threading
from collections.abc import Iterator
from pathlib import Path

from sqlalchemy import text

from mellow_herald.wire.webhook import WebhookIn
from tests.harness.device import PuppetDevice
from tests.harness.patience import PATIENCE_S
from tests.harness.service import RunningService

# An event stream never ends, and the run would wait for its end.
ENDLESS = "/api/v1/events"
PROJECT = Path(__file__).parents[2]
REOPENED_EVERY_S = 0.05
ANYTHING, WHAT_IS_THERE = (Path(__file__).with_name(name) for name in ("schemathesis.toml", "there.toml"))


@contextlib.contextmanager
def kept_open(service: RunningService) -> Iterator[str]:
    """A token of an admin that signs out, loses roles and is closed as the run has it, and is good again at once."""
    done = threading.Event()

    async def open_again() -> None:
        async with service.context.engine.begin() as connection:
            await connection.execute(text("UPDATE credential SET closed_at = NULL WHERE kind = 'token'"))
            await connection.execute(
                text("UPDATE person SET closed_at = NULL, roles = '{admin}', must_change = false WHERE name = 'admin'")
            )

    def keep() -> None:
        while not done.wait(REOPENED_EVERY_S):
            service.call(open_again())

    keeper = threading.Thread(target=keep)
    keeper.start()
    try:
        yield service.token
    finally:
        done.set()
        keeper.join(PATIENCE_S)


def fill(service: RunningService) -> None:
    """One of each noun that an address may name: a device with an attempt of a rollout of a release, a list, a
    webhook."""
    for version in ("2.4.0", "2.5.0"):
        service.publish(version)
    device = PuppetDevice(service.url, "TA-1")
    device.enrol(service.code()).raise_for_status()
    device.checkin()
    service.herald.rollouts.start(service.plan())
    service.herald.devices.keep_list("TA-1\n")
    service.herald.webhooks.add(WebhookIn(url="http://127.0.0.1:9/"))


def put(
    service: RunningService, configuration: Path, examples: int, seed: int, *more: str
) -> "subprocess.CompletedProcess[str]":
    """Runs it with so many examples an operation; exit code 0 if nothing was found."""
    command = [str(Path(sys.executable).with_name("schemathesis")), "--config-file", str(configuration), "run"]
    # It is made when it is first asked for; schemathesis waits for ten seconds, which a busy machine may take longer.
    with service.http(service.token) as http:
        http.get("/api/v1/openapi.json", timeout=PATIENCE_S).raise_for_status()
    with kept_open(service) as token, tempfile.TemporaryDirectory() as folder:
        return subprocess.run(
            [
                *command,
                f"{service.url}/api/v1/openapi.json",
                f"--header=Authorization: Bearer {token}",
                "--checks=all",
                f"--max-examples={examples}",
                f"--seed={seed}",
                f"--exclude-path={ENDLESS}",
                "--continue-on-failure",
                f"--request-timeout={PATIENCE_S}",
                *more,
            ],
            capture_output=True,
            text=True,
            cwd=folder,
            env={**os.environ, "PYTHONPATH": str(PROJECT)},
            check=False,
        )
