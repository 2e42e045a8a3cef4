"""A service that serves CoAP, in the loop of the service itself, and the field that meters stand in."""

import asyncio
from collections.abc import Iterator
from itertools import count
from typing import Any

import pytest

from mellow_herald.client import Herald
from mellow_herald.service.calls.intake import Intake
from mellow_herald.service.coap import conversation, link
from mellow_herald.service.coap.bridge import Bridge
from mellow_herald.service.coap_process import keep_speaking
from mellow_herald.service.context import Context
from mellow_herald.service.tasks import end
from tests.harness.database import Databases
from tests.harness.device import PuppetDevice
from tests.harness.meter import Field
from tests.harness.patience import until
from tests.harness.processes import free_port
from tests.harness.service import RunningService

NUMBERS = count(1)


class CoapService:
    """``running`` with CoAP beside it, as its process for that would have it: an intake of its own."""

    def __init__(self, running: RunningService) -> None:
        self.running = running
        self.tasks: list[asyncio.Task[None]] = []
        self.bridge: Bridge | None = None

    @property
    def url(self) -> str:
        return f"coap://127.0.0.1:{self.running.settings.coap_port}"

    @property
    def address(self) -> tuple[str, int]:
        assert self.running.settings.coap_port is not None
        return "127.0.0.1", self.running.settings.coap_port

    @property
    def herald(self) -> Herald:
        return self.running.herald

    def enrol(self, serial: str) -> dict[str, Any]:
        """The first call of a device that speaks CoAP, by HTTP: its secret."""
        answer = PuppetDevice(self.running.url, serial).enrol(self.running.code(), coap=True)
        answer.raise_for_status()
        oscore: dict[str, Any] = answer.json()["oscore"]
        return oscore

    def get(self, path: str) -> str:
        """What an engineer is shown there."""
        with self.running.http(self.running.token) as http:
            return http.get(path).raise_for_status().text

    def start(self) -> None:
        """Begins to serve CoAP."""

        async def begin() -> None:
            context: Context = self.running.context
            intake = Intake(context.through(context.pools.devices))
            work = [intake.run(), keep_speaking(context.through(context.pools.work), intake, self._note)]
            self.tasks = [asyncio.create_task(one) for one in work]

        self.running.call(begin())
        until(lambda: self.bridge is not None and self.bridge.serves)

    def _note(self, bridge: Bridge) -> None:
        self.bridge = bridge

    def stop(self) -> None:
        """Ends that, as if its process were killed: nothing is said to anybody."""

        async def ended() -> None:
            await end(self.tasks)

        self.running.call(ended())
        self.bridge = None


@pytest.fixture(scope="module")
def coap(databases: Databases, tmp_path_factory: pytest.TempPathFactory) -> Iterator[CoapService]:
    """One for the tests of a file: each has meters of its own."""
    url = databases.fresh()
    folder = tmp_path_factory.mktemp("coap")
    running = RunningService(url, folder, coap_port=free_port(), coap_open=True).start().prepare()
    for version in ("2.4.0", "2.5.0"):
        running.publish(version).raise_for_status()
    running.settings.coap_packages = running.url
    served = CoapService(running)
    with pytest.MonkeyPatch.context() as patch:
        # As where time runs faster: on a slow machine a word may be late, and is to cost a few seconds and no minutes.
        patch.setattr(link, "ANSWER_S", link.LEAST_ANSWER_S)
        patch.setattr(conversation, "AGAIN_S", 3)
        served.start()
        yield served
        served.stop()
    running.stop()
    databases.drop(url)


@pytest.fixture
def serial() -> str:
    """A meter of a test's own."""
    return f"TA-M{next(NUMBERS)}"


@pytest.fixture
def field() -> Iterator[Field]:
    made = Field()
    yield made
    made.end()
