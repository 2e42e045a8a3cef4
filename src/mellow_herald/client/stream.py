"""Reading Server-Sent Events (WHATWG HTML, section 9.2), as far as our feed uses them."""

from collections.abc import AsyncIterable, AsyncIterator, Callable, Iterable, Iterator

from mellow_herald.core.rollout import ENDED
from mellow_herald.wire.event import Event


class FrameReader:
    """Takes lines, gives events."""

    def __init__(self) -> None:
        self._data: list[str] = []

    def line(self, line: str) -> Event | None:
        """Takes one line without its end; returns the event it completed, if any."""
        if line.startswith("data:"):
            self._data.append(line[5:].removeprefix(" "))
        elif not line and self._data:
            text, self._data = "\n".join(self._data), []
            return Event.model_validate_json(text)
        return None


def events(lines: Iterable[str], heed: Callable[[], None] = lambda: None) -> Iterator[Event]:
    """The events in a stream of lines; ``heed`` is called with each line, also of those that keep the line open."""
    reader = FrameReader()
    for line in lines:
        heed()
        event = reader.line(line)
        if event is not None:
            yield event


async def async_events(lines: AsyncIterable[str], heed: Callable[[], None] = lambda: None) -> AsyncIterator[Event]:
    """The events in an asynchronous stream of lines; ``heed`` as above."""
    reader = FrameReader()
    async for line in lines:
        heed()
        event = reader.line(line)
        if event is not None:
            yield event


def ends_rollout(event: Event) -> bool:
    """Whether a rollout is over with this event."""
    return event.kind == "rollout" and event.data.get("what") in ENDED
