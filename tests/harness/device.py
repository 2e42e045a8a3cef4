"""A device on puppet strings: every call of the device protocol, said exactly as a test wants it."""

from typing import Any

import httpx

from mellow_herald.core.digest import sha256_hex
from tests.harness.firmware import BOARD, LINE, make_bytes
from tests.harness.patience import PATIENCE_S


class PuppetDevice:
    """Speaks the protocol; keeps count of boots and seq."""

    def __init__(self, url: str, serial: str, *, version: str = "2.4.0", hw_rev: int = 1) -> None:
        # To read the certificates that nobody asks for on loopback takes longer than all that a test does with it.
        self._http = httpx.Client(base_url=f"{url}/device/v1", timeout=PATIENCE_S, trust_env=False, verify=False)
        self.serial, self.hw_rev, self.version = serial, hw_rev, version
        self.digest = sha256_hex(make_bytes(version))
        self.standby: dict[str, Any] = {}
        self.updater, self.trial = 2, False
        self.token = ""
        self.boots, self.seq = 1, 0
        self.order: dict[str, Any] = {}

    def move_to(self, url: str) -> None:
        """Its service is found somewhere else from now on."""
        self._http.base_url = f"{url}/device/v1"

    def enrol(self, code: str, nonce: str | None = None, **more: Any) -> httpx.Response:
        """The first call; keeps the token if it is given one."""
        said = {
            "serial": self.serial,
            "board": BOARD,
            "line": LINE,
            "hw_rev": self.hw_rev,
            "code": code,
            "nonce": nonce or f"nonce-of-{self.serial}-0000",
            **more,
        }
        response = self._http.post("/enrolments", json=said)
        if response.is_success:
            self.token = response.json()["token"]
        return response

    def checkin(self, *, wait: int = 0, **more: Any) -> httpx.Response:
        """A check-in, held open up to ``wait`` seconds; keeps the order that came."""
        self.seq += 1
        running = {"app": {"version": self.version, "digest": self.digest, "slot": "a", "floor": 4}}
        said = {
            "boots": self.boots,
            "seq": self.seq,
            "ready": True,
            "running": running,
            "standby": self.standby,
            "condition": {"battery": 80},
            "updater": self.updater,
            "trial": self.trial,
            **more,
        }
        prefer = {"prefer": f"wait={wait}"} if wait else {}
        timeout = httpx.Timeout(PATIENCE_S + wait)
        return self._keep(self._http.post("/checkins", json=said, headers={**self.headers, **prefer}, timeout=timeout))

    def report(self, state: str, **more: Any) -> httpx.Response:
        """One report about the attempt of the last order."""
        self.seq += 1
        return self.send([self.worded(state, **more)])

    def worded(self, state: str, **more: Any) -> dict[str, Any]:
        """A report's body."""
        attempt, number = self.order.get("attempt"), self.order.get("try", 1)
        if state == "confirmed":
            self.trial = False
            more = {"digests": {"app": self.digest}, **more} if self.updater >= 2 else more
        return {"boots": self.boots, "seq": self.seq, "attempt": attempt, "try": number, "state": state, **more}

    def send(self, reports: list[dict[str, Any]]) -> httpx.Response:
        """Sends reports as they are."""
        response = self._http.post("/reports", json={"reports": reports}, headers=self.headers)
        if response.status_code == 200 and response.json().get("attempt"):
            self.order = response.json()
        return response

    def get(self, path: str, **headers: str) -> httpx.Response:
        """A GET with the device's token."""
        return self._http.get(path, headers={**self.headers, **headers})

    def post(self, path: str, body: bytes) -> httpx.Response:
        """A POST of any bytes."""
        return self._http.post(path, content=body, headers={**self.headers, "content-type": "application/json"})

    def put(self, path: str, body: bytes, headers: dict[str, str]) -> httpx.Response:
        """A PUT of any bytes, with just these headers."""
        return self._http.put(path, content=body, headers=headers)

    @property
    def headers(self) -> dict[str, str]:
        """The device's token as a header."""
        return {"authorization": f"Bearer {self.token}"} if self.token else {}

    def stage(self, version: str = "2.5.0", **plate: Any) -> None:
        """Says that it downloaded and staged; from then on its check-ins show the standby slot."""
        self.report("downloading", step="fetch", percent=10)
        data = make_bytes(version, **plate)
        self.standby = {"app": {"version": version, "digest": sha256_hex(data), "slot": "b", "floor": 4}}
        self.report("staged")

    def switch(self) -> None:
        """Boots what is staged, on trial until it confirms."""
        new = self.standby["app"]
        self.standby = {"app": {"version": self.version, "digest": self.digest, "slot": "a", "floor": 4}}
        self.version, self.digest = new["version"], new["digest"]
        self.boots += 1
        self.seq = 0
        self.trial = True

    def _keep(self, response: httpx.Response) -> httpx.Response:
        self.order = response.json() if response.status_code == 200 else {}
        return response
