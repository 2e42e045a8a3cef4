"""Bytes of any kind where bytes come in: device calls, firmware and release files, manifests, selectors, plans, boards.

Each is cut, flipped, doubled and grown from what is well; nothing but a clear refusal may come of it, and nothing may
change.
"""

import json
import random
import tomllib
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import bincopy
import httpx
from pydantic import ValidationError

from mellow_herald.client.documents import read_document
from mellow_herald.client.plan_file import check_plan
from mellow_herald.core.cbor import decode as decode_cbor
from mellow_herald.core.envelope import EnvelopeReader
from mellow_herald.core.firmware import APP
from mellow_herald.core.refusal import Refused
from mellow_herald.core.selector import parse_selector
from mellow_herald.wire.board import BoardIn
from tests.harness.device import PuppetDevice
from tests.harness.firmware import BOARD, LINE, Publisher, load_image, make_bytes
from tests.harness.service import RunningService

NUMBERS = (b"NaN", b"1e999", b"-1", b"9" * 400)
NASTY = (*NUMBERS, b"\x00", b"\xff\xfe", b'"', b"{", b"[" * 2000, "é\u202e".encode(), b"\r\n\r\n")


def spoilt(rng: random.Random, well: bytes) -> bytes:
    """What is well, with a few things done to it."""
    data = bytearray(well)
    for _ in range(rng.randint(1, 4)):
        at = rng.randrange(len(data) + 1)
        match rng.randrange(6):
            case 0:
                del data[at:]
            case 1 if data:
                data[at - 1] ^= 1 << rng.randrange(8)
            case 2:
                data[at:at] = rng.choice(NASTY)
            case 3:
                data[at:at] = data[at : at + rng.randint(1, 200)]
            case 4:
                del data[at : at + rng.randint(1, 50)]
            case _:
                data[at : at + rng.randint(0, 8)] = rng.randbytes(rng.randint(0, 8))
    return bytes(data)


@dataclass
class Found:
    """What came of it: how often each answer came, and what should not have."""

    answers: Counter[str] = field(default_factory=Counter)
    wrong: list[str] = field(default_factory=list)

    def note(self, what: str, answer: httpx.Response, sent: bytes) -> None:
        """One answer of the service."""
        self.answers[f"{what} {answer.status_code}"] += 1
        refused = answer.status_code >= 400
        if answer.status_code >= 500 or (refused and not answer.json().get("detail")):
            self.wrong.append(f"{what}: {answer.status_code} {answer.text[:200]} for {sent[:300]!r}")

    def try_out(self, what: str, deed: Callable[[], Any], sent: bytes) -> None:
        """Something of ours that reads bytes: it may refuse them, and no more."""
        try:
            deed()
        except (Refused, ValidationError) as error:
            self.answers[f"{what} refused"] += 1
            if not str(error).strip():
                self.wrong.append(f"{what}: refused without a word, {sent[:300]!r}")
        except Exception as error:
            self.wrong.append(f"{what}: {type(error).__name__}: {error} for {sent[:300]!r}")
        else:
            self.answers[f"{what} taken"] += 1


def calls_of(service: RunningService, rng: random.Random) -> Iterator[tuple[str, str, dict[str, str], bytes]]:
    """Calls of devices and people as they should be: method, path, headers, body."""
    device = PuppetDevice(service.url, f"TA-{rng.randrange(10**9)}")
    device.enrol(service.code()).raise_for_status()
    digest = device.digest
    checkin = {
        "boots": 1,
        "seq": 5,
        "ready": True,
        "running": {APP: {"version": "2.4.0", "digest": digest, "slot": "a", "floor": 4}},
        "condition": {"battery": 80, "link": "wifi"},
        "readings": {"t": 21.5},
        "updater": 2,
    }
    report = {"reports": [{"boots": 1, "seq": 6, "attempt": 1, "state": "downloading", "step": "fetch", "percent": 4}]}
    lines = {"lines": [{"boots": 1, "number": 1, "at": "2026-11-29T10:00:00Z", "level": "info", "text": "on"}]}
    enrolment = {"serial": "TA-x", "board": BOARD, "line": LINE, "hw_rev": 1, "code": "x" * 20, "nonce": "n" * 20}
    as_device = {"authorization": f"Bearer {device.token}", "content-type": "application/json"}
    for path, body in (("checkins", checkin), ("reports", report), ("logs", lines), ("enrolments", enrolment)):
        yield "POST", f"/device/v1/{path}", as_device, json.dumps(body).encode()
    as_person = {"authorization": f"Bearer {service.token}"}
    envelope = {**as_person, "content-type": "application/suit-envelope+cose"}
    yield "POST", "/api/v1/releases", envelope, service.publisher.release_file("2.9.0")
    plan = service.plan().model_dump_json().encode()
    yield "POST", "/api/v1/previews", {**as_person, "content-type": "application/json"}, plan
    sheet = b"serial,board,line,hw_rev,label.site\nTA-1,comb-s1,hive-scale,2,fernhollow\n"
    yield "POST", "/api/v1/inventory?check=true", {**as_person, "content-type": "text/csv"}, sheet


def send(service: RunningService, rounds: int, seed: int) -> Found:
    """So many spoilt ones of each call; the token and the path are spoilt now and then, too."""
    rng, found = random.Random(seed), Found()
    service.publish("2.4.0")
    service.publish("2.5.0")
    before = {release.version for release in service.herald.releases.list().items}
    with httpx.Client(base_url=service.url, timeout=60, trust_env=False, verify=False) as http:
        for method, path, headers, well in calls_of(service, rng):
            for _ in range(rounds):
                sent = spoilt(rng, well)
                said = dict(headers)
                if rng.random() < 0.05:
                    said["authorization"] = f"Bearer {spoilt(rng, headers['authorization'].encode()).hex()}"
                found.note(path, http.request(method, path, content=sent, headers=said), sent)
    after = {release.version for release in service.herald.releases.list().items}
    if after - before - {"2.9.0"}:
        found.wrong.append(f"releases came into being: {after - before}")
    if not service.herald.ready().ok:
        found.wrong.append("the service is not ready any more")
    return found


SELECTOR = 'board = comb-s1 and (hw_rev >= 2 or not has bench) and site in (fernhollow, "quill mere") and seen < 2d'
PLAN = """
name = "to all"
release = "comb-s1/hive-scale/2.5.0"
target = "board = comb-s1"
[numbers]
retries = 2
trial_for = "60s"
[[rings]]
name = "bench"
where = "has bench"
soak = "1h"
[[rings]]
name = "all"
enough = 0.95
[calendar]
zone = "Europe/Dublin"
windows = [{ begin = "02:00", end = "05:00", days = ["sat"] }]
"""


BOARD_FILE = (Path(__file__).parents[2] / "examples" / "boards" / "comb-s1.toml").read_bytes()


def read_envelope(data: bytes) -> None:
    """A release file as the service takes it in, without keys."""
    reader = EnvelopeReader()
    for at in range(0, len(data), 1000):
        list(reader.feed(data[at : at + 1000]))
    reader.close()


def read(folder: Path, rounds: int, seed: int) -> Found:
    """What is read on an engineer's machine: images, manifests, selectors, plans."""
    rng, found, file = random.Random(seed), Found(), folder / "spoilt"
    image = make_bytes("2.5.0")
    binary = bincopy.BinFile()
    binary.add_binary(image, address=0x1000)
    builds = {"image": image, "ihex": binary.as_ihex().encode(), "srec": binary.as_srec().encode()}
    envelope = Publisher().release_file("2.5.0")
    board = folder / "board.toml"
    for _ in range(rounds):
        sent = spoilt(rng, SELECTOR.encode())
        text = sent.decode("utf-8", "replace")
        found.try_out("selector", lambda text=text: parse_selector(text), sent)  # type: ignore[misc]
        file = folder / ("spoilt.toml" if rng.random() < 0.7 else "spoilt.json")
        plan = PLAN.encode() if file.suffix == ".toml" else json.dumps(tomllib.loads(PLAN)).encode()
        sent = spoilt(rng, plan)
        file.write_bytes(sent)
        found.try_out("plan", lambda file=file: check_plan(file), sent)  # type: ignore[misc]
        sent = spoilt(rng, BOARD_FILE)
        board.write_bytes(sent)
        found.try_out("board", lambda: read_document(board, BoardIn), sent)
        for kind, built in builds.items():
            sent = spoilt(rng, built)
            found.try_out(kind, lambda sent=sent: load_image(sent), sent)  # type: ignore[misc]
        sent = spoilt(rng, envelope)
        found.try_out("envelope", lambda sent=sent: read_envelope(sent), sent)  # type: ignore[misc]
        sent = spoilt(rng, bytes.fromhex("a3010203a1182a8244deadbeef6568656c6c6f20f5"))
        found.try_out("cbor", lambda sent=sent: decode_cbor(sent), sent)  # type: ignore[misc]
    return found
