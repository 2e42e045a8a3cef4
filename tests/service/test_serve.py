import socket
import subprocess
import sys
import time
from pathlib import Path

import pytest
from typer.testing import CliRunner

from mellow_herald.cli.main import app
from mellow_herald.service.companion import Companion
from mellow_herald.service.serve import PortTakenError, check_datagram_port, take_port
from tests.harness.patience import PATIENCE_S


def test_answers_leave_at_once() -> None:
    with take_port("127.0.0.1", 0) as listener:
        listener.listen()
        with socket.create_connection(listener.getsockname()), listener.accept()[0] as accepted:
            assert accepted.getsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY)


def test_a_port_for_coap_that_is_taken_is_said_at_once() -> None:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as taken:
        taken.bind(("127.0.0.1", 0))
        port = taken.getsockname()[1]
        with pytest.raises(
            PortTakenError, match=rf"UDP port {port} on 127.0.0.1 cannot be used.*--coap-port {port + 1}"
        ):
            check_datagram_port("127.0.0.1", port)
    check_datagram_port("127.0.0.1", port)


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["--coap-open"], "It goes with --coap-port"),
        (["--coap-open", "--coap-port", "5683", "--host", "0.0.0.0"], "a --host of this machine only"),
        (["--coap-port", "5683", "--coap-packages", "herald.example"], "Write it like https://herald.example"),
    ],
)
def test_options_for_coap_that_make_no_sense_are_refused(arguments: list[str], says: str, tmp_path: Path) -> None:
    done = CliRunner().invoke(app, ["serve", "--data-dir", str(tmp_path / "none"), *arguments])
    assert done.exit_code == 2 and says in " ".join(done.output.split())
    assert not (tmp_path / "none").exists()


def test_a_companion_is_started_again_and_ends_in_order(tmp_path: Path) -> None:
    started: list[subprocess.Popen[bytes]] = []

    def start() -> "subprocess.Popen[bytes]":
        started.append(subprocess.Popen([sys.executable, "-c", "import time; time.sleep(60)"]))
        return started[-1]

    companion = Companion("a test's process", start)
    started[0].kill()
    deadline = time.monotonic() + PATIENCE_S
    while len(started) < 2 and time.monotonic() < deadline:
        time.sleep(0.05)
    companion.stop()
    assert len(started) == 2 and all(one.poll() is not None for one in started)
