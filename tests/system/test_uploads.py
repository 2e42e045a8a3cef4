"""Releases on their way in, with real processes: large ones, cut ones, and a service that is killed half-way."""

import json
import os
import random
import signal
import subprocess
import tempfile
import threading
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from bench.uploads import peak_of
from mellow_herald.client import Herald, ProblemError, UnreachableError, calls
from mellow_herald.client.sealing import SealedRelease
from mellow_herald.core.key_status import KeyStatus
from mellow_herald.core.keys import SigningKey, private_to_pem, raw_public, sign_key_list
from mellow_herald.core.verdict import Allowed
from mellow_herald.wire.board import BoardIn
from tests.harness.build import build_firmware
from tests.harness.flight import HERALD, Flight
from tests.harness.patience import PATIENCE_S, until

pytestmark = pytest.mark.system
ROOT, KEY = Ed25519PrivateKey.generate(), Ed25519PrivateKey.generate()
LARGE = 96 * 1024 * 1024
# As large as it takes to be cut, killed or overtaken on its way.
LONG = 24 * 1024 * 1024
STATED: dict[str, Any] = {"line": "hive-scale", "board": "comb-s1", "component": "assets", "floor": 4}
BOARD = {
    "name": "comb-s1",
    "vendor_domain": "thistledown.example",
    "lines": ["hive-scale"],
    "hw_revs": [1, 2, 3],
    "slots": [
        {"name": "a", "size": 524288, "address": 0x0802_0000},
        {"name": "b", "size": 524288, "address": 0x080A_0000},
        {"name": "files", "size": 2**30, "component": "assets"},
    ],
}


@pytest.fixture
def flight(folder: Path, database_url: str) -> Iterator[Flight]:
    made = Flight(folder, database_url=database_url)
    yield made
    made.stop()


@pytest.fixture
def herald(flight: Flight) -> Iterator[Herald]:
    with prepared(flight) as signed_in:
        yield signed_in


def prepared(flight: Flight) -> Herald:
    """A service with a board and a key list, and who is signed in at it."""
    flight.serve()
    herald = flight.signed_in()
    keys = [SigningKey(raw_public(KEY), KeyStatus.ACTIVE, "bench")]
    herald.keys.publish(raw_public(ROOT), sign_key_list(ROOT, 1, keys))
    herald.boards.add(BoardIn.model_validate(BOARD))
    return herald


def large_file(folder: Path, size: int) -> Path:
    rng, path = random.Random(size), folder / f"sounds-{size}.img"
    block = rng.randbytes(1 << 20)
    with path.open("wb") as file:
        for number in range(size >> 20):
            file.write(number.to_bytes(8, "big") + block[8:])
    return path


def seal_long(herald: Herald, folder: Path) -> SealedRelease:
    stated = {**STATED, "version": "2.5.1"}
    return herald.releases.seal(large_file(folder, LONG), key=KEY, version="2.5.1", stated=stated)


def kept(flight: Flight) -> list[Path]:
    """Image files that count."""
    return list((flight.folder / "data" / "images").glob("??/*"))


def test_a_service_killed_in_the_middle_of_an_upload_has_no_record_and_no_bytes_that_count(
    flight: Flight, herald: Herald
) -> None:
    sealed = seal_long(herald, flight.folder)
    service = flight.processes[0]

    def until_killed() -> Iterator[bytes]:
        sent = 0
        for portion in sealed.portions():
            yield portion
            sent += len(portion)
            if sent > sealed.length // 2 and service.poll() is None:
                service.send_signal(signal.SIGKILL)
                service.wait()

    with pytest.raises(UnreachableError):
        herald.upload(calls.publish_release("it", sealed.length), until_killed())
    assert kept(flight) == []
    flight.serve()
    assert herald.releases.list().items == []
    assert kept(flight) == []
    release = herald.releases.upload(sealed)
    assert release.version == "2.5.1" and [path.name for path in kept(flight)] == [release.components[0].digest]


def test_an_upload_cut_half_way_leaves_nothing_and_is_repeated(flight: Flight, herald: Herald) -> None:
    sealed = seal_long(herald, flight.folder)

    class CutError(Exception):
        pass

    def cut() -> Iterator[bytes]:
        for number, portion in enumerate(sealed.portions()):
            if number == 10:
                raise CutError
            yield portion

    with pytest.raises(CutError):
        herald.upload(calls.publish_release("it", sealed.length), cut())
    incoming = flight.folder / "data" / "images" / "incoming"
    until(lambda: not list(incoming.iterdir()))
    assert kept(flight) == [] and herald.releases.list().items == []
    assert herald.releases.upload(sealed).version == "2.5.1"


def test_two_uploads_of_the_same_bytes_at_the_same_moment_are_both_right(flight: Flight, herald: Herald) -> None:
    sealed = seal_long(herald, flight.folder)
    renamed = replace(sealed, manifest=replace(sealed.manifest, version="2.5.2"))
    outcomes: list[tuple[str, bool]] = []

    def send(release: SealedRelease) -> None:
        with Herald(flight.url, token=herald._http.headers["authorization"].removeprefix("Bearer ")) as other:
            # Whichever comes first: the lower version may well be the second.
            answer = other.releases.upload(release, allowed=Allowed(lower_version=True))
            outcomes.append((answer.version, answer.already_there))

    threads = [threading.Thread(target=send, args=(one,)) for one in (sealed, sealed, renamed)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(120)
    assert sorted(outcomes) in (
        [("2.5.1", False), ("2.5.1", True), ("2.5.2", False)],
        [("2.5.1", False), ("2.5.1", True), ("2.5.2", True)],
    )
    assert [path.name for path in kept(flight)] == [sealed.images[0].digest]
    assert kept(flight)[0].stat().st_size == LONG


def test_a_large_image_takes_no_memory_worth_speaking_of_at_either_end(flight: Flight, herald: Herald) -> None:
    key, image = flight.folder / "key.pem", large_file(flight.folder, LARGE)
    key.write_bytes(private_to_pem(KEY))
    small = large_file(flight.folder, 1 << 20)
    token = herald._http.headers["authorization"].removeprefix("Bearer ")
    environment = {**os.environ, "HERALD_URL": flight.url, "HERALD_TOKEN": token}

    def publish(path: Path, version: str) -> int:
        """Publishes by the command; the peak memory of its process, bytes."""
        stated = ["--line", "hive-scale", "--board", "comb-s1", "--component", "assets", "--floor", "4"]
        command = [*HERALD, "release", "publish", str(path), "--key", str(key), "--version", version, *stated]
        process = subprocess.Popen([*command, "--release-version", version], env=environment, stdout=subprocess.DEVNULL)
        peak = 0
        while process.poll() is None:
            try:
                peak = max(peak, peak_of(process.pid))
            except (OSError, RuntimeError):  # it has just ended
                break
        assert process.wait(PATIENCE_S) == 0
        return peak

    small_peak, service_before = publish(small, "2.5.0"), peak_of(flight.processes[0].pid)
    grown = publish(image, "2.5.1") - small_peak
    assert grown < 32 * 2**20
    assert peak_of(flight.processes[0].pid) - service_before < 32 * 2**20
    assert herald.releases.find("comb-s1/hive-scale/2.5.1").size == LARGE


def test_a_refused_large_release_is_refused_before_its_images_are_sent(flight: Flight, herald: Herald) -> None:
    sealed = seal_long(herald, flight.folder)
    stranger = replace(sealed, key=Ed25519PrivateKey.generate())
    sent: list[int] = []
    with pytest.raises(ProblemError, match="no key with fingerprint"):
        herald.releases.upload(stranger, progress=sent.append)
    assert sent == []
    assert not herald.releases.upload(sealed).already_there
    assert herald.releases.upload(sealed, progress=sent.append).already_there and sent == []


@pytest.mark.parametrize("kind", ["elf", "hex", "srec", "bin"])
def test_the_example_firmware_publishes_from_every_format(
    herald_of_module: tuple[Flight, Herald], tmp_path: Path, kind: str
) -> None:
    flight, herald = herald_of_module
    version = {"elf": "2.6.0", "hex": "2.7.0", "srec": "2.8.0", "bin": "2.9.0"}[kind]
    built = build_firmware(tmp_path, version, f"ta-{kind}")
    key = tmp_path / "key.pem"
    key.write_bytes(private_to_pem(KEY))
    token = herald._http.headers["authorization"].removeprefix("Bearer ")
    command = [*HERALD, "release", "publish", str(built / f"hive-scale-a.{kind}"), "--key", str(key), "--json"]
    environment = {**os.environ, "HERALD_URL": flight.url, "HERALD_TOKEN": token}
    done = subprocess.run(command, env=environment, capture_output=True, text=True, timeout=PATIENCE_S)
    assert done.returncode == 0, done.stderr
    release = json.loads(done.stdout)
    (component,) = release["components"]
    assert (release["version"], component["build_id"], component["read"]) == (version, f"ta-{kind}", True)
    assert component["address"] == (None if kind == "bin" else 0x0802_0000)
    assert component["build_time"] == 1_795_000_000


@pytest.fixture(scope="module")
def herald_of_module() -> Iterator[tuple[Flight, Herald]]:
    with tempfile.TemporaryDirectory(prefix="herald-flight-") as name:
        Path(name).chmod(0o755)
        flight = Flight(Path(name))
        try:
            with prepared(flight) as herald:
                yield flight, herald
        finally:
            flight.stop()
