"""Two machines that serve, as far as one can be two: processes with a folder and an address each, on one PostgreSQL,
with images in an object store, behind a front server. One of them dies in the middle of a rollout."""

import signal
import subprocess
import tomllib
from collections.abc import Mapping
from pathlib import Path

import pytest

from mellow_herald.core.digest import sha256_hex
from mellow_herald.demo import scenario
from mellow_herald.sim.fleet import chip_path
from mellow_herald.sim.hardware import running_image
from mellow_herald.wire.plan import PlanDocument
from tests.harness.flight import DEVICES, OTHERS, Flight
from tests.harness.nginx import nginx
from tests.harness.objects import BUCKET, serving_objects
from tests.harness.patience import until
from tests.harness.processes import free_port
from tests.harness.some import some

pytestmark = pytest.mark.system
MACHINES = ("127.0.0.1", "127.0.0.2")
SITE = """
upstream herald {{ {servers} keepalive 16; }}
server {{
    listen 127.0.0.1:{port};
    proxy_http_version 1.1;
    proxy_set_header Connection "";
    proxy_connect_timeout 2s;
    location / {{ proxy_pass http://herald; proxy_buffering off; client_max_body_size 64m; }}
}}
"""


class Machines(Flight):
    """A flight whose service is at several addresses; devices and people know that of the front server alone."""

    def __init__(self, folder: Path, environment: Mapping[str, str]) -> None:
        super().__init__(folder, environment=environment)
        # Two services on one machine are told apart by it.
        self.ports = {host: free_port() for host in MACHINES}

    def serve_at(self, host: str, database_url: str) -> subprocess.Popen[bytes]:
        own = ["--data-dir", str(self.folder / host), "--host", host, "--port", str(self.ports[host])]
        shared = ["--database-url", database_url, "--images", BUCKET, "--plain-cookie"]
        process = self.start("serve", *own, *shared, "--time-scale", str(self.speed))
        self.wait_ready(process, f"http://{host}:{self.ports[host]}")
        return process


def test_one_of_two_machines_dies_and_the_rollout_goes_on(database_url: str, folder: Path) -> None:
    with serving_objects() as (_, environment):
        flight = Machines(folder, environment=environment)
        servers = "".join(f"server {host}:{port} max_fails=1 fail_timeout=2s;" for host, port in flight.ports.items())
        try:
            first, second = (flight.serve_at(host, database_url) for host in MACHINES)
            with nginx(folder / "nginx", SITE.format(servers=servers, port=flight.port), flight.url):
                _fly(flight, first, second, database_url)
        finally:
            flight.stop()


def _fly(flight: Machines, first: subprocess.Popen[bytes], second: subprocess.Popen[bytes], database_url: str) -> None:
    herald = flight.signed_in()
    flight.prepare(herald)
    devices = flight.fly()
    until(lambda: herald.overview().presence.get("online") == DEVICES + OTHERS)
    document = tomllib.loads(flight.place.plan(scenario.FIXED).read_text())
    document["numbers"]["trial_for"] = "1h"
    document["rings"] = [{"name": "all", "soak": "1m", "enough": 0.5}]
    rollout_id = herald.rollouts.start(PlanDocument.model_validate(document)).id
    until(lambda: herald.rollouts.show(rollout_id).exposed >= 2)
    first.send_signal(signal.SIGKILL)
    first.wait()
    until(lambda: herald.rollouts.show(rollout_id).state == "finished")
    assert devices.poll() is None and second.poll() is None
    again = flight.serve_at(MACHINES[0], database_url)
    assert herald.overview().presence.get("online", 0) > 0 and again.poll() is None

    shown = herald.rollouts.show(rollout_id)
    assert shown.targeted == sum(shown.states.values()) + sum(shown.passed_over.values())
    new = sha256_hex(flight.place.firmware(scenario.FIXED).read_bytes())
    old = sha256_hex(flight.place.firmware(scenario.OLD).read_bytes())
    for attempt in some(herald.rollouts.attempts(rollout_id).items):
        _, digest = running_image(chip_path(flight.place.flash, attempt.serial))
        assert digest == (new if attempt.state == "confirmed" else old), attempt
    assert shown.states.get("confirmed", 0) >= DEVICES - 2, shown.states
    herald.close()
