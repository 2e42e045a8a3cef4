"""The example device, with nothing but the standard library, against the real service."""

import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from hypothesis import given, settings
from hypothesis import strategies as st

from mellow_herald.core.key_status import KeyStatus
from mellow_herald.core.keys import SigningKey, public_to_pem, raw_public, sign_key_list
from tests.harness.example import EXAMPLES, load_example
from tests.harness.firmware import BOARD, DOMAIN, LINE, make_bytes
from tests.harness.patience import PATIENCE_S
from tests.harness.service import RunningService

FILE = EXAMPLES / "device.py"


@pytest.fixture(scope="module")
def trust() -> Any:
    return load_example("device_trust")


@pytest.fixture
def service(databases: Any, tmp_path: Path) -> Any:
    running = RunningService(databases.fresh(), tmp_path / "service").start().prepare()
    for version in ("2.4.0", "2.5.0"):
        running.publish(version).raise_for_status()
    yield running
    running.stop()


def command(service: RunningService, folder: Path, *more: str, root: bytes | None = None) -> list[str]:
    (folder / "root.pem").write_bytes(public_to_pem(root or raw_public(service.publisher.root)))
    (folder / "old.bin").write_bytes(make_bytes("2.4.0"))
    options = {
        "url": service.url,
        "code": service.code(),
        "serial": "TA-own",
        "board": BOARD,
        "line": LINE,
        "domain": DOMAIN,
        "root": str(folder / "root.pem"),
        "image": str(folder / "old.bin"),
        "folder": str(folder / "flash"),
        "version": "2.4.0",
        "floor": "4",
        "wait": "1",
        "piece": "7000",
    }
    arguments = [part for name, value in options.items() for part in (f"--{name}", value)]
    # -I: nothing but the standard library can be imported.
    return [sys.executable, "-I", "-S", str(FILE), *arguments, *more]


def run(service: RunningService, folder: Path, *more: str) -> subprocess.CompletedProcess[str]:
    asked = command(service, folder, *more)
    return subprocess.run(asked, capture_output=True, text=True, timeout=PATIENCE_S, check=False)


def begin(service: RunningService, folder: Path) -> int:
    assert run(service, folder, "--until", "2.4.0").returncode == 0
    rollout = service.herald.rollouts.start(service.plan())
    service.wait_for(rollout.id, lambda r: r.rings[0].state == "open")
    return rollout.id


def test_it_takes_a_release_from_first_call_to_confirmed(service: RunningService, tmp_path: Path) -> None:
    rollout_id = begin(service, tmp_path)
    done = run(service, tmp_path, "--until", "2.5.0")
    assert done.returncode == 0, done.stderr
    assert "2.5.0 is signed by" in done.stdout and done.stdout.strip().endswith("confirmed")
    rollout = service.wait_for(rollout_id, lambda r: r.state == "finished")
    assert rollout.states == {"confirmed": 1}
    assert (tmp_path / "flash" / "b.bin").read_bytes() == make_bytes("2.5.0")
    shown = service.herald.devices.show("TA-own")
    assert (shown.version, shown.known_build, shown.way_back) == ("2.5.0", True, True)


def test_it_switches_back_and_forth_without_a_download(service: RunningService, tmp_path: Path) -> None:
    service.publish("2.4.0").raise_for_status()
    rollout_id = begin(service, tmp_path)
    assert run(service, tmp_path, "--until", "2.5.0").returncode == 0
    service.wait_for(rollout_id, lambda r: r.state == "finished")
    for version in ("2.4.0", "2.5.0"):
        swap = service.herald.devices.swap("TA-own", "back and forth")
        done = run(service, tmp_path, "--until", version)
        assert done.returncode == 0 and "is signed by" not in done.stdout, done.stdout + done.stderr
        assert service.wait_for(swap.id, lambda r: r.state == "finished").states == {"confirmed": 1}


def test_it_refuses_what_its_root_did_not_vouch_for(service: RunningService, tmp_path: Path) -> None:
    rollout_id = begin(service, tmp_path)
    stranger = raw_public(Ed25519PrivateKey.generate())
    process = subprocess.Popen(command(service, tmp_path, root=stranger))
    try:
        service.wait_for(rollout_id, lambda r: r.states.get("failed") == 1)
    finally:
        process.terminate()
        process.wait(PATIENCE_S)
    (attempt,) = service.herald.rollouts.attempts(rollout_id).items
    assert (attempt.state, attempt.reason) == ("failed", "signature-refused")
    assert not (tmp_path / "flash" / "b.bin").exists(), "nothing was written"


@settings(max_examples=25, deadline=None)
@given(message=st.binary(max_size=80), flip=st.integers(0, 64 * 8 - 1))
def test_its_signature_check_agrees_with_a_crypto_library(trust: Any, message: bytes, flip: int) -> None:
    key = Ed25519PrivateKey.generate()
    public, signature = raw_public(key), key.sign(message)
    assert trust.ed25519_good(public, signature, message)
    spoiled = bytearray(signature)
    spoiled[flip // 8] ^= 1 << flip % 8
    assert not trust.ed25519_good(public, bytes(spoiled), message)
    assert not trust.ed25519_good(public, signature, message + b"x")
    assert not trust.ed25519_good(raw_public(Ed25519PrivateKey.generate()), signature, message)


def test_it_reads_key_lists_as_we_write_them(trust: Any) -> None:
    root, key = Ed25519PrivateKey.generate(), Ed25519PrivateKey.generate()
    data = sign_key_list(root, 7, [SigningKey(raw_public(key), KeyStatus.REVOKED, "lost")])
    number, keys = trust.read_key_list(data, raw_public(root))
    assert (number, [status for _, status in keys.values()]) == (7, ["revoked"])
    for spoiled in (data[:-1], data + b"x", data[:-1] + bytes([data[-1] ^ 1]), b"", b"\xff"):
        with pytest.raises(trust.Refused):
            trust.read_key_list(spoiled, raw_public(root))
