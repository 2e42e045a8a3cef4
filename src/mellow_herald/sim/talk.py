"""A device's side of the conversation: numbered words, reports kept on the flash until they are sent, log lines."""

import asyncio
import random
from collections import deque
from collections.abc import Awaitable, Callable
from typing import Any, TypeVar

from mellow_herald.core.attempt import BAD, State
from mellow_herald.sim.hardware import Hardware
from mellow_herald.sim.service_time import ServiceTime
from mellow_herald.sim.uplink import Backoff, Calls, NoAnswerError, RefusedCallError
from mellow_herald.wire.device import CheckinIn, OrderOut

Answer = TypeVar("Answer")
RETAINED_LINES = 200
MOST_LINES = 200


class Talk:
    """Speaks for one device. ``tell`` gets every log line as it is made."""

    def __init__(
        self, hardware: Hardware, uplink: Calls, time: ServiceTime, rng: random.Random, tell: Callable[[str], None]
    ) -> None:
        self._hardware, self._uplink, self._time, self._tell = hardware, uplink, time, tell
        self._backoff = Backoff(rng)
        self._boots, self._seq, self._numbered = 0, 0, 0
        self._log_wanted = False
        # Parts are fetched side by side, and all report; what is kept is sent, and taken off, by one at a time.
        self._sending = asyncio.Lock()
        self._unsent_lines: deque[dict[str, Any]] = deque(maxlen=MOST_LINES)
        # Memory that a reset does not clear: what a device says of a crash when it is up again.
        self._retained: deque[str] = deque(maxlen=RETAINED_LINES)

    def restarted(self, boots: int) -> None:
        """A new boot: words are numbered from the start."""
        self._boots, self._seq, self._numbered = boots, 0, 0

    def next_seq(self) -> int:
        """The number of the next word of this boot."""
        self._seq += 1
        return self._seq

    def log(self, line: str) -> None:
        """A line of the device's log: to whoever listens on the bench, and to the service if it asked."""
        self._numbered += 1
        self._tell(line)
        self._retained.append(f"{self._time.text() or '-'} {line}")
        if self._log_wanted:
            entry = {"boots": self._boots, "number": self._numbered, "at": self._time.text(), "text": line}
            self._unsent_lines.append({name: value for name, value in entry.items() if value is not None})

    async def patiently(self, call: Callable[[], Awaitable[Answer]], pause_s: float) -> Answer:
        """Repeats a call until it is answered, with growing pauses; ``pause_s`` after it was refused."""
        while True:
            try:
                answer = await call()
            except NoAnswerError as error:
                await self._backoff.pause(error)
            except RefusedCallError as refused:
                self.log(f"refused: {refused.detail}")
                await self._time.sleep(pause_s)
            else:
                self._backoff.reset()
                return answer

    async def pause(self, error: NoAnswerError) -> None:
        """Waits before trying again what was not answered."""
        await self._backoff.pause(error)

    async def check_in(
        self, compose: Callable[[], CheckinIn], pause_s: float, wait_s: int = 0, *, tell_first: bool = True
    ) -> OrderOut:
        """Sends what is still to be told, then checks in; returns the order that stands. With ``tell_first`` none is
        returned while reports are kept: once they are known, it may no longer be the one that stands."""
        while True:
            await self.send_unsent()
            order = await self.patiently(lambda: self._uplink.checkin(compose(), wait_s), pause_s)
            self._heed(order)
            if order.order is None or not tell_first or not self._hardware.data.get("unsent"):
                return order
            await self._backoff.pause(NoAnswerError())

    async def report(self, state: State, **more: Any) -> None:
        """Reports about the attempt at hand. What cannot be sent now is kept, over restarts, too."""
        data = self._hardware.data
        work = data["work"]
        report = {
            "boots": self._boots,
            "seq": self.next_seq(),
            "attempt": work["attempt"],
            "try": work["try"],
            "state": state.value,
            "at": self._time.text(),
            **more,
        }
        if state in BAD:
            # Whoever looks into it finds the last lines, over restarts, without having asked for them.
            report["log"] = "\n".join(self._retained)
        unsent = [*data.get("unsent", []), {name: value for name, value in report.items() if value is not None}]
        self._hardware.keep(unsent=unsent)
        await self.send_unsent()

    async def send_unsent(self) -> None:
        """Sends reports and log lines that wait; what gets no answer goes on waiting."""
        async with self._sending:
            await self._send_reports()
            await self._send_lines()

    async def _send_reports(self) -> None:
        unsent = self._hardware.data.get("unsent", [])
        if not unsent:
            return
        try:
            self._heed(await self._uplink.report([dict(report) for report in unsent]))
        except NoAnswerError:
            return
        except RefusedCallError as refused:
            self.log(f"report refused: {refused.detail}")
        self._hardware.keep(unsent=self._hardware.data["unsent"][len(unsent) :])

    async def _send_lines(self) -> None:
        lines = list(self._unsent_lines)
        if not lines:
            return
        try:
            await self._uplink.logs(lines)
        except NoAnswerError:
            return
        except RefusedCallError as refused:
            self._tell(f"log lines refused: {refused.detail}")
        for _ in lines:
            self._unsent_lines.popleft()

    def _heed(self, order: OrderOut) -> None:
        self._log_wanted = order.log
        for one in order.refused:  # it would be refused again; the others were taken
            self.log(f"report refused: {one.detail}")
