"""Answers of any length, as CSV or JSON Lines, written as they are read."""

from collections.abc import AsyncIterator

from fastapi.responses import StreamingResponse

from mellow_herald.core.inventory import Format
from mellow_herald.service.problems import Responses

MEDIA = {Format.CSV: "text/csv", Format.JSONL: "application/jsonl"}
TEXT = {"schema": {"type": "string"}}
STREAMED: Responses = {200: {"description": "One item a line.", "content": dict.fromkeys(MEDIA.values(), TEXT)}}


def streamed(lines: AsyncIterator[str], written: Format, name: str) -> StreamingResponse:
    """The answer that brings these lines as a file of this name."""
    headers = {"content-disposition": f'attachment; filename="{name}.{written.value}"', "cache-control": "no-store"}
    return StreamingResponse(lines, media_type=MEDIA[written], headers=headers)
