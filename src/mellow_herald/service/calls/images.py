"""The bytes of images: from here, handed over to a front server, or by sending the device to an object store."""

import asyncio
import base64
import os
import re
from enum import Enum
from urllib.parse import urlsplit

from starlette.datastructures import MutableHeaders
from starlette.requests import Request
from starlette.responses import FileResponse, Response
from starlette.types import Receive, Scope, Send

from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.releases.soundness import is_sound
from mellow_herald.service.zero_copy import EXTENSION
from mellow_herald.store.images import name_of

# Long enough to begin a transfer after a hold-up, short enough that an address that got about is soon worth nothing.
ADDRESS_S = 900.0
# What others wait for at most, for each download there is.
PIECE = 256 * 1024
_RANGES = re.compile(r"bytes=[ \t]*((?:\d{1,18}-\d{0,18}|-\d{1,18})(?:[ \t]*,[ \t]*(?:\d{1,18}-\d{0,18}|-\d{1,18}))*)")


async def serve_image(context: Context, request: Request, digest: str, told: dict[str, str]) -> Response:
    """Bytes of an image for whoever may read it, as RFC 9110 has it: whole, in ranges, or 304 for who has it; ``told``
    are headers that every answer has."""
    headers = {
        "etag": f'"{digest}"',
        "repr-digest": f"sha-256=:{base64.b64encode(bytes.fromhex(digest)).decode()}:",
        "cache-control": "private, immutable, max-age=31536000",
        **told,
    }
    if has_it(request, digest):
        return Response(status_code=304, headers=headers)
    try:
        if not await is_sound(context, digest):
            raise ProblemError(503, "image-unsound", "The stored image is damaged.", {"Retry-After": "300"})
        place = context.images.place(digest, ADDRESS_S)
    except OSError as error:
        detail = f"The image store does not answer ({error.strerror})."
        raise ProblemError(503, "no-images", detail, {"Retry-After": "30"}) from None
    front = context.settings.front_images
    if isinstance(place, str):
        if front is None:
            # Nobody else may keep an address that is only good for a while, nor who was given it.
            return Response(status_code=307, headers={**told, "cache-control": "no-store", "location": place})
        signed = urlsplit(place)
        return _handed_over(f"{front}{signed.path.lstrip('/')}?{signed.query}", headers)
    length = place.stat().st_size
    if _heed_range(request, length) is Range.NONE_FITS:
        raise ProblemError(
            416, "no-such-range", f"The image has {length} bytes.", {"content-range": f"bytes */{length}"}
        )
    if front is not None:
        return _handed_over(f"{front}{name_of(digest)}", headers)
    return ImageResponse(place, headers=headers, media_type="application/octet-stream")


def _handed_over(place: str, headers: dict[str, str]) -> Response:
    return Response(headers={**headers, "x-accel-redirect": place}, media_type="application/octet-stream")


class ImageResponse(FileResponse):
    """A file whose bytes need not pass through this process, where the server can spare it that."""

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Sends it."""
        self._spared = EXTENSION in scope.get("extensions", {})
        await super().__call__(scope, receive, send)

    async def _handle_simple(self, send: Send, send_header_only: bool, send_pathsend: bool) -> None:
        if send_header_only or not self._spared:
            await super()._handle_simple(send, send_header_only, send_pathsend)
            return
        await send({"type": "http.response.start", "status": self.status_code, "headers": self.raw_headers})
        await self._send_bytes(send, 0, int(self.headers["content-length"]))

    async def _handle_single_range(
        self, send: Send, start: int, end: int, file_size: int, send_header_only: bool
    ) -> None:
        if send_header_only or not self._spared:
            await super()._handle_single_range(send, start, end, file_size, send_header_only)
            return
        headers = MutableHeaders(raw=list(self.raw_headers))
        headers["content-range"] = f"bytes {start}-{end - 1}/{file_size}"
        headers["content-length"] = str(end - start)
        await send({"type": "http.response.start", "status": 206, "headers": headers.raw})
        await self._send_bytes(send, start, end)

    async def _send_bytes(self, send: Send, at: int, end: int) -> None:
        """In pieces, between which others have their turn: somebody who takes them as fast as they are sent would have
        the loop to himself. What must come from the disk is waited for in a thread."""
        file = os.open(self.path, os.O_RDONLY | os.O_CLOEXEC)
        try:
            while at < end:
                count = min(PIECE, end - at)
                if not _in_memory(file, at + count - 1):
                    await asyncio.to_thread(os.pread, file, count, at)
                piece = {"type": EXTENSION, "file": file, "offset": at, "count": count}
                at += count
                await send({**piece, "more_body": at < end})
                await asyncio.sleep(0)
        finally:
            os.close(file)


def _in_memory(file: int, at: int) -> bool:
    try:
        return os.preadv(file, [bytearray(1)], at, os.RWF_NOWAIT) == 1
    except OSError:  # it is not, or the file system cannot tell
        return False


class Range(Enum):
    """What a ``Range`` header comes to."""

    NONE_ASKED = "none"
    SOME_FITS = "some"
    NONE_FITS = "unsatisfiable"


def _heed_range(request: Request, length: int) -> Range:
    """Whether a range is asked for that there is. A header of another unit, or that cannot be read, is taken out of the
    request: RFC 9110, section 14.2, has it ignored."""
    asked = request.headers.get("range")
    if asked is None:
        return Range.NONE_ASKED
    parts = _RANGES.fullmatch(asked.strip())
    spans = [part.strip().partition("-") for part in parts[1].split(",")] if parts else []
    if not spans or any(begin and end and int(begin) > int(end) for begin, _, end in spans):
        request.scope["headers"] = [(n, v) for n, v in request.scope["headers"] if n != b"range"]
        return Range.NONE_ASKED
    fits = any(int(begin) < length if begin else int(end) > 0 for begin, _, end in spans)
    return Range.SOME_FITS if fits else Range.NONE_FITS


def has_it(request: Request, tag: str) -> bool:
    """Whether the caller has it already (RFC 9110, section 13.1.2)."""
    tags = [one.strip().removeprefix("W/") for one in request.headers.get("if-none-match", "").split(",")]
    return f'"{tag}"' in tags or "*" in tags
