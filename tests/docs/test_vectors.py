"""The test vectors are what their script makes, and every device that we have comes to their verdicts."""

import base64
import json
import random
from argparse import Namespace
from dataclasses import replace
from pathlib import Path
from types import ModuleType
from typing import Any

import pytest

from mellow_herald.core.nameplate import find_nameplate
from mellow_herald.core.refusal import Refused
from mellow_herald.sim.bootloader import Cause
from mellow_herald.sim.fetching import Fetching
from mellow_herald.sim.hardware import Hardware, Layout, PartLayout, make_in_memory
from mellow_herald.sim.making import Making
from mellow_herald.sim.scenario import DeviceSpec
from mellow_herald.sim.service_time import ServiceTime
from mellow_herald.sim.talk import Talk
from mellow_herald.sim.update import GivenUp, choose
from scripts import vectors
from tests.harness.example import load_example
from tests.harness.firmware import make_bytes

FOLDER = vectors.FOLDER
TOLD = json.loads((FOLDER / "cases.json").read_text())
ROOT = bytes.fromhex(TOLD["root"])


def cases(kind: str) -> list[Any]:
    return [pytest.param(case, id=case["name"]) for case in TOLD["cases"] if case["kind"] == kind]


def content(name: str) -> bytes:
    return (FOLDER / name).read_bytes()


def device_of(case: dict[str, Any]) -> dict[str, Any]:
    return {**TOLD["device"], **case.get("device", {})}


def test_they_are_what_the_script_makes() -> None:
    assert list(vectors.differences()) == []


def test_the_worked_example_of_the_handbook_is_the_good_envelope() -> None:
    page = (FOLDER.parent / "release-file.md").read_text()
    block = page.partition("<!-- example -->")[2].partition("```\n")[2].partition("```")[0]
    assert bytes.fromhex("".join(line.partition("|")[0] for line in block.splitlines())) == content(
        "envelopes/good.suit"
    )


# The simulated device -----------------------------------------------------------------------------------------------


class Uplink:
    """Answers with what a case has."""

    def __init__(self, case: dict[str, Any]) -> None:
        self._case = case

    async def manifest(self, digest: str) -> bytes:
        return content(self._case["file"])

    async def keys(self) -> bytes:
        return content(self._case["keys"] if self._case["kind"] == "envelope" else self._case["file"])


def fetching(case: dict[str, Any], held: bytes) -> tuple[Fetching, Hardware]:
    told = device_of(case)
    part = PartLayout(told["slot_size"])
    hardware = make_in_memory(Layout({"app": part}), {"app": make_bytes("2.4.0", floor=told["floor"])})
    hardware.record = replace(hardware.record, floor=told["floor"])
    hardware.keep(key_list=held)
    making = Making(ROOT, held, told["domain"], "code", 60)
    spec = DeviceSpec.model_validate(
        {"serial": "TA-1", "board": told["board"], "line": told["line"], "hw_rev": told["hw_rev"], "images": {}}
    )
    time, rng = ServiceTime(), random.Random(1)
    uplink: Any = Uplink(case)
    talk = Talk(hardware, uplink, time, rng, lambda line: None)
    return Fetching(spec, hardware, uplink, time, making, talk, rng, lambda: True), hardware


@pytest.mark.parametrize("case", cases("key-list"))
async def test_the_simulated_device_takes_key_lists_as_told(case: dict[str, Any]) -> None:
    held = content(case["held"] or case["file"])
    keys = await fetching(case, held)[0].newest_keys()
    taken = keys.number == 3 or case["held"] is None
    assert ("take" if taken else "keep") == case["verdict"], case["why"]


@pytest.mark.parametrize("case", cases("envelope"))
async def test_the_simulated_device_takes_manifests_as_told(case: dict[str, Any]) -> None:
    one, hardware = fetching(case, content(case["keys"]))
    try:
        verified = await one.manifest(case["asked"], device_of(case)["running"])
        (chosen,) = choose(hardware, verified.manifest, hardware.start(Cause.POWER))
    except GivenUp as given_up:
        assert given_up.reason == case["verdict"], case["why"]
        return
    assert case["verdict"] == "good", case["why"]
    found = {"component": chosen.name, "digest": chosen.digest, "size": chosen.size, "uri": chosen.uri}
    assert found == case["image"]


@pytest.mark.parametrize("case", cases("nameplate"))
def test_nameplates_are_read_as_told(case: dict[str, Any]) -> None:
    try:
        plate = find_nameplate(content(case["file"]))
    except Refused:
        assert case["verdict"] == "refused", case["why"]
        return
    if plate is None:
        assert case["verdict"] == "none", case["why"]
        return
    assert case["verdict"] == "good", case["why"]
    found = {name: getattr(plate, name) for name in case["says"] if name != "needs"}
    assert found | ({"needs": dict(plate.needs)} if plate.needs else {}) == case["says"]


# The device of the standard library ---------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def example() -> ModuleType:
    return load_example()


@pytest.mark.parametrize("case", cases("key-list"))
def test_the_example_device_takes_key_lists_as_told(case: dict[str, Any], example: ModuleType, tmp_path: Path) -> None:
    device = made(example, case, tmp_path)
    held = case["held"] and content(case["held"])
    device.state["key_list"] = held and base64.b64encode(held).decode()
    device.call = lambda *_: (200, {}, content(case["file"]))
    before = device.state["key_list"]
    device.keys()
    assert ("take" if device.state["key_list"] != before else "keep") == case["verdict"], case["why"]


@pytest.mark.parametrize("case", cases("envelope"))
def test_the_example_device_takes_manifests_as_told(case: dict[str, Any], example: ModuleType, tmp_path: Path) -> None:
    if "slots" in case.get("features", []):
        pytest.skip("its slots are alike")
    device = made(example, case, tmp_path)
    keys = example.read_key_list(content(case["keys"]), ROOT)[1]
    try:
        wanted = example.read_manifest(content(case["file"]), case["asked"], keys)
        device.check_fit(wanted)
    except example.Refused as refused:
        assert refused.args[0] == case["verdict"], case["why"]
        return
    assert case["verdict"] == "good", case["why"]
    assert {name: wanted[name] for name in ("digest", "size", "uri")} == {
        name: case["image"][name] for name in ("digest", "size", "uri")
    }


def made(example: ModuleType, case: dict[str, Any], folder: Path) -> Any:
    told = device_of(case)
    (folder / "root.pem").write_bytes(content("root.pub.pem"))
    (folder / "image.bin").write_bytes(b"first")
    options = {
        "folder": str(folder / "flash"),
        "root": str(folder / "root.pem"),
        "image": str(folder / "image.bin"),
        "version": told["running"]["app"],
        "serial": "TA-1",
        **{name: told[name] for name in ("domain", "board", "line", "hw_rev", "floor", "slot_size")},
    }
    device = example.Device(Namespace(**options))
    device.state["floor"], device.slot = told["floor"], "a"
    return device
