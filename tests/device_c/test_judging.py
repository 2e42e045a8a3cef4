"""The device in C: its size, the test vectors, and what comes from outside and is not as it should be."""

import json
import re
import subprocess
from pathlib import Path
from typing import Any

import pytest

from scripts.vectors import FOLDER
from tests.device_c.made import make
from tests.harness.patience import PATIENCE_S

TOLD = json.loads((FOLDER / "cases.json").read_text())
FUZZ_S = 10


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("device-c")
    make(f"BUILD={folder}", f"{folder}/judge", f"{folder}/fuzz")
    return folder


def judged(built: Path, case: dict[str, Any], *before: str) -> str:
    """What the device says of a case."""
    words = ["keys" if case["kind"] == "key-list" else "envelope", TOLD["root"], FOLDER / case["file"]]
    if case["kind"] == "envelope":
        device = {**TOLD["device"], **case.get("device", {})}
        words += [case["asked"], FOLDER / case["keys"], device["standby_slot"], device["floor"]]
        words += [device["running"]["app"], device["hw_rev"], device["slot_size"]]
    asked = [*before, str(built / "judge"), *map(str, words)]
    done = subprocess.run(asked, capture_output=True, text=True, timeout=PATIENCE_S, check=False)
    assert done.returncode == 0, done.stderr
    return done.stdout.strip()


def test_it_is_as_small_as_it_says(tmp_path: Path) -> None:
    said = make(f"BUILD={tmp_path}", "size")
    assert re.search(r"code +\d+ of 40960", said) and re.search(r"memory +\d+ of 12288", said)


@pytest.mark.parametrize("kind", ["key-list", "envelope"])
def test_it_comes_to_the_verdicts_of_the_test_vectors(built: Path, kind: str) -> None:
    wrong = {}
    for case in TOLD["cases"]:
        if case["kind"] != kind:
            continue
        said, wanted = judged(built, case), case["verdict"]
        if kind == "key-list":
            held = int(judged(built, {**case, "file": case["held"]})) if case["held"] else 0
            said = "take" if int(said) > held else "keep"
        elif wanted == "good":
            wanted = f"good {case['image']['digest']} {case['image']['size']} 2.5.0"
        if said != wanted:
            wrong[case["name"]] = (said, wanted)
    assert wrong == {}


def test_nothing_is_read_that_was_not_given(built: Path) -> None:
    valgrind = ("valgrind", "-q", "--error-exitcode=9", "--leak-check=full")
    names = {"good", "each-slot", "too-deep", "too-long", "cut", "signed-too-deep", "another-root", "unsigned"}
    for case in TOLD["cases"]:
        if case["name"] in names and case["kind"] != "nameplate":
            judged(built, case, *valgrind)


def test_a_fuzzer_finds_nothing(built: Path, tmp_path: Path) -> None:
    seeds = []
    for case in TOLD["cases"]:
        if case["kind"] == "nameplate":
            continue
        data = (FOLDER / case["file"]).read_bytes()
        if case["kind"] == "envelope":
            data = data.replace(bytes.fromhex(case["asked"]), b"\x5a" * 32)
        # In the fuzzer every hash is this one.
        data = re.sub(rb"\x04\x48.{8}", b"\x04\x48" + b"\x5a" * 8, data, flags=re.DOTALL)
        seeds.append(tmp_path / f"{case['kind'][0]}-{case['name']}")
        seeds[-1].write_bytes(data)
    order = {"order": "switch", "attempt": 41, "try": 1, "manifest": "ab" * 32, "to": {"app": "cd" * 32}}
    order |= {"clearance": {"number": 9, "seconds": 600}, "trial_s": 30, "next_checkin_s": 15}
    (tmp_path / "j-order").write_text(json.dumps(order))
    first = tmp_path / "k-second"
    asked = [built / "fuzz", str(FUZZ_S), "1", first, *seeds, tmp_path / "j-order"]
    done = subprocess.run(asked, capture_output=True, text=True, timeout=PATIENCE_S, check=False)
    assert done.returncode == 0, done.stderr
    tried, kept = map(int, re.findall(r"(\d+) (?:tried|kept)", done.stdout))
    assert tried > 1000 and kept > 0
