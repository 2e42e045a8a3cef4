"""What every service makes anew though it comes out the same, made once for all services of a test run: it would take
most of the time of many tests. Where a library has changed inside, nothing is reused, and all works as before."""

from contextlib import suppress
from typing import Any

from fastapi import FastAPI
from sqlalchemy.ext.asyncio import AsyncEngine

_routes: dict[int, Any] = {}
_engines: list[Any] = []


def reuse_routes(app: FastAPI) -> None:
    """Routes read their parameters' types when they are called first. Those of the API know nothing of their
    application but what comes with each call."""
    routes = app.router.routes
    for place, route in enumerate(routes):
        if type(route).__name__ == "_IncludedRouter":
            routes[place] = _routes.setdefault(place, route)


def reuse_statements(engine: AsyncEngine) -> None:
    """Statements are written as SQL once for each dialect and engine; all of ours speak to the same server."""
    own: Any = engine.sync_engine
    with suppress(AttributeError):
        if _engines:
            own.dialect, own._compiled_cache = _engines[0].dialect, _engines[0]._compiled_cache
        else:
            _engines.append(own)
