"""What was read of a device's objects last."""

from collections.abc import Callable, Collection
from typing import Any, TypeVar

from mellow_herald.core.coap import objects
from mellow_herald.core.coap.update_object import UpdateResult, UpdateState
from mellow_herald.core.coap.values import read_bytes, read_numbers, read_text
from mellow_herald.core.digest import is_digest
from mellow_herald.core.refusal import Refused
from mellow_herald.service.coap.link import AnsweredError, Link
from mellow_herald.service.problems import ProblemError

Value = TypeVar("Value")


class Sight:
    """Of one device. ``version`` is what it says it runs, ``digest`` the bytes where it tells them, ``starts`` how
    often it has started; ``protocols`` and ``delivery`` are 5/0/8 and 5/0/9. ``odd`` is what could not be read."""

    def __init__(self, link: Link) -> None:
        self._link = link
        self.state, self.result = UpdateState.IDLE, UpdateResult.INITIAL
        self.version: str | None = None
        self.digest: str | None = None
        self.starts: int | None = None
        self.battery: int | None = None
        self.protocols: list[int] = []
        self.delivery: int | None = None
        self.odd = ""

    async def read_whole(self, objects_there: Collection[str]) -> None:
        """What does not change while it is registered; ``objects_there`` are the paths that it registered."""
        self.version = await self._get(objects.VERSION, read_text)
        self.protocols = await self._get(objects.PROTOCOLS, read_numbers) or []
        delivery = await self._get(objects.DELIVERY, read_numbers)
        self.delivery = delivery[0] if delivery else None
        self.digest = self.starts = None
        if any(path.startswith(f"/{objects.RUNNING}/") for path in objects_there):
            digest = await self._get(objects.DIGEST, read_bytes)
            self.digest = digest.hex() if digest is not None and is_digest(digest.hex()) else None
            starts = await self._get(objects.STARTS, read_numbers)
            self.starts = starts[0] if starts and starts[0] >= 0 else None

    async def read_update(self) -> None:
        """How its update object stands, and its battery; a problem if it has no update object."""
        battery = await self._get(objects.BATTERY, read_numbers)
        self.battery = battery[0] if battery and 0 <= battery[0] <= 100 else None
        state, result = await self._get(objects.STATE, read_numbers), await self._get(objects.RESULT, read_numbers)
        if state is None:
            raise ProblemError(409, "no-update-object", "it has no update object: 5/0/3 cannot be read")
        self.state = _known(UpdateState, state, UpdateState.IDLE)
        self.result = _known(UpdateResult, result, UpdateResult.INITIAL)

    async def _get(self, path: str, convert: Callable[[int | None, bytes, int], Value]) -> Value | None:
        """The value of a resource; None where the device has none, or none that can be read."""
        try:
            answer = await self._link.read(path)
            return convert(answer.content_format, answer.payload, objects.resource_of(path))
        except AnsweredError:
            return None
        except Refused as refused:
            self.odd = f"{path}: {refused}"
            return None


def _known(kind: Any, told: list[int] | None, otherwise: Any) -> Any:
    if told and told[0] in list(kind):
        return kind(told[0])
    return otherwise
