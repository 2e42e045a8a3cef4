"""All items of a listing, page after page."""

from collections.abc import AsyncIterator, Awaitable, Callable, Iterator
from typing import TypeVar

from mellow_herald.wire.model import Page

Item = TypeVar("Item")


def every(page: Callable[[str | None], Page[Item]]) -> Iterator[Item]:
    """The items of all pages; ``page`` gets the cursor of the one to read."""
    after: str | None = None
    while True:
        read = page(after)
        yield from read.items
        after = read.next
        if after is None:
            return


async def every_async(page: Callable[[str | None], Awaitable[Page[Item]]]) -> AsyncIterator[Item]:
    """The same where reading a page is awaited."""
    after: str | None = None
    while True:
        read = await page(after)
        for item in read.items:
            yield item
        after = read.next
        if after is None:
            return
