"""Release files in one piece, by HTTP: what a device fetches that was told by CoAP where its package is."""

from starlette.requests import Request
from starlette.responses import Response

from mellow_herald.service.calls.images import has_it
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.service.releases.package import NoPackageError, Packages
from mellow_herald.store.packages import package_of

MOST_BYTES = 16 << 20


async def serve_package(context: Context, packages: Packages, request: Request, told: dict[str, str]) -> Response:
    """The package that a ticket is good for, whole or in one range, as RFC 9110 has it; ``told`` are headers that every
    answer has."""
    ticket = str(request.path_params["ticket"])
    async with context.engine.connect() as connection:
        row = None if "\0" in ticket else await package_of(connection, ticket)
    if row is None:
        raise ProblemError(404, "not-found", "There is no such package, or nobody wants it any more.")
    tag = row["manifest"]
    headers = {"etag": f'"{tag}"', "cache-control": "private, no-cache", "accept-ranges": "bytes", **told}
    if has_it(request, tag):
        return Response(status_code=304, headers=headers)
    try:
        package = await packages.get(row["manifest"])
    except NoPackageError as gone:
        raise ProblemError(404, "not-found", str(gone)) from None
    media = "application/suit-envelope+cose"
    asked = _range(request, tag, len(package))
    if asked is None:
        return Response(package, headers=headers, media_type=media)
    begin, end = asked
    if begin >= len(package):
        detail = f"The package has {len(package)} bytes."
        raise ProblemError(416, "no-such-range", detail, {"content-range": f"bytes */{len(package)}"})
    headers["content-range"] = f"bytes {begin}-{end}/{len(package)}"
    return Response(package[begin : end + 1], 206, headers, media)


def _range(request: Request, tag: str, size: int) -> tuple[int, int] | None:
    """The first and last byte that is asked for; None for all of them, as whatever cannot be read is answered."""
    unit, _, span = request.headers.get("range", "").partition("=")
    first, dash, last = span.partition("-")
    if unit.strip() != "bytes" or not dash or request.headers.get("if-range", f'"{tag}"') != f'"{tag}"':
        return None
    if first.isdecimal() and (last.isdecimal() or not last):
        end = min(size - 1, int(last)) if last else size - 1
        return None if last and int(last) < int(first) else (int(first), end)
    if not first and last.isdecimal() and int(last):
        return max(0, size - int(last)), size - 1
    return None
