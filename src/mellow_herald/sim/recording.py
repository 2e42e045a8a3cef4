"""What a simulated device has kept at full rate, and sends of it when it is asked to."""

import asyncio
import gzip
import json
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from hashlib import sha256
from typing import Any

from mellow_herald.sim.service_time import ServiceTime
from mellow_herald.sim.uplink import NoAnswerError, RefusedCallError, Uplink
from mellow_herald.wire.device import RecordOut

FULL_RATE_S = 1.0
# The ring in flash: what is older has been written over.
KEPT = timedelta(days=7)
PART_BYTES, BLOCK_S = 16 * 1024, 60
AGAIN_S = 5.0
"""Real seconds until a call that got no answer is made again."""

Measure = Callable[[str, datetime], Any]


@dataclass(slots=True)
class _File:
    """A stretch, packed."""

    body: bytes
    samples: int

    @property
    def sha256(self) -> str:
        return sha256(self.body).hexdigest()


class Recorder:
    """Of one device. ``measure`` tells what a signal was at a moment (None: nothing), ``names`` are its signals;
    ``behind`` is by how much its clock is behind."""

    def __init__(
        self,
        uplink: Uplink | None,
        time: ServiceTime,
        names: Callable[[], list[str]],
        measure: Measure,
        behind: timedelta = timedelta(),
    ) -> None:
        self._uplink, self._time, self._names, self._measure, self._behind = uplink, time, names, measure, behind
        self._since: datetime | None = None
        self._asked: RecordOut | None = None
        self._wake = asyncio.Event()

    @property
    def number(self) -> int:
        """The recording that it is about, 0 for none."""
        return 0 if self._asked is None else self._asked.number

    def obey(self, record: RecordOut | None) -> None:
        """Takes what it is asked for; keeps what there is from the first time on, restarts or not."""
        if self._since is None:
            self._since = self._time.now()
        if record is not None and self._uplink is not None:
            self._asked = record
            self._wake.set()

    async def run(self) -> None:
        """Sends what is asked for, until cancelled; after a restart it goes on with what it was about."""
        while True:
            if (asked := self._asked) is None:
                await self._wake.wait()
                self._wake.clear()
            elif self._uplink is not None and await self._send(self._uplink, asked):
                self._asked = None

    async def _send(self, uplink: Uplink, asked: RecordOut) -> bool:
        """Sends a recording whole; False if another is asked for meanwhile."""
        file = self._pack(asked)
        since = "" if self._since is None else f"my ring begins at {max(self._since, self._oldest()):%Y-%m-%d %H:%M:%S}"
        said: dict[str, Any] = {"reason": "nothing-kept", "detail": since}
        if file is not None:
            said = {"size": len(file.body), "sha256": file.sha256, "samples": file.samples}
        have: int | None = None
        while self._asked is asked:
            try:
                if have is None:
                    have = await uplink.announce_recording(asked.number, said)
                    if file is None:
                        return True
                assert file is not None
                part = file.body[have : have + PART_BYTES]
                have, complete = await uplink.recording_part(asked.number, have, part, len(file.body))
                if complete:
                    return True
            except NoAnswerError:
                await asyncio.sleep(AGAIN_S)
                have = None  # whether the part arrived it does not know; the service does
            except RefusedCallError:
                return True  # it is wanted no more
        return False

    def _oldest(self) -> datetime:
        now = self._time.now()
        assert now is not None
        return now - KEPT

    def _pack(self, asked: RecordOut) -> _File | None:
        """The stretch as a file, the same whenever it is packed; None if nothing of it is kept."""
        now = self._time.now()
        assert now is not None and self._since is not None
        begins = max(datetime.fromtimestamp(asked.begins, UTC) + self._behind, self._since, self._oldest())
        ends = min(datetime.fromtimestamp(asked.ends, UTC) + self._behind, now)
        lines, samples = list[bytes](), 0
        names = [name for name in self._names() if not asked.signals or name in asked.signals]
        at = datetime.fromtimestamp(-(-begins.timestamp() // FULL_RATE_S) * FULL_RATE_S, UTC)
        while at <= ends and names:
            count = min(BLOCK_S, int((ends - at).total_seconds() // FULL_RATE_S) + 1)
            times = [at + timedelta(seconds=FULL_RATE_S * one) for one in range(count)]
            values = {name: [self._measure(name, one) for one in times] for name in names}
            samples += sum(value is not None for column in values.values() for value in column)
            after = [round(1000 * FULL_RATE_S * one) for one in range(count)]
            block = {"at": (at - self._behind).timestamp(), "after_ms": after, "values": values}
            lines.append(json.dumps(block).encode() + b"\n")
            at += timedelta(seconds=FULL_RATE_S * count)
        return _File(gzip.compress(b"".join(lines), mtime=0), samples) if samples else None
