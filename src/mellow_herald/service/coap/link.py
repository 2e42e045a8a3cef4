"""Speaking to one registered device: reading, writing, executing and observing what its objects have."""

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable
from dataclasses import dataclass
from typing import Any

import aiocoap
from aiocoap import Code, Message, error
from aiocoap.optiontypes import BlockOption

from mellow_herald.core.coap.objects import PACKAGE
from mellow_herald.core.coap.values import Format

# As long as a confirmable message is sent again (RFC 7252: MAX_TRANSMIT_WAIT), but in sped-up time not much longer than
# a device there may be away.
ANSWER_S, LEAST_ANSWER_S = 93.0, 6.0
RESTARTS = 3
MOST_DETAIL = 200


class AwayError(Exception):
    """The device did not answer."""


class AnsweredError(Exception):
    """The device answered with an error: its ``code``, as in 4.04, what it said, and the ``block`` that it named."""

    def __init__(self, code: Any, said: str, block: Any = None) -> None:
        super().__init__(f"{code.dotted}{f' ({said})' if said else ''}")
        self.code, self.block = code, block


@dataclass(frozen=True, slots=True)
class Answer:
    """What a resource holds, in the format that the device chose."""

    content_format: int | None
    payload: bytes


class Link:
    """The way to one device. ``remote`` is where it was heard, with its security."""

    def __init__(self, protocol: aiocoap.Context, remote: Any, scale: float) -> None:
        self._protocol, self.remote = protocol, remote
        self._answer_s = max(LEAST_ANSWER_S, ANSWER_S / scale)

    async def read(self, path: str) -> Answer:
        """The value of a resource."""
        answer = await self._send(Message(code=Code.GET, uri_path=_path(path)))
        return Answer(answer.opt.content_format, answer.payload)

    async def write(self, path: str, payload: bytes, content_format: Format = Format.TEXT) -> None:
        """Writes a resource."""
        await self._send(Message(code=Code.PUT, uri_path=_path(path), payload=payload, content_format=content_format))

    async def execute(self, path: str) -> None:
        """Executes a resource."""
        await self._send(Message(code=Code.POST, uri_path=_path(path)))

    async def push(self, package: bytes, block: int, sent: Callable[[int], Awaitable[bool]]) -> bool:
        """Writes a package block by block (RFC 7959), as large as the device takes them; tells whether it did wholly.
        ``sent`` is told after each how many bytes are there, and whether to go on is up to it."""
        exponent, at, restarts = block.bit_length() - 5, 0, 0
        while at < len(package):
            size = 1 << exponent + 4
            chunk = package[at : at + size]
            number, more = at // size, at + len(chunk) < len(package)
            option = BlockOption.BlockwiseTuple(number, more, exponent)
            request = Message(
                code=Code.PUT,
                uri_path=_path(PACKAGE),
                payload=chunk,
                content_format=Format.OPAQUE,
                block1=option,
            )
            if number == 0:
                request.opt.size1 = len(package)
            try:
                answer = await self._send(request, whole=False)
            except AnsweredError as answered:
                # It lost what was there, or asks for smaller blocks: it begins anew.
                smaller = answered.block is not None and answered.block.size_exponent < exponent
                lost = answered.code is Code.REQUEST_ENTITY_INCOMPLETE
                if restarts >= RESTARTS or not (lost or (smaller and answered.code is Code.REQUEST_ENTITY_TOO_LARGE)):
                    raise
                exponent = answered.block.size_exponent if smaller else exponent
                at, restarts = 0, restarts + 1
                continue
            at += len(chunk)
            told = answer.opt.block1
            if told is not None and told.size_exponent < exponent:
                exponent = told.size_exponent
            if not await sent(at):
                return False
        return True

    async def observe(self, path: str) -> AsyncIterator[Answer]:
        """What a resource holds now and whenever it changes (RFC 7641), as long as the device keeps telling."""
        request = self._request(Message(code=Code.GET, uri_path=_path(path), observe=0))
        try:
            answer = await self._wait(request.response)
            yield Answer(answer.opt.content_format, answer.payload)
            async for later in request.observation:
                yield Answer(later.opt.content_format, later.payload)
        except error.Error:
            return
        finally:
            if request.observation is not None and not request.observation.cancelled:
                request.observation.cancel()

    async def _send(self, request: Message, *, whole: bool = True) -> Message:
        return await self._wait(self._request(request, whole=whole).response)

    def _request(self, request: Message, *, whole: bool = True) -> Any:
        request.remote = self.remote
        return self._protocol.request(request, handle_blockwise=whole)

    async def _wait(self, response: Any) -> Message:
        try:
            async with asyncio.timeout(self._answer_s):
                answer: Message = await response
        except TimeoutError:
            raise AwayError(f"it did not answer within {self._answer_s:.0f} s") from None
        except error.Error as failed:
            refused = "refused" in str(failed)
            why = "nobody listens where it is registered" if refused else f"the connection broke off: {failed}"
            raise AwayError(f"it did not answer: {why}") from None
        if not answer.code.is_successful():
            said = answer.payload[:MOST_DETAIL].decode(errors="replace")
            raise AnsweredError(answer.code, said, answer.opt.block1)
        return answer


def _path(path: str) -> tuple[str, ...]:
    return tuple(path.split("/"))
