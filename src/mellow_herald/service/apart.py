"""What is done for many at once fails for the one alone that it fails for."""

from collections.abc import Awaitable, Callable, Sequence
from typing import TypeVar

from mellow_herald.store.trouble import is_away

Item = TypeVar("Item")


async def apart(
    items: Sequence[Item], work: Callable[[Sequence[Item]], Awaitable[None]]
) -> list[tuple[Item, Exception]]:
    """Does ``work`` for all items at once, in one transaction; if that fails for what is in them, for each half by
    itself, until those are alone that it fails for. Returns them, in order, each with its error. If the database is
    away, nothing is tried again: it fails for all."""
    try:
        await work(items)
    except Exception as error:
        if len(items) == 1 or is_away(error):
            return [(item, error) for item in items]
        middle = len(items) // 2
        return [*await apart(items[:middle], work), *await apart(items[middle:], work)]
    return []
