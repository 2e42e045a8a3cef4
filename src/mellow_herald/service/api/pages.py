"""Cursor pages with a ``Link`` header (RFC 8288)."""

from fastapi import Request, Response


def link_next(request: Request, response: Response, cursor: str | None) -> None:
    """Names the next page in the ``Link`` header, if there is one."""
    if cursor is not None:
        url = request.url.include_query_params(after=cursor)
        response.headers["link"] = f'<{url.path}?{url.query}>; rel="next"'
