"""The bench: the desk, the device's images, and the hand that cuts its power and looks at it."""

import asyncio
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from itertools import cycle

from mellow_herald.bench_test.desk import Attempt, Before, Call, Desk
from mellow_herald.bench_test.http import Request, Response
from mellow_herald.bench_test.releases import Keys, Release, seal
from mellow_herald.bench_test.station import Finding, NotTriedError, WrongError
from mellow_herald.core.firmware import Image
from mellow_herald.core.order import Order

LOOK_S = 0.02


class Hand:
    """Cuts the power and looks at the device: a ``hook`` program, called with one word, or a person at the terminal who
    is asked. Of neither, nothing is known."""

    def __init__(self, hook: str | None) -> None:
        self._hook = hook

    async def do(self, word: str, question: str) -> str:
        """What came of a word (``power-cut``, ``staging``, ``lamp``); raises ``NotTriedError``."""
        if self._hook is not None:
            shell = await asyncio.create_subprocess_shell(
                f"{self._hook} {word}", stdout=subprocess.PIPE, stderr=subprocess.DEVNULL
            )
            output, _ = await shell.communicate()
            if shell.returncode != 0:
                raise NotTriedError(f"the hook answered {shell.returncode} to {word}")
            return output.decode(errors="replace").strip()
        if not sys.stdin.isatty():
            raise NotTriedError(f"nobody to ask: {question} (give --hook)")
        return (await asyncio.to_thread(input, f"  {question} ")).strip()


@dataclass
class Bench:
    """What stations work with. ``patience_s`` (real seconds) is how long the device has for each thing that it is
    expected to do."""

    desk: Desk
    keys: Keys
    domain: str
    good: list[Image]
    failing: Image | None
    hand: Hand
    patience_s: float
    finding: Finding = field(default_factory=lambda: Finding("", "", ""))

    def __post_init__(self) -> None:
        self._next = cycle(self.good)

    # Releases -------------------------------------------------------------------------------------------------------

    def release(self) -> Release:
        """A good one that the device neither runs nor has standing by, signed with the key in force."""
        for image in self._next:
            if image.digest not in (self.desk.runs, self.desk.stands_by):
                return seal(image, self.domain, self.keys)
        raise AssertionError("of three images two are there at most")

    def running_release(self) -> Release:
        """That of the image which the device runs."""
        for image in self.good:
            if image.digest == self.desk.runs:
                return seal(image, self.domain, self.keys)
        raise NotTriedError("it does not run an image that was given")

    def failing_release(self) -> Release:
        """One whose firmware fails its self-test."""
        if self.failing is None:
            raise NotTriedError("give an image that fails its self-test (--failing-image)")
        return seal(self.failing, self.domain, self.keys)

    # Seeing ---------------------------------------------------------------------------------------------------------

    def saw(self, words: str) -> None:
        """Notes something worth telling."""
        self.finding.seen.append(words)

    def wrong(self, words: str) -> None:
        """Notes something against the protocol; the station goes on."""
        self.finding.wrong.append(words)

    async def until(self, seen: Callable[[], bool], words: str, within: float | None = None) -> None:
        """Waits for something; raises ``WrongError`` if it does not come."""
        patience = self.patience_s if within is None else within
        deadline = time.monotonic() + patience
        while not seen():
            if time.monotonic() >= deadline:
                raise WrongError(f"{words}: not seen within {patience:.0f} s")
            await asyncio.sleep(LOOK_S)
        self.saw(words)

    async def says(self, attempt: Attempt, *states: str) -> str:
        """Waits until the device reports one of these states; raises ``WrongError`` if it ends otherwise."""

        def seen() -> bool:
            ended = {"failed", "reverted"} - set(states)
            for state in attempt.states:
                if state in states:
                    return True
                if state in ended:
                    reason = attempt.reasons[-1] if attempt.reasons else "no reason"
                    raise WrongError(f"it reported {state} ({reason}), not {' or '.join(states)}")
            return False

        await self.until(seen, f"it reports {' or '.join(states)}")
        return next(state for state in attempt.states if state in states)

    async def checks_in(self, wanted: Callable[[Call], bool] = lambda _: True, words: str = "it checks in") -> Call:
        """Waits for a new check-in like that."""
        since = len(self.desk.calls)
        found: list[Call] = []

        def seen() -> bool:
            found[:] = [c for c in self.desk.calls[since:] if c.checkin is not None and wanted(c)]
            return bool(found)

        await self.until(seen, words)
        return found[0]

    def since(self, number: int, what: str) -> list[Call]:
        """The calls of a kind from that number on."""
        return [call for call in self.desk.calls[number:] if call.what == what]

    @contextmanager
    def before(self, answer: Before) -> Iterator[None]:
        """Puts something before the desk's own answers."""
        self.desk.before = answer
        try:
            yield
        finally:
            self.desk.before = None

    # Ways through an update -----------------------------------------------------------------------------------------

    async def staged(self, *, clears: bool = False) -> Attempt:
        """Offers a release and waits until it is staged."""
        attempt = self.desk.offer(self.release(), clears=clears)
        await self.says(attempt, "staged")
        return attempt

    async def arrived(self, attempt: Attempt) -> None:
        """Waits until a release is confirmed and the device's own check-in shows that it runs it."""
        await self.says(attempt, "confirmed")
        await self.until(lambda: self.desk.runs == attempt.release.digest, "its check-in shows the new image running")
        self.desk.attempt = None

    async def called_off(self, attempt: Attempt) -> None:
        """Calls it off, as a halt does, and waits until the device has heard of it."""
        self.desk.tell(attempt, Order.ABANDON)
        since = len(self.desk.calls)
        await self.until(lambda: len(self.since(since, "checkins")) >= 2, "it checks in after the order to abandon")
        self.desk.attempt = None


def altered(response: Response, at: int) -> Response:
    """An answer with one bit of its body another."""
    body = bytearray(response.body)
    body[at % len(body)] ^= 1
    response.body = bytes(body)
    return response


def is_call(request: Request, what: str) -> bool:
    """Whether a request is of a kind: ``images``, ``checkins`` …"""
    return request.path.startswith(f"/device/v1/{what}")
