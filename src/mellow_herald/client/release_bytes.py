"""A release on its way to the service. Apart from the making of one, which most programs never do."""

from collections.abc import Callable, Iterator, Mapping
from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:
    from mellow_herald.core.suit import Manifest

Progress = Callable[[int], None]


class ReleaseBytes(Protocol):
    """A release file ready to be sent: its manifest, its length (bytes), and its bytes as often as asked."""

    @property
    def manifest(self) -> "Manifest": ...
    @property
    def length(self) -> int: ...
    @property
    def labels(self) -> Mapping[str, str]: ...
    @property
    def envelope(self) -> bytes: ...
    def portions(self) -> Iterator[bytes]: ...


def counted(portions: Iterator[bytes], progress: Progress | None) -> Iterator[bytes]:
    """The portions; ``progress`` is told after each how many bytes went out so far."""
    sent = 0
    for portion in portions:
        yield portion
        sent += len(portion)
        if progress is not None:
            progress(sent)
