"""The devices that we have go through the whole course, and one that is wrong on purpose is caught at each point."""

import json
import secrets
import threading
import time
import urllib.error
import urllib.request
from argparse import Namespace
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from types import ModuleType, SimpleNamespace
from typing import Any

import httpx
import pytest

from mellow_herald.bench_test.course import COURSE
from mellow_herald.bench_test.station import Finding, Outcome
from tests.bench_test.bench import CODE, Threaded, go
from tests.harness.example import load_example
from tests.harness.firmware import BOARD, DOMAIN, LINE, make_bytes


class OverError(BaseException):
    """The device is told to stop, in the middle of whatever it does."""


@pytest.fixture(scope="module")
def example() -> ModuleType:
    module = load_example()
    # Its sleep and its calls end when it is told to stop.
    module.time = SimpleNamespace(sleep=sleep, monotonic=time.monotonic)  # type: ignore[attr-defined]
    library = SimpleNamespace(Request=urllib.request.Request, urlopen=urlopen)
    module.urllib = SimpleNamespace(request=library, error=urllib.error)  # type: ignore[attr-defined]
    return module


class Workshop:
    """Makes devices of the example's class, or of one that differs from it, and does what the bench asks for."""

    def __init__(self, example: ModuleType, folder: Path, kind: type | None = None) -> None:
        self.example, self.folder, self.kind = example, folder, kind or example.Device
        (folder / "first.bin").write_bytes(make_bytes("2.4.0"))
        self._device: Threaded | None = None
        self._at: tuple[str, Path] = ("", folder)

    def start(self, url: str, root: Path) -> Callable[[], None]:
        self._at = url, root
        self._device = Threaded(self._live)
        return lambda: self._device and self._device.stop()

    def do(self, word: str) -> str:
        """The hand's words."""
        if word == "power-cut":
            assert self._device is not None
            self._device.stop()
            self._device = Threaded(self._live)
            return ""
        if word == "lamp":
            return (self.folder / "flash" / "lamp").read_text()
        noted = json.loads((self.folder / "flash" / "state.json").read_text())["slots"]
        return " ".join(one.name for one in (self.folder / "flash").glob("*.bin") if one.stem not in noted) or "none"

    def _live(self, over: threading.Event) -> None:
        url, root = self._at
        options = {
            **{"url": url, "code": CODE, "serial": "TA-bench", "board": BOARD, "line": LINE, "domain": DOMAIN},
            **{"hw_rev": 1, "root": str(root), "image": str(self.folder / "first.bin"), "version": "2.4.0", "floor": 4},
            **{"slot_size": 1 << 20, "piece": 7000, "wait": 2, "until": None, "folder": str(self.folder / "flash")},
        }
        OVER[threading.get_ident()] = over
        with suppress(OverError):
            self.kind(Namespace(**options)).run()


OVER: dict[int, threading.Event] = {}


def sleep(seconds: float) -> None:
    """A device's sleep, which ends when the device is told to stop."""
    if OVER[threading.get_ident()].wait(min(seconds, threading.TIMEOUT_MAX)):
        raise OverError


def urlopen(*asked: Any, **more: Any) -> Any:
    if OVER[threading.get_ident()].is_set():
        raise OverError
    return urllib.request.urlopen(*asked, **more)


def wrong(findings: dict[str, Finding]) -> dict[str, list[str]]:
    return {name: one.wrong for name, one in findings.items() if one.wrong}


def test_the_example_device_does_all_of_it_right(example: ModuleType, tmp_path: Path) -> None:
    workshop = Workshop(example, tmp_path)
    findings = go(tmp_path, workshop.start, do=workshop.do)
    assert wrong(findings) == {}
    assert {name: one.seen for name, one in findings.items() if one.outcome is not Outcome.RIGHT} == {}
    assert list(findings) == [one.name for one in COURSE]


def test_a_device_that_never_calls_is_not_waited_for_at_every_station(tmp_path: Path) -> None:
    findings = go(tmp_path, lambda url, root: lambda: None, patience_s=1)
    assert findings["enrol"].wrong == ["it enrols: not seen within 1 s"]
    others = [one for name, one in findings.items() if name != "enrol"]
    assert {(one.outcome, *one.seen) for one in others} == {(Outcome.NOT_TRIED, "it never checked in")}


def test_what_cannot_be_read_at_all_ends_no_run(tmp_path: Path) -> None:
    def start(url: str, root: Path) -> Callable[[], None]:
        def call() -> None:
            # On a slow machine the run is over before all of it is said.
            for body in (b"{", b"[]", b"\xff"):
                with suppress(OSError, httpx.HTTPError):
                    httpx.post(f"{url}/device/v1/enrolments", content=body)
            for odd in ("bytes=x-y", "bytes=5", "lines=1-2", "bytes=-"):
                with suppress(OSError, httpx.HTTPError):
                    httpx.get(f"{url}/device/v1/images/{'0' * 64}", headers={"range": odd})

        thread = threading.Thread(target=call)
        thread.start()
        return thread.join

    found = go(tmp_path, start, ["enrol"], patience_s=2)["enrol"]
    assert found.outcome is Outcome.WRONG
    assert any("POST enrolments" in one for one in found.wrong), found.wrong


# Wrong on purpose ---------------------------------------------------------------------------------------------------


def spoiled(example: ModuleType) -> dict[str, type]:
    """Devices that differ from the example in one thing, by what they do."""
    device: type = example.Device

    class Forgetful(device):  # type: ignore[misc,valid-type]
        def call(self, method: str, path: str, *more: Any, patient: bool = True) -> Any:
            if path != "enrolments":
                return super().call(method, path, *more, patient=patient)
            while True:
                said = {**more[0], "nonce": secrets.token_hex(16)}
                if (answer := super().call(method, path, said, patient=False))[0]:
                    return answer

    class Silent(device):  # type: ignore[misc,valid-type]
        def report(self, state: str, **more: Any) -> None:
            if state != "installing":
                super().report(state, **more)

    class Sure(device):  # type: ignore[misc,valid-type]
        def word(self, **more: Any) -> Any:
            return {**super().word(**more), "trial": False}

    class Restless(device):  # type: ignore[misc,valid-type]
        def confirm(self) -> None:
            if not self.state["work"].get("slot") or self.state["work"].get("told"):
                self.start()
            self.state["work"]["told"] = True
            super().confirm()

    class Greedy(device):  # type: ignore[misc,valid-type]
        def download(self, wanted: Any, standby: str) -> None:
            self.drop(standby)
            self.report("downloading", step="fetch", percent=0)
            (self.folder / f"{standby}.bin").write_bytes(self.call("GET", wanted["uri"])[2])

    class Careless(device):  # type: ignore[misc,valid-type]
        """Takes whatever bytes come."""

        def download(self, wanted: Any, standby: str) -> None:
            with suppress(example.Refused):
                super().download(wanted, standby)

    class Littering(device):  # type: ignore[misc,valid-type]
        """Leaves behind what it fetched into."""

        def download(self, wanted: Any, standby: str) -> None:
            super().download(wanted, standby)
            (self.folder / "staging.bin").write_bytes(b"left")

    class Trusting(device):  # type: ignore[misc,valid-type]
        def fetch(self, order: Any) -> None:
            self.state["work"] = {name: order[name] for name in ("attempt", "try", "trial_s")}
            self.call("GET", f"manifests/{order['manifest']}")
            self.report("staged")

    class Unsigned(device):  # type: ignore[misc,valid-type]
        """Never asks whether a key was revoked."""

        def switch(self) -> None:
            self.state["work"]["kid"] = None
            super().switch()

    class Impatient(device):  # type: ignore[misc,valid-type]
        """Goes by every clearance, and acts on it twice."""

        def check_in(self, wait: int = 0) -> Any:
            order, pause = super().check_in(wait)
            if order is not None and "clearance" in order:
                order["clearance"]["seconds"] = 600
            return order, pause

        def report(self, state: str, **more: Any) -> None:
            super().report(state, **more)
            if state == "installing":
                super().report(state, **more)

    class Hoarding(device):  # type: ignore[misc,valid-type]
        def drop(self, slot: str) -> None:
            pass

    class Lying(device):  # type: ignore[misc,valid-type]
        def switch(self) -> None:
            self.report("installing", clearance=self.state["work"]["clearance"])
            self.report("confirmed", digests={"app": self.state["slots"][self.state["work"]["slot"]]["digest"]})
            self.drop(self.state["work"]["slot"])

    class Timeless(device):  # type: ignore[misc,valid-type]
        def start(self) -> None:
            self.state["boots"] = 0
            super().start()

    class Hopeful(device):  # type: ignore[misc,valid-type]
        def prove(self, slot: str) -> None:
            self.state["active"], self.on_trial = slot, False
            self.save()

    class Deaf(device):  # type: ignore[misc,valid-type]
        def check_in(self, wait: int = 0) -> Any:
            super().check_in(wait)
            return None, 5.0

    class Pushing(device):  # type: ignore[misc,valid-type]
        def call(self, *asked: Any, patient: bool = True, **more: Any) -> Any:
            while (answer := super().call(*asked, **{**more, "patient": False}))[0] in (0, 429, 503):
                sleep(0.3)
            return answer

    return {
        "another nonce": Forgetful,
        "does not report installing": Silent,
        "does not say that it is on trial": Sure,
        "leaves its staging file": Littering,
        "restarts for what runs": Restless,
        "begins anew after a cut": Greedy,
        "mixes images": Careless,
        "trusts any manifest": Trusting,
        "trusts any bytes": Careless,
        "does not mind revocation": Unsigned,
        "uses what has run out": Impatient,
        "installs twice": Impatient,
        "keeps what it is to abandon": Hoarding,
        "says staged without the bytes": Careless,
        "says confirmed and goes on as before": Lying,
        "does not count its starts": Timeless,
        "vouches for anything": Hopeful,
        "does not hear what is said on a held line": Deaf,
        "comes again too soon": Pushing,
        "does not stay away": Pushing,
    }


WRONG = [
    ("another nonce", "enrol", "another nonce"),
    ("does not report installing", "update", "did not report installing"),
    ("does not say that it is on trial", "update", "did not say trial"),
    ("leaves its staging file", "update", "staging file is left"),
    ("restarts for what runs", "repeated", "restarted for an image"),
    ("begins anew after a cut", "cut", "began anew after the cut"),
    ("mixes images", "etag", "bytes are those of another"),
    ("trusts any manifest", "manifest", "whose manifest was altered"),
    ("trusts any bytes", "image", "of which one bit is another"),
    ("does not mind revocation", "revoked", "signer was revoked"),
    ("uses what has run out", "expired", "clearance that had run out"),
    ("installs twice", "late", "installing 2 times"),
    ("keeps what it is to abandon", "halt-before", "standby still has"),
    ("says staged without the bytes", "halt-fetching", "was not given"),
    ("says confirmed and goes on as before", "halt-after", "does not run the new image"),
    ("does not count its starts", "power", "boots 1, seq"),
    ("vouches for anything", "self-test", "confirmed firmware that fails"),
    ("does not hear what is said on a held line", "held", "downloading or staged: not seen"),
    ("comes again too soon", "overload", "it came again after"),
    ("does not stay away", "overload-long", "times within"),
]


def test_there_is_a_wrong_device_for_every_station() -> None:
    assert {station for _, station, _ in WRONG} == {one.name for one in COURSE}


@pytest.mark.parametrize(("what", "station", "words"), WRONG)
def test_who_does_it_wrong_is_caught(what: str, station: str, words: str, example: ModuleType, tmp_path: Path) -> None:
    workshop = Workshop(example, tmp_path, spoiled(example)[what])
    before = {"enrol": [], "repeated": ["enrol", "update"]}.get(station, ["enrol"])
    findings = go(tmp_path, workshop.start, [*before, station], workshop.do, patience_s=6)
    assert findings[station].outcome is Outcome.WRONG
    assert any(words in one for one in findings[station].wrong), findings[station].wrong
