"""The console's files: a single-page application with a strict Content-Security-Policy."""

from importlib.resources import files
from mimetypes import guess_type
from pathlib import Path

from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import FileResponse, PlainTextResponse, Response

CONTENT_SECURITY_POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; font-src 'self'; img-src 'self' data:;"
    " connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"
)
SECURITY_HEADERS = {
    "content-security-policy": CONTENT_SECURITY_POLICY,
    "x-content-type-options": "nosniff",
    "referrer-policy": "no-referrer",
    "cross-origin-opener-policy": "same-origin",
    "permissions-policy": "camera=(), geolocation=(), microphone=()",
}
NOT_OURS = frozenset({"api", "device", "health", "metrics"})
IMMUTABLE = {"cache-control": "public, max-age=31536000, immutable"}
FRESH = {"cache-control": "no-cache"}
NOT_BUILT = "The console was not built into this installation. Run `make console`, or use the command line.\n"


def console_folder() -> Path:
    """Where the built console is in the package."""
    return Path(str(files("mellow_herald.service") / "console_files"))


async def serve_console(request: Request) -> Response:
    """A file of the console, or its page for every address the console's own router knows."""
    if request.path_params["path"].partition("/")[0] in NOT_OURS:
        # An address that takes other methods only comes this far, too.
        raise HTTPException(405 if request.app.state.methods(request.url.path) else 404)
    folder = console_folder()
    try:
        wanted = (folder / request.path_params["path"]).resolve()
        wanted.is_file()
    except (OSError, ValueError):  # longer than any name is, or with a NUL
        raise HTTPException(404) from None
    if wanted.is_file() and wanted.is_relative_to(folder.resolve()):
        caching = IMMUTABLE if wanted.parent.name == "assets" else FRESH
        return _packed(wanted, request, {**SECURITY_HEADERS, **caching})
    if wanted.suffix and wanted.suffix != ".html":
        return PlainTextResponse("There is no such file.\n", 404, SECURITY_HEADERS)
    page = folder / "index.html"
    if not page.exists():
        return PlainTextResponse(NOT_BUILT, 503, SECURITY_HEADERS)
    return _packed(page, request, {**SECURITY_HEADERS, **FRESH})


def _packed(file: Path, request: Request, headers: dict[str, str]) -> Response:
    """A file in the smallest form that the caller understands; it was packed when the console was built."""
    kind = guess_type(file.name)[0] or "application/octet-stream"
    headers["vary"] = "Accept-Encoding"
    understood = _understood(request.headers.get("accept-encoding", ""))
    for coding, suffix in (("br", ".br"), ("gzip", ".gz")):
        packed = file.with_name(file.name + suffix)
        if coding in understood and packed.is_file():
            return FileResponse(packed, headers={**headers, "content-encoding": coding}, media_type=kind)
    return FileResponse(file, headers=headers, media_type=kind)


def _understood(accepted: str) -> set[str]:
    """The codings of an ``Accept-Encoding`` (RFC 9110, section 12.5.3) but for those with a weight of nought."""
    codings = (one.replace(" ", "").partition(";q=") for one in accepted.lower().split(","))
    return {name for name, _, weight in codings if weight.strip("0.") or not weight}
