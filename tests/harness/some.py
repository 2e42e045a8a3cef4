"""That there is something to look at: what holds of all of nothing shows nothing."""

from collections.abc import Iterable
from typing import TypeVar

Item = TypeVar("Item")


def some(items: Iterable[Item], least: int = 1) -> list[Item]:
    """The items, of which there must be so many at least."""
    listed = list(items)
    assert len(listed) >= least, f"{len(listed)} of at least {least} to look at"
    return listed
