"""The radio network's HTTP interface (docs/radio-network.md), from the service's side."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from types import TracebackType
from typing import Any

import httpx

PREFIX = "/radio/v1"
ANSWER_S = 10.0
HELD_S = 20.0


class NetworkAwayError(Exception):
    """The network does not answer, or not as it should."""


class NetworkRefusedError(Exception):
    """The network will not do it: ``kind`` and words."""

    def __init__(self, kind: str, detail: str) -> None:
        super().__init__(detail)
        self.kind = kind


@dataclass(frozen=True, slots=True)
class Uplink:
    """What a device said, numbered within a run of the network."""

    number: int
    eui: str
    port: int
    payload: bytes
    at: datetime
    data_rate: int
    rssi: int


@dataclass(frozen=True, slots=True)
class Facts:
    """What a network is: its region, and the ``run`` that its numbers are of."""

    region: str
    run: str


class Network:
    """Calls to one network."""

    def __init__(self, url: str, token: str | None = None) -> None:
        headers = {} if token is None else {"authorization": f"Bearer {token}"}
        self._http = httpx.AsyncClient(base_url=url, headers=headers, timeout=ANSWER_S, trust_env=False)

    async def __aenter__(self) -> "Network":
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self._http.aclose()

    async def show(self) -> Facts:
        """What it is."""
        answer = await self._call("GET", "/network")
        return Facts(str(answer["region"]), str(answer["run"]))

    async def uplinks(self, run: str, after: int) -> tuple[str, Sequence[Uplink]]:
        """What was heard after an uplink, and of which run; waits a while until there is something."""
        asked = {"run": run, "after": str(after), "wait": f"{HELD_S:g}"}
        answer = await self._call("GET", "/uplinks", params=asked, timeout=HELD_S + ANSWER_S)
        return str(answer["run"]), [
            Uplink(
                int(one["number"]),
                str(one["eui"]),
                int(one["port"]),
                bytes.fromhex(one["payload"]),
                datetime.fromisoformat(one["at"]),
                int(one.get("data_rate") or 0),
                int(one.get("rssi") or 0),
            )
            for one in answer["uplinks"]
        ]

    async def tell(self, eui: str, port: int, payload: bytes) -> None:
        """Has a device told this after it next speaks, instead of what waits for it."""
        await self._call("PUT", f"/downlinks/{eui}", json={"port": port, "payload": payload.hex()})

    async def tell_nothing(self, eui: str) -> None:
        """Drops what waits for a device."""
        await self._call("DELETE", f"/downlinks/{eui}")

    async def send(self, frames: Sequence[bytes], frequency: int, data_rate: int) -> datetime:
        """Has frames sent to whoever listens, one after the other; returns when the last of them goes out."""
        body = {"payloads": [one.hex() for one in frames], "frequency": frequency, "data_rate": data_rate}
        answer = await self._call("POST", "/transmissions", json=body)
        return datetime.fromisoformat(answer["begins_at"])

    async def withdraw(self) -> int:
        """Drops all frames that have not gone out; returns how many."""
        return int((await self._call("DELETE", "/transmissions"))["withdrawn"])

    async def _call(self, method: str, path: str, **more: Any) -> Any:
        try:
            response = await self._http.request(method, PREFIX + path, **more)
            answer = response.json()
        except (httpx.HTTPError, ValueError) as error:
            raise NetworkAwayError(f"the radio network does not answer: {str(error) or type(error).__name__}") from None
        if response.status_code >= 500:
            raise NetworkAwayError(f"the radio network answered {response.status_code}")
        if response.status_code >= 400:
            raise NetworkRefusedError(str(answer.get("title", "refused")), str(answer.get("detail", "no reason given")))
        return answer
