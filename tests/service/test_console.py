"""The console's files, each in the smallest form that the browser understands."""

from pathlib import Path

import httpx
import pytest
from starlette.applications import Starlette
from starlette.routing import Route

from mellow_herald.service import console

PLAIN, BROTLI, GZIP = b"export default 1", b"packed as br", b"packed as gzip"


@pytest.fixture
async def browser(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> httpx.AsyncClient:
    assets = tmp_path / "assets"
    assets.mkdir()
    for name, data in (("a.js", PLAIN), ("a.js.br", BROTLI), ("a.js.gz", GZIP), ("b.woff2", PLAIN)):
        (assets / name).write_bytes(data)
    (tmp_path / "index.html").write_bytes(PLAIN)
    monkeypatch.setattr(console, "console_folder", lambda: tmp_path)
    app = Starlette(routes=[Route("/{path:path}", console.serve_console)])
    return httpx.AsyncClient(transport=httpx.ASGITransport(app=app), base_url="http://herald")


@pytest.mark.parametrize(
    ("accepted", "coding", "length"),
    [
        ("gzip, deflate, br", "br", len(BROTLI)),
        ("gzip;q=1.0, br; q=0", "gzip", len(GZIP)),
        ("br;q=0.000,gzip;q=0", None, len(PLAIN)),
        ("br;q=0.01", "br", len(BROTLI)),
        ("", None, len(PLAIN)),
        ("zstd, ,;q", None, len(PLAIN)),
    ],
)
async def test_the_browser_gets_the_form_that_it_understands(
    browser: httpx.AsyncClient, accepted: str, coding: str | None, length: int
) -> None:
    async with browser.stream("GET", "/assets/a.js", headers={"accept-encoding": accepted}) as answer:
        assert answer.status_code == 200 and answer.headers.get("content-encoding") == coding
        assert answer.headers["content-length"] == str(length) and answer.headers["vary"] == "Accept-Encoding"
        assert answer.headers["content-type"].startswith("text/javascript")
        assert "immutable" in answer.headers["cache-control"]


async def test_what_was_not_packed_comes_as_it_is(browser: httpx.AsyncClient) -> None:
    for path in ("/assets/b.woff2", "/", "/rollouts/3"):
        answer = await browser.get(path, headers={"accept-encoding": "br"})
        assert answer.content == PLAIN and "content-encoding" not in answer.headers
